#include "optimize/run.hpp"

#include "base/blocks.hpp"
#include "mesh/locator.hpp"
#include "optimize/certificate.hpp"
#include "optimize/moving_asymptotes.hpp"
#include "optimize/optimality_criteria.hpp"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <fmt/format.h>

namespace upright {

namespace {

constexpr double sharpest = 16.0;
// The energy of the error, as a share, that is allowed while densities still move.
constexpr double loose = 1e-6;
// Of small models, where it costs next to nothing: errors of the solves would lead to a slightly other
// design.
constexpr double close = 1e-8;
constexpr std::size_t small_model = 100000; // freedoms
constexpr double modal_loose = 1e-3;
// The compliance that a run for stress stays below, as a multiple of that of the full solid: without it the
// design falls apart into soft cells that carry no stress.
constexpr double guard_factor = 4.0;
constexpr int most_trials = 4; // of the globally convergent form, each iteration
constexpr double goal_size = 100.0;

using Clock = std::chrono::steady_clock;

std::string guard_words() {
    return fmt::format("compliance of all cases together below {:.2g} times that of the full solid",
                       guard_factor);
}

// For what is reported.
MeasureAccuracy tight_accuracy() {
    MeasureAccuracy out;
    out.statics.warm = true;
    out.modals.warm = true;
    return out;
}

// A function of the optimiser: value and factor on the gradient of the smooth one that it is made of.
struct Scaled {
    double value = 0.0;
    double slope = 0.0;
};

// A bound as a logarithm: zero where value and limit agree, above it where the bound is broken. Ratios would
// grow without limit; where the ratio is small or of the wrong sign a straight line goes on.
Scaled as_bound(double value, double limit, bool upper, double size) {
    if (limit == 0.0) {
        const double sign = upper ? 1.0 : -1.0;
        return {sign * value / size, sign / size};
    }
    constexpr double straight_below = 0.3;
    const double ratio = value / limit;
    const double g = ratio > straight_below
                         ? std::log(ratio)
                         : std::log(straight_below) + (ratio - straight_below) / straight_below;
    const double slope = (ratio > straight_below ? 1.0 / ratio : 1.0 / straight_below) / limit;
    // "at most" a positive limit and "at least" a negative one both keep the ratio below one.
    const double sign = upper == (limit > 0.0) ? 1.0 : -1.0;
    return {sign * g, sign * slope};
}

class Loop {
  public:
    Loop(const Study& study, StaticAnalysis& analysis, OptimizeObserver& observer, const RunStart& start)
        : study_(study), analysis_(analysis), observer_(observer), problem_(make_problem(study)),
          chain_(analysis.model(), filter_radius(study, analysis.model()), form_rules(study),
                 analysis.options()),
          measures_(study, analysis) {
        require_reachable(study, analysis.model(), problem_);
        result_.method = problem_.method;
        const std::vector<Column>& columns = measures_.columns();
        for (std::size_t c = 0; c < columns.size(); ++c) {
            const std::size_t r = columns[c].response;
            goal_column_.push_back(r == problem_.goal);
            wanted_.push_back(r == problem_.goal || std::find(problem_.bounds.begin(), problem_.bounds.end(),
                                                              r) != problem_.bounds.end());
        }
        if (problem_.method == Method::Criteria) {
            // The material is linear; only the compliance has gradients to be found anew.
            for (std::size_t c = 0; c < columns.size(); ++c)
                wanted_[c] = columns[c].response == problem_.compliance();
            weights_ = linear_weights(analysis.model(), study.responses[problem_.material()]);
            linear_cost_ = chain_.pull_back(std::vector<double>(chain_.variables(), 1.0), 0.0, weights_);
            for (std::size_t e = 0; e < weights_.size(); ++e)
                if (!chain_.is_design()[e]) kept_material_ += weights_[e];
        }
        if (start.from != nullptr)
            result_.state = *start.from;
        else if (!start.density.empty())
            result_.state.x = chain_.variables_of(start.density);
        else
            result_.state.x.assign(chain_.variables(), start_density());
        resumed_ = start.from != nullptr;
        take_up();
    }

