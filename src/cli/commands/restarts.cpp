#include "cli/commands/restarts.hpp"
#include "store/json_inside.hpp"

#include "base/blas_threads.hpp"
#include "base/files.hpp"
#include "base/process.hpp"
#include "optimize/problem.hpp"
#include "store/run_folder.hpp"
#include "study/measure_word.hpp"

#include <algorithm>
#include <atomic>
#include <cmath>
#include <fmt/format.h>
#include <mutex>
#include <optional>
#include <thread>

namespace upright::cli {

namespace fs = std::filesystem;

namespace {

constexpr double part_of_memory = 0.7;

struct One {
    int number = 1;
    std::string start; // as [run] start; empty: the study's own
    int code = -1;
    RunOutcome outcome;
    bool ended() const { return outcome.status == "converged" || outcome.status == "iteration-limit"; }
    // In black and white where that decided.
    double goal() const { return outcome.deciding_goal; }
};

// The second run begins uniform, far from where the first is likely to have begun; others at random.
std::string start_of(int number, const Model& model) {
    if (number == 2) return model.run.start.value_or(0.5) > 0.6 ? "0.3" : "0.9";
    return fmt::format("random {}", number - 2);
}

bool is_random(const std::string& start) {
    return start.find(' ') != std::string::npos;
}

// A word as TOML has it.
std::string as_toml(const std::string& start) {
    return is_random(start) ? "\"" + start + "\"" : start;
}

class Restarts {
  public:
    Restarts(const RestartWish& wish, const Model& model, Console& console)
        : wish_(wish), model_(model), console_(console) {
        const int asked = model.run.threads > 0 ? model.run.threads : usable_threads();
        const double fit = wish.bytes > 0.0 ? part_of_memory * free_memory() / wish.bytes : 1e9;
        together_ =
            std::clamp(std::min(asked, static_cast<int>(std::min(fit, 1e9))), 1, std::max(1, wish.count - 1));
        threads_ = std::max(1, asked / together_);
    }

    int operator()() {
        all_.push_back({1, "", 0, RunFolder::open(wish_.run, Access::Reading).outcome()});
        for (int k = 2; k <= wish_.count; ++k) all_.push_back({k, start_of(k, model_), -1, {}});
        make_folder(restart_folder(wish_.run, 2).parent_path());
        console_.remark(fmt::format("{} more runs from other starts, {} at a time, {} thread{} each",
                                    wish_.count - 1, together_, threads_, threads_ == 1 ? "" : "s"));
        std::atomic<std::size_t> next{1};
        std::vector<std::thread> workers;
        for (int w = 0; w < together_; ++w)
            workers.emplace_back([&] {
                for (std::size_t i = next++; i < all_.size() && !InterruptGuard::requested(); i = next++)
                    run(all_[i]);
            });
        for (std::thread& worker : workers) worker.join();
        if (InterruptGuard::requested()) {
            console_.result("interrupted; go on with --resume and the same --restarts");
            return static_cast<int>(ExitCode::Interrupted);
        }
        return compare();
    }

  private:
    void run(One& one) {
        const fs::path folder = restart_folder(wish_.run, one.number);
        std::error_code ignored;
        const bool there = fs::exists(folder / "study.toml", ignored);
        if (there && wish_.resume) {
            one.outcome = RunFolder::open(folder, Access::Reading).outcome();
            if (one.ended()) return tell(one);
        }
        std::vector<std::string> words{fs::read_symlink("/proc/self/exe").string(),
                                       "optimize",
                                       wish_.target,
                                       "--quiet",
                                       "--out",
                                       folder.string()};
        for (const std::string& setting : wish_.settings) words.insert(words.end(), {"--set", setting});
        words.insert(words.end(), {"--set", "run.start=" + as_toml(one.start), "--set",
                                   fmt::format("run.threads={}", threads_)});
        // A coarse run begins uniform.
        if (is_random(one.start)) words.insert(words.end(), {"--set", "run.coarse_first=false"});
        const bool resume = there && wish_.resume && fs::exists(folder / "steps/checkpoint.h5", ignored);
        if (there) words.emplace_back(resume ? "--resume" : "--force");
        one.code = run_program(words, "", "/dev/null", "/dev/null", InterruptGuard::requested);
        if (fs::exists(folder / "study.toml", ignored))
            one.outcome = RunFolder::open(folder, Access::Reading).outcome();
        tell(one);
    }

