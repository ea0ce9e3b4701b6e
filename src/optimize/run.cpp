#include "optimize/run.hpp"

#include "design/interpolation.hpp"
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

using Clock = std::chrono::steady_clock;

// The uniform density at which the bound on material is just met; 0.5 where compliance is the bound.
double start_density(const Study& study, const Model& model, const Problem& problem) {
    if (study.run.start) return *study.run.start;
    if (problem.least_material) return 0.5;
    const ResponseCard& bound = study.responses[problem.bound];
    const Range range = material_range(model, bound);
    return std::clamp((*bound.max - range.least) / (range.most - range.least), least_variable, 1.0);
}

double largest_difference(const std::vector<double>& a, const std::vector<double>& b) {
    double out = 0.0;
    for (std::size_t i = 0; i < a.size(); ++i) out = std::max(out, std::abs(a[i] - b[i]));
    return out;
}

class Loop {
  public:
    Loop(const Study& study, StaticAnalysis& analysis, OptimizeObserver& observer)
        : study_(study), analysis_(analysis), observer_(observer), problem_(make_problem(study)),
          chain_(analysis.model(), filter_radius(study, analysis.model())) {
        require_reachable(study, analysis.model(), problem_);
        weights_ = linear_weights(analysis.model(), study.responses[problem_.material()]);
        linear_cost_ = chain_.pull_back(std::vector<double>(chain_.variables(), 1.0), 0.0, weights_);
        for (std::size_t e = 0; e < weights_.size(); ++e)
            if (!chain_.is_design()[e]) kept_material_ += weights_[e];
    }

    OptimizeResult run(const OptimizerState* from) {
        if (from != nullptr)
            result_.state = *from;
        else
            result_.state.x.assign(chain_.variables(), start_density(study_, analysis_.model(), problem_));
        if (problem_.least_material && from == nullptr) require_stiff_enough();
        OptimizerState& state = result_.state;
        while (true) {
            const Schedule now = schedule(study_.run, state.iteration + 1);
            iterate(now);
            const bool last = state.iteration >= study_.run.iterations;
            const IterationRow& row = state.history.back();
            const bool converged =
                now.final && state.iteration > 1 && row.change < study_.run.stop_when && bounds_hold();
            result_.status = converged ? RunStatus::Converged : RunStatus::IterationLimit;
            if (!converged && !last)
                advance(now);
            else
                settle(now);
            const auto before = Clock::now();
            observer_.iteration(state);
            result_.spent.back().output = std::chrono::duration<double>(Clock::now() - before).count();
            if (converged || last) break;
            if (observer_.stop_requested()) {
                result_.status = RunStatus::Interrupted;
                break;
            }
        }
        if (result_.status == RunStatus::Interrupted) settle(schedule(study_.run, state.iteration));
        result_.feasible = bounds_hold();
        return std::move(result_);
    }

  private:
    // Analyses the design and writes the row.
    void iterate(const Schedule& now) {
        start_ = Clock::now();
        OptimizerState& state = result_.state;
        std::vector<double> density = chain_.physical(state.x, now.sharpness);
        result_.penalty = now.penalty;
        result_.stiffness = stiffness_share(density, now.penalty);
        const double change = now.sharpness > 0.0 && !state.density.empty()
                                  ? largest_difference(density, state.density)
                                  : state.step;
        // The smaller the steps, the closer the look.
        Accuracy accuracy;
        accuracy.energy = std::clamp(loose * change / 0.05, 0.01 * loose, loose);
        accuracy.warm = true;
        result_.cases = analysis_.solve(result_.stiffness, density, accuracy);
        for (const std::string& note : analysis_.take_notes()) observer_.note(note);
        const SolverCost cost = analysis_.cost();
        IterationRow row;
        row.iteration = ++state.iteration;
        row.change = change;
        row.grayness = grayness(density, chain_.is_design());
        state.density = std::move(density);
        measure_into(row, now, true);
        row.seconds = seconds();
        state.history.push_back(row);
        Spent spent;
        spent.iteration = row.iteration;
        spent.setup = cost.factor_seconds;
        spent.solve = cost.solve_seconds;
        spent.solver_iterations = cost.iterations;
        spent.around = std::max(0.0, row.seconds - spent.setup - spent.solve);
        result_.spent.push_back(spent);
    }

    void measure_into(IterationRow& row, const Schedule& now, bool with_gradient) {
        row.responses.clear();
        for (std::size_t r = 0; r < study_.responses.size(); ++r) {
            const bool wanted = with_gradient && r == problem_.compliance();
            Measured value = measure(analysis_, study_.responses[r], result_.cases, result_.state.density,
                                     now.penalty, wanted);
            row.responses.push_back(value.value);
            if (wanted) compliance_ = std::move(value);
        }
        row.goal = row.responses[problem_.goal];
    }