    OptimizeResult run() {
        OptimizerState& state = result_.state;
        if (!resumed_) {
            look_at_all_material();
            look_at_pairs();
        }
        while (true) {
            const Schedule now = schedule(study_, problem_, state.iteration + 1);
            iterate(now);
            const bool last = state.iteration >= study_.run.iterations;
            const bool converged = has_converged(now);
            result_.status = converged ? RunStatus::Converged : RunStatus::IterationLimit;
            if (!converged && !last)
                advance(now);
            else
                settle(now);
            state.memory.clear();
            if (observer_.keeps(state.iteration)) keep();
            const auto before = Clock::now();
            observer_.iteration(state);
            result_.spent.back().output = since(before);
            if (converged || last) break;
            if (observer_.stop_requested()) {
                result_.status = RunStatus::Interrupted;
                keep();
                break;
            }
        }
        if (result_.status == RunStatus::Interrupted) {
            // What goes on later goes on from the row as it is.
            const IterationRow row = state.history.back();
            settle(schedule(study_, problem_, state.iteration));
            state.history.back() = row;
        }
        result_.design_of = state.iteration;
        result_.density = state.density;
        result_.readings = state.readings;
        result_.best_feasible = static_cast<int>(best_.iteration);
        if (result_.status == RunStatus::IterationLimit) return_to_best();
        result_.goal = result_.row().goal;
        result_.feasible = all_hold(result_.readings);
        result_.cases = measures_.cases();
        result_.modals = measures_.modals();
        result_.stiffness = measures_.stiffness();
        return std::move(result_);
    }

  private:
    static double since(Clock::time_point t) {
        return std::chrono::duration<double>(Clock::now() - t).count();
    }

    // The uniform density to begin with: that at which a bound on material is just met, else enough to meet
    // the others soon.
    double start_density() const {
        if (study_.run.start) return *study_.run.start;
        double out = problem_.has_frequency && problem_.material_goal ? 0.8 : 0.5;
        for (const std::size_t r : problem_.bounds) {
            const ResponseCard& bound = study_.responses[r];
            if (!of_material(bound.measure) || !bound.max || r == problem_.goal) continue;
            const Range range = material_range(analysis_.model(), bound);
            const double fits = (*bound.max - range.least) / (range.most - range.least);
            if (!problem_.material_goal) out = std::max(out, fits);
            out = std::min(out, fits);
        }
        return std::clamp(out, least_variable, 1.0);
    }

    // Analyses the design and writes the row.
    void iterate(const Schedule& now) {
        start_ = Clock::now();
        OptimizerState& state = result_.state;
        chain_.physical(state.x, now.sharpness, density_);
        result_.penalty = now.penalty;
        const double change = now.sharpness > 0.0 && !state.density.empty()
                                  ? largest_difference(density_, state.density)
                                  : state.step;
        state.density.swap(density_);
        measures_.analyse(state.density, now.penalty, accuracy(change));
        for (const std::string& note : measures_.take_notes()) observer_.note(note);
        const SolverCost cost = analysis_.cost();
        IterationRow row;
        row.iteration = ++state.iteration;
        row.change = change;
        row.grayness = measures_.grayness();
        read_into(row);
        row.seconds = since(start_);
        state.history.push_back(row);
        Spent spent;
        spent.iteration = row.iteration;
        spent.setup = cost.factor_seconds;
        spent.solve = cost.solve_seconds;
        spent.solver_iterations = cost.iterations;
        spent.modes = measures_.modal_seconds();
        spent.around = std::max(0.0, row.seconds - spent.setup - spent.solve - spent.modes);
        result_.spent.push_back(spent);
        if (now.final && bounds_hold()) remember();
    }

    // The smaller the steps, the closer the look.
    MeasureAccuracy accuracy(double change) const {
        MeasureAccuracy out;
        // Local measures feel the error sooner than the energy does.
        const bool local =
            problem_.method != Method::Criteria && (problem_.has_stress || problem_.has_frequency);
        const bool small = analysis_.model().freedoms() < small_model;
        const double most = local || small ? close : loose;
        out.statics.energy = std::clamp(most * change / 0.05, 0.01 * most, most);
        out.statics.warm = true;
        out.modals.tolerance = modal_loose;
        out.modals.masses = false;
        out.modals.warm = true;
        return out;
    }

