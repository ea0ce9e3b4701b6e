#include "optimize/run/stages.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright {

namespace {

constexpr double full_penalty = 3.0;
// The penalty rises by so much of mean change an iteration, within bounds, and not in the first two.
constexpr double rise_of_change = 2.5e-4, least_rise = 0.01, most_rise = 0.12;
constexpr int before_rise = 2;
constexpr double hurries_from = 0.04; // where the limit of iterations asks for so much
// The gray design has settled where its goal moved by less than this over so many rows, bounds within it.
constexpr double settled = 0.01;
constexpr int settling_rows = 5;
// The projection: from, by, to; it waits while a bound is broken by more than `waits_for`.
struct Pace {
    double first, growth, sharpest;
    double gray_move, sharp_move, last_move;
    double gray_until, sharp_by; // at the latest, as shares of the limit
};
constexpr Pace usual{2.0, 1.15, 128.0, 0.2, 0.1, 0.1, 0.45, 0.78};
constexpr Pace for_stress{1.0, 1.08, 64.0, 0.1, 0.05, 0.02, 0.4, 0.75};
constexpr int stress_gray_rows = 60;
// A design to begin with that is as black and white as that: stress runs sharpen from there.
// (From a sharpness of 4 on they ended 4 to 16 % above their bound: tried.)
constexpr double made_start = 0.1;
constexpr double waits_for = 0.02;
constexpr double most_growth = 1.25; // where the limit hurries: more tears designs apart
// Beyond this sharpness moves become less and less, since a move of a variable is one of the density by half
// the sharpness.
constexpr double full_moves_to = 16.0;
constexpr double penalty_by = 0.42;    // share of the limit
constexpr double least_sharpening = 8; // iterations
// The goal rests where it moved by less over so many rows; fewer do where no density moves either.
constexpr double resting = 0.002;
constexpr int resting_rows = 10, still_rows = 5;
constexpr double gray_resting = 2e-4;
// A design with less gray than that is made: what is left of sharpening changes nothing, and five rows tell.
constexpr double as_made = 1e-3;

const Pace& pace(bool local) {
    return local ? for_stress : usual;
}

// Stiffness alone is at stake, and there is no design to begin with: then it pays to begin without a penalty.
bool begins_convex(const Problem& problem) {
    // The least material under stress as well is better led by the penalised stiffness from the start:
    // multipliers of stresses that a design without a penalty cannot bring down pile up, and never quite go.
    const bool stiff = problem.compliance_goal || problem.stiffness_alone ||
                       (problem.material_goal && problem.has_stiffness && !problem.has_stress);
    return stiff;
}

} // namespace

std::optional<double> goal_range(const std::vector<IterationRow>& history, int count) {
    const auto n = static_cast<std::size_t>(count);
    if (history.size() < n) return std::nullopt;
    double low = history.back().goal;
    double high = low;
    for (std::size_t i = history.size() - n; i < history.size(); ++i) {
        low = std::min(low, history[i].goal);
        high = std::max(high, history[i].goal);
    }
    return (high - low) / std::max(std::abs(history.back().goal), 1e-300);
}

std::optional<double> gray_enough(const RunCard& run, const Problem& problem) {
    if (!run.sharpen || problem.has_stress) return {};
    return as_made;
}

std::string ending_words(const RunCard& run, const Problem& problem) {
    if (!run.sharpen)
        return fmt::format("until no density changes by {:g} or the goal moves by less than {:g} % over {} "
                           "iterations",
                           run.stop_when, 100.0 * gray_resting, resting_rows);
    const std::optional<double> gray = gray_enough(run, problem);
    std::string out =
        fmt::format("until the goal moves by less than {:g} % over {} iterations, {} where no density "
                    "changes by {:g}{}",
                    100.0 * resting, resting_rows, still_rows, run.stop_when,
                    gray ? fmt::format(" or less than {:g} % is gray", 100.0 * *gray) : "");
    if (problem.has_stress)
        out += fmt::format(", or {} bring no better black-and-white design", patience_for_better);
    return out;
}

Stages::Stages(const RunCard& run, const Problem& problem, std::optional<double> start_grayness)
    : run_(run), gray_enough_(gray_enough(run, problem)), local_(problem.has_stress) {
    now_.penalty = run.penalty.value_or(full_penalty);
    now_.move = pace(local_).gray_move;
    if (!run.penalty && begins_convex(problem) && !start_grayness && !run.start_random) {
        now_.penalty = 1.0;
        enter(Stage::Penalising);
    } else if (run.sharpen && local_ && start_grayness && *start_grayness < made_start) {
        // What sharpening has brought below its bounds a gray stage would take apart.
        enter(Stage::Sharpening);
    } else {
        enter(run.sharpen ? Stage::Gray : Stage::Finishing);
    }
}