    // What is reported at the end is not the loose result that was good enough on the way.
    void settle(const Schedule& now) {
        if (analysis_.cost().iterations == 0) return;
        Accuracy accuracy;
        accuracy.warm = true;
        result_.cases = analysis_.solve(result_.stiffness, result_.state.density, accuracy);
        measure_into(result_.state.history.back(), now, false);
    }

    // Moves the variables; the time it takes belongs to the iteration.
    void advance(const Schedule& now) {
        OptimizerState& state = result_.state;
        std::vector<double> benefit = chain_.pull_back(state.x, now.sharpness, compliance_.gradient);
        for (double& b : benefit) b = -b;
        const std::vector<double> cost = chain_.pull_back(state.x, now.sharpness, weights_);
        CriteriaStep step;
        if (problem_.least_material) {
            const double limit = *study_.responses[problem_.bound].max;
            // While the projection sharpens, every step moves the compliance more than its expansion sees; a
            // little inside of the bound the last iterate still holds it.
            const double inside = now.sharpness > 0.0 ? 0.996 : 1.0;
            // The step's expansion errs a little the same way every time; aiming off by what was missed makes
            // up for it.
            state.aim = std::clamp(state.aim * std::pow(inside * limit / compliance_.value, 0.4), 0.9, 1.02);
            step = least_material_step(state.x, benefit, cost, compliance_.value, limit * state.aim, now.move,
                                       state.multiplier);
        } else {
            const double next_sharpness = schedule(study_.run, state.iteration + 1).sharpness;
            // Without a projection the densities, and so the material, are linear in the variables.
            const bool linear = next_sharpness <= 0.0;
            const auto material = [&](const std::vector<double>& x) {
                if (linear) {
                    double sum = kept_material_;
                    for (std::size_t v = 0; v < x.size(); ++v) sum += linear_cost_[v] * x[v];
                    return sum;
                }
                const std::vector<double> density = chain_.physical(x, next_sharpness);
                double sum = 0.0;
                for (std::size_t e = 0; e < density.size(); ++e) sum += weights_[e] * density[e];
                return sum;
            };
            step = criteria_step(state.x, benefit, cost, material, *study_.responses[problem_.bound].max,
                                 now.move, state.multiplier);
        }
        state.step = largest_difference(step.x, state.x);
        state.x = std::move(step.x);
        state.multiplier = step.multiplier;
        state.history.back().seconds = seconds();
        Spent& spent = result_.spent.back();
        spent.step = std::max(0.0, seconds() - spent.setup - spent.solve - spent.around);
    }

    double seconds() const { return std::chrono::duration<double>(Clock::now() - start_).count(); }

    bool bounds_hold() const {
        const std::vector<double>& values = result_.state.history.back().responses;
        for (std::size_t r = 0; r < values.size(); ++r)
            if (!holds(study_.responses[r], values[r])) return false;
        return true;
    }

    // A bound on compliance that even the full solid breaks is out of reach.
    void require_stiff_enough() {
        const ResponseCard& bound = study_.responses[problem_.bound];
        const std::vector<double> full(analysis_.model().mesh.elements(), 1.0);
        const std::vector<CaseResult> cases = analysis_.solve(full, full);
        const double least = compliance(analysis_, bound, cases, full, 1.0, false).value;
        if (least > *bound.max)
            throw Error::input(
                bound.place,
                fmt::format("\"{}\" cannot be met: with all material it is {:.5g} and its max is {:.5g}",
                            bound.name, least, *bound.max),
                fmt::format("Write a max above {:.5g}", least));
    }

    const Study& study_;
    StaticAnalysis& analysis_;
    OptimizeObserver& observer_;
    Problem problem_;
    DesignChain chain_;
    std::vector<double> weights_;
    std::vector<double> linear_cost_; // of each variable, while no projection is on
    double kept_material_ = 0.0;
    Measured compliance_;
    OptimizeResult result_;
    Clock::time_point start_;
};

} // namespace

Schedule schedule(const RunCard& run, int iteration) {
    Schedule out;
    const double share = static_cast<double>(iteration - 1) / std::max(1, run.iterations - 1);
    if (run.penalty) {
        out.penalty = *run.penalty;
    } else {
        out.penalty = 1.0 + 2.0 * std::min(1.0, share / 0.3);
        out.final = share >= 0.3;
    }
    if (run.sharpen) {
        const double ramp = (share - 0.4) / 0.45;
        if (ramp >= 0.0) {
            out.sharpness = std::pow(sharpest, std::min(1.0, ramp));
            out.move = 0.05;
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
                        const OptimizerState* from) {
    if (study.cases.empty())
        throw Error::input({study.file.string(), 1, 1}, "the study has no case",
                           "Write a [[case]] with supports and loads");
    return Loop(study, analysis, observer).run(from);
}

} // namespace upright