    void read_into(IterationRow& row) {
        result_.state.readings = measures_.readings();
        read_into(row, result_.state.readings);
    }
    void read_into(IterationRow& row, const std::vector<Reading>& readings) const {
        row.responses.clear();
        bool any = false;
        for (std::size_t c = 0; c < readings.size(); ++c) {
            const double value = readings[c].value;
            row.responses.push_back(value);
            if (!goal_column_[c]) continue;
            if (!any || (problem_.maximize ? value < row.goal : value > row.goal)) row.goal = value;
            any = true;
        }
    }

    // What is reported at the end is not the loose result that was good enough on the way.
    void settle(const Schedule& now) {
        const bool exact = analysis_.cost().iterations == 0 && measures_.modals().empty();
        if (exact) return;
        measures_.analyse(result_.state.density, now.penalty, tight_accuracy());
        read_into(result_.state.history.back());
    }

    static bool all_hold(const std::vector<Reading>& readings) {
        return std::all_of(readings.begin(), readings.end(), [](const Reading& r) { return r.holds; });
    }
    bool bounds_hold() const { return all_hold(result_.state.readings); }

    bool has_converged(const Schedule& now) const {
        const std::vector<IterationRow>& rows = result_.state.history;
        const IterationRow& row = rows.back();
        if (!now.final || row.iteration < 2 || !bounds_hold()) return false;
        if (row.change < study_.run.stop_when) return true;
        // Nothing left to gain, though single densities still wander.
        if (problem_.method == Method::Criteria || rows.size() < 12 || row.change > 0.05) return false;
        double most = 0.0;
        for (std::size_t i = rows.size() - 11; i + 1 < rows.size(); ++i)
            most = std::max(most, std::abs(rows[i + 1].goal / rows[i].goal - 1.0));
        return most < 1e-4;
    }

    // The best design so far that holds every bound at the final schedule.
    struct Best {
        double iteration = 0.0;
        double goal = 0.0;
        std::vector<double> x;
    };
    bool better(double a, double b) const { return problem_.maximize ? a > b : a < b; }
    void remember() {
        const IterationRow& row = result_.state.history.back();
        if (best_.iteration > 0.0 && !better(row.goal, best_.goal)) return;
        best_.iteration = row.iteration;
        best_.goal = row.goal;
        best_.x = result_.state.x;
    }
    // Where the last design breaks a bound, or is worse than an earlier one, that one is the result.
    void return_to_best() {
        OptimizerState& state = result_.state;
        if (best_.iteration <= 0.0 || static_cast<int>(best_.iteration) == state.iteration) return;
        const double now_goal = state.history.back().goal;
        if (bounds_hold() &&
            !better(best_.goal, now_goal - 1e-3 * std::abs(now_goal) * (problem_.maximize ? -1.0 : 1.0)))
            return;
        result_.design_of = static_cast<int>(best_.iteration);
        const Schedule then = schedule(study_, problem_, result_.design_of);
        result_.density = chain_.physical(best_.x, then.sharpness);
        result_.penalty = then.penalty;
        measures_.analyse(result_.density, then.penalty, tight_accuracy());
        result_.readings = measures_.readings();
        read_into(state.history.at(static_cast<std::size_t>(result_.design_of) - 1), result_.readings);
    }

    // Moves the variables; the time it takes belongs to the iteration.
    void advance(const Schedule& now) {
        OptimizerState& state = result_.state;
        if (problem_.method == Method::Criteria)
            by_criteria(now);
        else
            by_asymptotes(now);
        state.history.back().seconds = since(start_);
        Spent& spent = result_.spent.back();
        spent.step = std::max(0.0, since(start_) - spent.setup - spent.solve - spent.modes - spent.adjoints -
                                       spent.around);
    }