void Stages::enter(Stage stage) {
    stage_ = stage;
    now_.final = stage == Stage::Finishing;
    now_.resting = 0;
    if (stage == Stage::Sharpening) now_.sharpness = pace(local_).first;
    set_move();
}

void Stages::set_move() {
    if (now_.sharpness <= 0.0) return;
    now_.move = (now_.final ? pace(local_).last_move : pace(local_).sharp_move) *
                std::min(1.0, full_moves_to / now_.sharpness);
}

double Stages::left_until(double share) const {
    return std::max(1.0, std::floor(share * run_.iterations) - done_);
}

void Stages::raise_penalty(const StageFacts& facts) {
    if (done_ < before_rise && left_until(penalty_by) > before_rise) return;
    const double own = std::clamp(rise_of_change / std::max(facts.mean_change, 1e-12), least_rise, most_rise);
    const double needed = (full_penalty - now_.penalty) / left_until(penalty_by);
    now_.penalty += needed > hurries_from ? std::max(own, needed) : own;
    if (now_.penalty < full_penalty - 1e-12) return;
    now_.penalty = full_penalty;
    enter(run_.sharpen ? Stage::Gray : Stage::Finishing);
}

bool Stages::made(const StageFacts& facts) const {
    return gray_enough_ && facts.history.back().grayness < *gray_enough_;
}

void Stages::sharpen(const StageFacts& facts) {
    const double end = pace(local_).sharpest;
    const double own = pace(local_).growth;
    const double needed = std::pow(end / now_.sharpness, 1.0 / left_until(pace(local_).sharp_by));
    // Local stress is brought below its bound by sharpening, and seldom before.
    if (!local_ && facts.most_broken > waits_for) return;
    if (facts.holds && made(facts)) return enter(Stage::Finishing);
    now_.sharpness = std::min(end, now_.sharpness * std::clamp(needed, own, most_growth));
    set_move();
    if (now_.sharpness < end * (1.0 - 1e-12)) return;
    now_.sharpness = end;
    enter(Stage::Finishing);
}

void Stages::next(const StageFacts& facts) {
    ++done_;
    ++now_.resting;
    switch (stage_) {
    case Stage::Penalising:
        return raise_penalty(facts);
    case Stage::Gray: {
        const std::optional<double> range = goal_range(facts.history, settling_rows);
        const bool rests =
            now_.resting >= settling_rows && range && *range < settled && facts.most_broken < settled;
        // Too little is left: better a gray design that holds than one torn apart.
        if (left_until(pace(local_).sharp_by) < least_sharpening) return;
        if (rests || (local_ && now_.resting >= stress_gray_rows) ||
            done_ >= std::floor(pace(local_).gray_until * run_.iterations))
            enter(Stage::Sharpening);
        return;
    }
    case Stage::Sharpening:
        return sharpen(facts);
    case Stage::Finishing:
        return;
    }
}

bool Stages::done(const StageFacts& facts) const {
    // Of this iteration the count comes afterwards.
    const int rows = now_.resting + 1;
    if (!now_.final || !facts.holds || rows < 2) return false;
    const double change = facts.history.back().change;
    if (!run_.sharpen) {
        // Variables come to rest by themselves, or nothing is left to gain.
        if (change < run_.stop_when) return true;
        const std::optional<double> range = goal_range(facts.history, resting_rows);
        return rows > resting_rows && range && *range < gray_resting && change <= 0.05;
    }
    const std::optional<double> longer = goal_range(facts.history, resting_rows);
    if (rows >= resting_rows && longer && *longer < resting) return true;
    const std::optional<double> shorter = goal_range(facts.history, still_rows);
    const bool still = change < run_.stop_when || made(facts);
    return rows >= still_rows && shorter && *shorter < resting && still;
}

void Stages::walk(const Walk& w) {
    int stage = static_cast<int>(stage_);
    w("stage", stage);
    stage_ = static_cast<Stage>(std::clamp(stage, 0, static_cast<int>(Stage::Finishing)));
    w("done", done_);
    w("penalty", now_.penalty);
    w("sharpness", now_.sharpness);
    w("move", now_.move);
    w("final", now_.final);
    w("resting", now_.resting);
}

} // namespace upright