    std::string goal_text(double value) const {
        const ModelResponse& goal = model_.responses[make_problem(model_).goal];
        const std::string unit = model_.units.text(goal.measure->dimension);
        return fmt::format("{:.6g}{}{}", value, unit.empty() ? "" : " ", unit);
    }

    void tell(const One& one) {
        const std::lock_guard<std::mutex> lock(telling_);
        console_.remark(fmt::format("  run {} from {}: {}", one.number, one.start,
                                    one.ended() ? goal_text(one.goal()) + ", " + one.outcome.status
                                    : one.outcome.status.empty() ? "failed before it began"
                                                                 : one.outcome.status));
    }

    // The feasible one with the best goal.
    const One* best() const {
        const bool raised = make_problem(model_).maximize;
        const One* out = nullptr;
        for (const One& one : all_) {
            if (!one.ended() || !one.outcome.feasible) continue;
            if (out == nullptr || (raised ? one.goal() > out->goal() : one.goal() < out->goal())) out = &one;
        }
        return out;
    }

    int compare() {
        const One* first = best();
        std::string text = fmt::format("\n  {:<5} {:<12} {:>16} {:>11}  {:<16} {}\n", "run", "start", "goal",
                                       "iterations", "ended", "bounds");
        Json rows = Json::array();
        double spread = 0.0;
        int feasible = 0;
        for (const One& one : all_) {
            const std::string start = one.start.empty() ? "the study's" : one.start;
            text += fmt::format("  {:<5} {:<12} {:>16} {:>11}  {:<16} {}{}\n", one.number, start,
                                one.ended() ? goal_text(one.goal()) : "", one.outcome.iterations,
                                one.outcome.status.empty() ? "failed" : one.outcome.status,
                                one.outcome.feasible ? "hold" : "broken", &one == first ? "   best" : "");
            rows.push_back({{"number", one.number},
                            {"folder", one.number == 1 ? "." : fmt::format("restarts/{}", one.number)},
                            {"start", start},
                            {"status", one.outcome.status.empty() ? "failed" : one.outcome.status},
                            {"feasible", one.outcome.feasible},
                            {"goal", one.ended() ? Json(one.goal()) : Json(nullptr)},
                            {"iterations", one.outcome.iterations}});
            if (first == nullptr || !one.outcome.feasible || !one.ended()) continue;
            ++feasible;
            spread = std::max(spread, std::abs(one.goal() / first->goal() - 1.0));
        }
        console_.result(text);
        if (first == nullptr)
            console_.result("no start led to a design that holds every bound");
        else if (feasible == 1)
            console_.result(fmt::format("only run {} holds every bound", first->number));
        else
            console_.result(fmt::format("best of {} starts: run {}; the {} that hold every bound lie within "
                                        "{:.2g} % of it",
                                        all_.size(), first->number, feasible, 100.0 * spread));
        if (first != nullptr && first->number > 1)
            console_.remark(
                fmt::format("look at it: upright plot {0} --restart {1} --what density\ncarve it:   "
                            "upright carve {0} --restart {1}",
                            wish_.run.string(), first->number));
        const RunFolder folder = RunFolder::open(wish_.run, Access::Reading);
        Json report = Json::parse(read_text(folder.report_file()));
        report["restarts"] = {{"runs", rows},
                              {"best", first == nullptr ? Json(nullptr) : Json(first->number)},
                              {"spread", feasible > 1 ? Json(spread) : Json(nullptr)}};
        write_text(folder.report_file(), json_text(report));
        return first != nullptr ? 0 : static_cast<int>(ExitCode::BoundBroken);
    }

    const RestartWish& wish_;
    const Model& model_;
    Console& console_;
    int together_ = 1, threads_ = 1;
    std::vector<One> all_;
    std::mutex telling_;
};

} // namespace

fs::path restart_folder(const fs::path& run, int number) {
    return number <= 1 ? run : run / "restarts" / std::to_string(number);
}

int run_restarts(const RestartWish& wish, const Model& model, Console& console) {
    return Restarts(wish, model, console)();
}

} // namespace upright::cli