    void by_criteria(const Schedule& now) {
        OptimizerState& state = result_.state;
        const std::vector<Smooth> smooth = measures_.smooth(wanted_, true, true);
        const double compliance = smooth.front().value;
        std::vector<double> benefit = chain_.pull_back(state.x, now.sharpness, smooth.front().gradient);
        each_block(benefit.size(), [&](std::size_t from, std::size_t to) {
            for (std::size_t i = from; i < to; ++i) benefit[i] = -benefit[i];
        });
        // Without a projection it is the same in every design.
        std::vector<double> sharp_cost;
        if (now.sharpness > 0.0) sharp_cost = chain_.pull_back(state.x, now.sharpness, weights_);
        const std::vector<double>& cost = now.sharpness > 0.0 ? sharp_cost : linear_cost_;
        gradients_done();
        CriteriaStep step;
        if (problem_.least_material) {
            const double limit = *study_.responses[problem_.bounds.front()].max;
            // While the projection sharpens, every step moves the compliance more than its expansion sees; a
            // little inside of the bound the last iterate still holds it.
            const double inside = now.sharpness > 0.0 ? 0.996 : 1.0;
            // The step's expansion errs a little the same way every time; aiming off by what was missed makes
            // up for it.
            state.aim = std::clamp(state.aim * std::pow(inside * limit / compliance, 0.4), 0.9, 1.02);
            step = least_material_step(state.x, benefit, cost, compliance, limit * state.aim, now.move,
                                       state.multiplier);
        } else {
            const double next_sharpness = schedule(study_, problem_, state.iteration + 1).sharpness;
            MaterialBound bound;
            bound.limit = *study_.responses[problem_.bounds.front()].max;
            // Without a projection the densities, and so the material, are linear in the variables.
            if (now.sharpness <= 0.0)
                bound.constant = kept_material_;
            else
                bound.constant = weighted_sum(weights_, state.density) - weighted_sum(cost, state.x);
            bound.correction = correction_;
            if (next_sharpness > 0.0)
                bound.exact = [&, next_sharpness](const std::vector<double>& x) {
                    return chain_.weighted(x, next_sharpness, weights_);
                };
            step = criteria_step(state.x, benefit, cost, bound, now.move, state.multiplier);
            correction_ = step.correction;
        }
        state.step = largest_difference(state.x, step.x);
        state.x = std::move(step.x);
        state.multiplier = step.multiplier;
    }

    void gradients_done() {
        Spent& spent = result_.spent.back();
        spent.adjoints = measures_.adjoint_seconds();
        spent.around =
            std::max(0.0, since(start_) - spent.setup - spent.solve - spent.modes - spent.adjoints);
    }

    // The functions of the optimiser from the smooth ones: goal first, then those that the worst of a goal
    // of several columns is made of, then bounds.
    struct Functions {
        MmaValues values;
        std::vector<double> share;   // of z in each constraint
        std::vector<double> of_goal; // those of the goal
        double most_broken = 0.0;    // of the bounds
    };

    Scaled as_goal(const Smooth& s, const ResponseCard& card) const {
        const bool raise = problem_.maximize != s.inverse;
        const double size = goal_scale_;
        if (!raise) return {goal_size * s.value / size, goal_size / size};
        if (card.measure == Measure::Frequency) {
            const double ratio = size / std::max(s.value, 1e-300);
            return {goal_size * ratio * ratio, -2.0 * goal_size * ratio * ratio / s.value};
        }
        return {2.0 * goal_size - goal_size * s.value / size, -goal_size / size};
    }

