// The stages of a run: the penalty rises while densities still move, gray designs settle, the projection
// sharpens, the end is waited for. A stage ends when it has done its work; the limit of iterations hurries
// stages that would not be done in time, and is nothing but a limit else: with 200 or 2000 iterations a run
// that needs 90 ends the same.
#pragma once

#include "optimize/run.hpp"

#include <optional>
#include <string>
#include <vector>

namespace upright {

// What the last iteration showed.
struct StageFacts {
    const std::vector<IterationRow>& history;
    double mean_change = 1.0; // of the physical densities of design elements
    double most_broken = 0.0; // share by which the worst bound is exceeded; not above zero: all hold
    bool holds = false;       // every bound, within the tolerance
};

// The largest goal of the last `count` rows less the smallest, as a share of the last; nothing where there
// are fewer rows.
std::optional<double> goal_range(const std::vector<IterationRow>& history, int count);

// "ended by a goal that moves by less than 0.2 % over 10 iterations": for people.
std::string ending_words(const RunCard& run, const Problem& problem);

// The grayness below which a design that holds its bounds need not rest for long; nothing where that does not
// count: of gray designs, and with a stress bound or goal.
std::optional<double> gray_enough(const RunCard& run, const Problem& problem);

class Stages {
  public:
    // `start_grayness`: of the design that the run begins with, if it is given one.
    Stages(const RunCard& run, const Problem& problem, std::optional<double> start_grayness = {});

    // How the iteration to come is set.
    const Schedule& now() const { return now_; }
    // After an iteration that was set so.
    void next(const StageFacts& facts);
    // Whether the run may end with it: every stage is done, bounds hold and the goal rests.
    bool done(const StageFacts& facts) const;
    // More is asked of a design that rests: it has to come to rest anew.
    void go_on() { now_.resting = 0; }

    void walk(const Walk& w);

  private:
    enum class Stage { Penalising, Gray, Sharpening, Finishing };
    void raise_penalty(const StageFacts& facts);
    void sharpen(const StageFacts& facts);
    void enter(Stage stage);
    void set_move();
    // So little is gray that what is left of sharpening changes nothing.
    bool made(const StageFacts& facts) const;
    // Iterations left until a share of the limit, at least one.
    double left_until(double share) const;

    const RunCard& run_;
    std::optional<double> gray_enough_;
    bool local_ = false; // stress is looked at: sensitive to single cells
    Stage stage_ = Stage::Gray;
    int done_ = 0; // iterations
    Schedule now_;
};

} // namespace upright
