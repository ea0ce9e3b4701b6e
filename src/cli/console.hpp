// What the commands print: a terminal as wide as it is, colours only there, and a copy for log.txt.
#pragma once

#include "figures/no_pictures.hpp"
#include "optimize/run.hpp"

#include <condition_variable>
#include <mutex>
#include <new>
#include <string>
#include <thread>

namespace upright::cli {

class Console {
  public:
    explicit Console(bool quiet) : quiet_(quiet) {}

    bool terminal() const; // standard output is one
    bool colored() const;  // and NO_COLOR is not set
    int width() const;     // columns, 100 when piped

    // A result: always shown. A remark: not shown with --quiet. Both go to the log.
    void result(const std::string& text);
    void remark(const std::string& text);
    // The line that stays at the bottom while a run goes on; replaced by the next one. Not in the log.
    void live(const std::string& text);
    void log_only(const std::string& text) { log_ += text + "\n"; }

    const std::string& log() const { return log_; }

    void clear_live();

  private:
    void show(const std::string& text);

    bool quiet_;
    bool live_ = false;
    std::string log_;
};

// Says that something goes on, where it takes more than a second: in a terminal how long, each second; else
// in one line. Nothing else may be shown meanwhile.
class Waiting {
  public:
    Waiting(Console& console, std::string what);
    ~Waiting();
    Waiting(const Waiting&) = delete;
    Waiting& operator=(const Waiting&) = delete;

  private:
    Console& console_;
    std::string what_;
    bool done_ = false;
    std::mutex guard_;
    std::condition_variable end_;
    std::thread shown_;
};

// Draws what stands beside a result; where the machine can draw nothing, the result stays and that is told.
template <class Work> void beside_result(Console& console, const Work& draw) {
    try {
        draw();
    } catch (const NoPictures& none) {
        console.result(std::string(none.what()));
    } catch (const std::bad_alloc&) {
        console.result("figures: there is not enough memory to draw them");
    }
}

// What a piece of work gives, with word of it while it goes on.
template <class Work> auto waited(Console& console, const std::string& what, const Work& work) {
    const Waiting waiting(console, what);
    return work();
}

// Ctrl-C asks the run to stop at the next whole iteration; a second one ends the program at once.
class InterruptGuard {
  public:
    InterruptGuard();
    ~InterruptGuard();
    InterruptGuard(const InterruptGuard&) = delete;
    InterruptGuard& operator=(const InterruptGuard&) = delete;
    static bool requested();
};

// The live progress of a run: one line for each tenth, and in a terminal a line that is rewritten between
// them.
class Progress {
  public:
    Progress(Console& console, const Model& model);
    void iteration(const OptimizerState& state);

  private:
    std::string line(const OptimizerState& state) const;

    Console& console_;
    const Model& model_;
    std::vector<Column> columns_;
    int tenth_ = -1;
};

} // namespace upright::cli