    Functions make_functions(const std::vector<Smooth>& smooth, const Schedule& now, bool gradients) {
        Functions out;
        const auto pulled = [&](const Smooth& s, double factor) {
            std::vector<double> g;
            if (!gradients) return g;
            g = chain_.pull_back(result_.state.x, now.sharpness, s.gradient);
            for (double& one : g) one *= factor;
            return g;
        };
        std::vector<const Smooth*> goals;
        for (const Smooth& s : smooth)
            if (goal_column_[s.column]) goals.push_back(&s);
        if (goal_scale_ <= 0.0) {
            for (const Smooth* s : goals) goal_scale_ = std::max(goal_scale_, std::abs(s->value));
            if (goal_scale_ <= 0.0) goal_scale_ = 1.0;
        }
        const ResponseCard& goal_card = study_.responses[problem_.goal];
        for (const Smooth* s : goals) {
            const Scaled f = as_goal(*s, goal_card);
            out.of_goal.push_back(f.value);
            if (goals.size() == 1) {
                out.values.goal = f.value;
                out.values.goal_gradient = pulled(*s, f.slope);
            } else {
                out.values.constraint.push_back(f.value);
                out.values.gradient.push_back(pulled(*s, f.slope));
                out.share.push_back(1.0);
            }
        }
        if (goals.size() > 1 && gradients) out.values.goal_gradient.assign(result_.state.x.size(), 0.0);
        const auto bound = [&](const Smooth& s, double limit, bool upper) {
            const Scaled g = as_bound(s.value, limit, upper, size_of(s));
            out.values.constraint.push_back(g.value);
            out.values.gradient.push_back(pulled(s, g.slope));
            out.share.push_back(0.0);
            out.most_broken = std::max(out.most_broken, g.value);
        };
        for (const Smooth& s : smooth) {
            if (s.max) bound(s, *s.max, true);
            if (s.min) bound(s, *s.min, false);
        }
        if (result_.guard.limit > 0.0) {
            Smooth guard;
            guard.value = guard_value(gradients ? &guard.gradient : nullptr);
            bound(guard, result_.guard.limit, true);
        }
        return out;
    }

    // What a value with a bound of zero is measured by: its size when first seen.
    double size_of(const Smooth& s) {
        double& size = sizes_[std::to_string(s.column)];
        if (size <= 0.0) size = std::max(std::abs(s.value), 1e-300);
        return size;
    }

    double guard_value(std::vector<double>* gradient) {
        double out = 0.0;
        for (const CaseResult& c : measures_.cases()) out += c.compliance;
        if (gradient != nullptr) {
            gradient->assign(result_.state.density.size(), 0.0);
            for (std::size_t c = 0; c < measures_.cases().size(); ++c)
                measures_.add_compliance(c, 1.0, *gradient);
        }
        return out;
    }

    void by_asymptotes(const Schedule& now) {
        OptimizerState& state = result_.state;
        const std::vector<Smooth> smooth = measures_.smooth(wanted_, true, true);
        const Functions f = make_functions(smooth, now, true);
        gradients_done();
        MmaSettings settings;
        settings.a = f.share;
        const std::vector<double> low(state.x.size(), 0.0);
        const std::vector<double> high(state.x.size(), 1.0);
        watch_for_oscillation(f, now);
        if (mma_.extra.size() != f.values.constraint.size() + 1) mma_.extra.clear();
        if (!conservative_)
            mma_.extra.clear();
        else if (mma_.extra.empty())
            mma_start_conservative(f.values, mma_);
        else
            for (double& e : mma_.extra) e = std::max(0.1 * e, 1e-6);
        MmaStep step = mma_step(state.x, low, high, now.move, f.values, settings, mma_);
        for (int trial = 0; conservative_ && trial < most_trials; ++trial) {
            const std::vector<double> density = chain_.physical(step.x, now.sharpness);
            measures_.analyse(density, now.penalty, accuracy(now.move));
            const Functions found = make_functions(measures_.smooth(wanted_, false, false), now, false);
            std::vector<double> values{found.values.goal};
            values.insert(values.end(), found.values.constraint.begin(), found.values.constraint.end());
            if (values.size() != step.expected.size() || !mma_raise(step, values, 1e-3, mma_)) break;
            ++result_.trials;
            step = mma_again(state.x, low, high, now.move, f.values, settings, mma_);
        }
        result_.optimality = residual(state.x, f, step);
        result_.goal_scale = goal_size / goal_scale_;
        state.step = largest_difference(state.x, step.x);
        state.x = step.x;
    }

    // How far the Lagrangian's gradient is from zero in directions that are free, against that of the goal.
    static double residual(const std::vector<double>& x, const Functions& f, const MmaStep& step) {
        double left = 0.0;
        double size = 0.0;
        for (std::size_t j = 0; j < x.size(); ++j) {
            double goal = f.values.goal_gradient[j];
            double sum = goal;
            for (std::size_t i = 0; i < f.share.size(); ++i) {
                const double part = step.multiplier[i] * f.values.gradient[i][j];
                sum += part;
                if (f.share[i] > 0.0) goal += part;
            }
            size += std::abs(goal);
            const bool pinned = (x[j] <= 1e-6 && sum > 0.0) || (x[j] >= 1.0 - 1e-6 && sum < 0.0);
            if (!pinned) left += std::abs(sum);
        }
        return size > 0.0 ? left / size : 0.0;
    }

    // At one and the same schedule goal and broken bounds together should fall; where they go up and down
    // instead, steps are checked from then on.
    void watch_for_oscillation(const Functions& f, const Schedule& now) {
        double merit = f.of_goal.empty() ? 0.0 : *std::max_element(f.of_goal.begin(), f.of_goal.end());
        merit += 10.0 * goal_size * f.most_broken;
        // Early on steps are meant to be bold.
        const bool late = now.final && result_.state.iteration > 0.7 * study_.run.iterations;
        if (!late || last_penalty_ != now.penalty || last_sharpness_ != now.sharpness) {
            merits_.clear();
            conservative_ = false;
        }
        last_penalty_ = now.penalty;
        last_sharpness_ = now.sharpness;
        merits_.push_back(merit);
        if (merits_.size() > 8) merits_.erase(merits_.begin());
        if (merits_.size() < 8 || conservative_) return;
        int turns = 0;
        double up = 0.0;
        for (std::size_t i = 1; i + 1 < merits_.size(); ++i) {
            const double a = merits_[i] - merits_[i - 1];
            const double b = merits_[i + 1] - merits_[i];
            if (a * b < 0.0) ++turns;
            up = std::max({up, a, b});
        }
        conservative_ = turns >= 5 && up > 0.01 * std::abs(merits_.back());
        if (conservative_) observer_.note("the steps swing to and fro: from here on each is checked first");
    }

    // Bounds that even the full solid breaks, and what guards a run for stress.
    void look_at_all_material() {
        const Model& model = analysis_.model();
        const bool criteria = problem_.method == Method::Criteria;
        if (criteria && !problem_.least_material) return;
        const bool needs_guard = problem_.has_stress && !problem_.has_stiffness && !model.cases.empty();
        if (!criteria && !problem_.has_stiffness && !needs_guard) return;
        const std::vector<double> full(model.mesh.elements(), 1.0);
        MeasureAccuracy tight;
        measures_.analyse(full, 1.0, tight);
        if (needs_guard) {
            result_.guard.limit = guard_factor * guard_value(nullptr);
            result_.guard.words = guard_words();
            observer_.note("a run for stress also keeps the " + result_.guard.words);
        }
        const std::vector<Reading> readings = measures_.readings();
        for (std::size_t c = 0; c < readings.size(); ++c) {
            const ResponseCard& card = study_.responses[measures_.columns()[c].response];
            const Reading& r = readings[c];
            if (r.holds || of_material(card.measure)) continue;
            const std::string unit = study_.units.text(dimension_of(card.measure));
            const bool above = r.max && r.value > *r.max;
            const std::string what = fmt::format(
                "with all material \"{}\" is {:.5g} {}{}and its {} is {:.5g}", measures_.columns()[c].name,
                r.value, unit, unit.empty() ? "" : " ", above ? "max" : "min", above ? *r.max : *r.min);
            const bool stiffness =
                card.measure == Measure::Compliance || card.measure == Measure::Displacement;
            if (!stiffness || !all_material_is_best(c, above)) {
                observer_.note(what + "; whether less can meet it the run will show");
                continue;
            }
            throw Error::input(
                card.place,
                fmt::format("\"{}\" cannot be met: with all material it is {:.5g} and its {} is {:.5g}",
                            measures_.columns()[c].name, r.value, above ? "max" : "min",
                            above ? *r.max : *r.min),
                fmt::format("Write a {} {} {:.5g}", above ? "max" : "min", above ? "above" : "below",
                            r.value));
        }
    }

    // A bound on compliance that no design of so little material meets: the relaxed problem says so.
    void look_at_pairs() {
        for (const std::size_t c : problem_.bounds)
            for (const std::size_t m : problem_.bounds) {
                const ResponseCard& stiff = study_.responses[c];
                const ResponseCard& light = study_.responses[m];
                if (stiff.measure != Measure::Compliance || !of_material(light.measure) || !stiff.max ||
                    !light.max)
                    continue;
                const double least = least_compliance(analysis_, stiff, light, observer_);
                if (least <= *stiff.max * (1.0 + bound_tolerance)) continue;
                throw Error::input(
                    stiff.place,
                    fmt::format(
                        "\"{}\" and \"{}\" contradict each other: with a {} of {:.5g} no design has a "
                        "\"{}\" below {:.5g}, and its max is {:.5g}",
                        stiff.name, light.name, text(light.measure), *light.max, stiff.name, least,
                        *stiff.max),
                    fmt::format("Write a max well above {:.5g} there, or allow more material", least));
            }
    }

    // Whether taking material away from the full solid makes a broken bound worse everywhere.
    bool all_material_is_best(std::size_t column, bool above) {
        std::vector<bool> one(wanted_.size(), false);
        one[column] = true;
        double helps = 0.0;
        double all = 0.0;
        for (const Smooth& s : measures_.smooth(one, true, false))
            for (std::size_t e = 0; e < s.gradient.size(); ++e) {
                if (!chain_.is_design()[e]) continue;
                // With less material the value moves by the opposite of the gradient.
                const double gain = above ? s.gradient[e] : -s.gradient[e];
                helps += std::max(0.0, gain);
                all += std::abs(gain);
            }
        return helps < 0.02 * all;
    }

    // What a checkpoint needs beside the state's own members.
    void keep() {
        auto& memory = result_.state.memory;
        memory.clear();
        measures_.keep(memory);
        if (best_.iteration > 0.0) {
            memory["best"] = {best_.iteration, best_.goal};
            memory["best.x"] = best_.x;
        }
        if (problem_.method == Method::Criteria) {
            memory["criteria"] = {correction_.missed, correction_.slope};
            return;
        }
        memory["loop"] = {goal_scale_,         last_penalty_,
                          last_sharpness_,     conservative_ ? 1.0 : 0.0,
                          result_.guard.limit, static_cast<double>(mma_.steps)};
        memory["merits"] = merits_;
        memory["mma.low"] = mma_.low;
        memory["mma.high"] = mma_.high;
        memory["mma.before"] = mma_.before;
        memory["mma.before2"] = mma_.before2;
        memory["mma.extra"] = mma_.extra;
        for (const auto& [name, size] : sizes_) memory["size." + name] = {size};
    }

    void take_up() {
        const auto& memory = result_.state.memory;
        measures_.take_up(memory);
        const auto get = [&](const std::string& name) {
            const auto at = memory.find(name);
            return at == memory.end() ? std::vector<double>{} : at->second;
        };
        if (const auto best = get("best"); best.size() == 2) {
            best_.iteration = best[0];
            best_.goal = best[1];
            best_.x = get("best.x");
        }
        if (const auto criteria = get("criteria"); criteria.size() == 2)
            correction_ = {criteria[0], criteria[1]};
        const std::vector<double> loop = get("loop");
        if (loop.size() != 6) return;
        goal_scale_ = loop[0];
        last_penalty_ = loop[1];
        last_sharpness_ = loop[2];
        conservative_ = loop[3] > 0.5;
        result_.guard.limit = loop[4];
        if (loop[4] > 0.0) result_.guard.words = guard_words();
        mma_.steps = static_cast<int>(loop[5]);
        merits_ = get("merits");
        mma_.low = get("mma.low");
        mma_.high = get("mma.high");
        mma_.before = get("mma.before");
        mma_.before2 = get("mma.before2");
        mma_.extra = get("mma.extra");
        for (const auto& [name, value] : memory)
            if (name.rfind("size.", 0) == 0) sizes_[name.substr(5)] = value.front();
    }

    const Study& study_;
    StaticAnalysis& analysis_;
    OptimizeObserver& observer_;
    Problem problem_;
    DesignChain chain_;
    DesignMeasures measures_;
    std::vector<bool> goal_column_, wanted_;
    bool resumed_ = false;
    // Of optimality criteria.
    std::vector<double> weights_;
    std::vector<double> linear_cost_; // of each variable, while no projection is on
    double kept_material_ = 0.0;
    LinearCorrection correction_;
    // Of moving asymptotes.
    MmaState mma_;
    double goal_scale_ = 0.0; // the goal's size when first seen
    std::map<std::string, double> sizes_;
    std::vector<double> merits_;
    double last_penalty_ = 0.0, last_sharpness_ = -1.0;
    bool conservative_ = false;
    std::vector<double> density_; // room
    Best best_;
    OptimizeResult result_;
    Clock::time_point start_;
};

} // namespace

Schedule schedule(const Study& study, const Problem& problem, int iteration) {
    const RunCard& run = study.run;
    Schedule out;
    const double share = static_cast<double>(iteration - 1) / std::max(1, run.iterations - 1);
    const bool gently = problem.method == Method::Criteria || problem.compliance_goal;
    if (run.penalty) {
        out.penalty = *run.penalty;
    } else if (gently && !problem.has_stress && !problem.has_frequency && !run.start_run &&
               !run.coarse_first) {
        out.penalty = 1.0 + 2.0 * std::min(1.0, share / 0.3);
        out.final = share >= 0.3;
    }
    if (problem.has_stress) out.move = 0.1;
    if (run.sharpen) {
        const double ramp = (share - 0.4) / 0.45;
        if (ramp >= 0.0) {
            out.sharpness = std::pow(sharpest, std::min(1.0, ramp));
            out.move = problem.has_stress && ramp >= 1.0 ? 0.02 : 0.05;
        }
        out.final = out.final && ramp >= 1.0;
    }
    return out;
}

const char* text(RunStatus status) {
    switch (status) {
    case RunStatus::Converged:
        return "converged";
    case RunStatus::IterationLimit:
        return "iteration-limit";
    case RunStatus::Interrupted:
        return "interrupted";
    }
    return "";
}

OptimizeResult optimize(const Study& study, StaticAnalysis& analysis, OptimizeObserver& observer,
                        const RunStart& start) {
    if (study.cases.empty() && study.modal_cases.empty())
        throw Error::input({study.file.string(), 1, 1}, "the study has no case",
                           "Write a [[case]] with supports and loads");
    return Loop(study, analysis, observer, start).run();
}

std::vector<double> carry_over(const Mesh& from, const std::vector<double>& density, const Mesh& to) {
    const ElementLocator locator(from, 2.0 * from.size);
    std::vector<double> out(to.elements());
    for (std::size_t e = 0; e < out.size(); ++e) out[e] = density[index(locator.nearest(to.centers[e]))];
    return out;
}

namespace {

// Passes sentences on, and shows no rows.
class CoarseObserver : public OptimizeObserver {
  public:
    explicit CoarseObserver(OptimizeObserver& outer) : outer_(outer) {}
    void note(const std::string& sentence) override { outer_.note(sentence); }
    bool stop_requested() const override { return outer_.stop_requested(); }
    void iteration(const OptimizerState& /*state*/) override {}

  private:
    OptimizeObserver& outer_;
};

} // namespace

std::vector<double> coarse_start(const Study& study, const Model& model, OptimizeObserver& observer) {
    Study coarse = study;
    coarse.mesh.size *= 2.0;
    for (RefineCard& refine : coarse.mesh.refine) refine.size *= 2.0;
    coarse.run.coarse_first = false;
    coarse.run.sharpen = false;
    coarse.run.iterations = std::max(10, study.run.iterations / 2);
    if (!coarse.form.min_feature) coarse.run.filter = filter_radius(study, model);
    const Model coarse_model = build_model(coarse);
    StaticAnalysis analysis(coarse_model, solver_options(coarse.run));
    CoarseObserver quiet(observer);
    const OptimizeResult result = optimize(coarse, analysis, quiet);
    observer.note(fmt::format("coarse run: {} elements, {} iterations, goal {:.5g}",
                              coarse_model.mesh.elements(), result.state.iteration, result.goal));
    return carry_over(coarse_model.mesh, result.density, model.mesh);
}

} // namespace upright
