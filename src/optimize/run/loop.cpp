// The optimisation loop.
#include "base/reduction.hpp"
#include "optimize/optimality_criteria.hpp"
#include "optimize/run/reachable.hpp"
#include "optimize/run/stages.hpp"
#include "optimize/run/stepper.hpp"

#include <algorithm>
#include <chrono>
#include <cmath>

namespace upright {

namespace {

// The energy of the error, as a share, that is allowed while densities still move.
constexpr double loose = 1e-6;
// Of small models, where it costs next to nothing: errors of the solves would lead to a slightly other
// design.
constexpr double close = 1e-8;
constexpr std::size_t small_model = 100000; // freedoms
constexpr double modal_loose = 1e-3;

using Clock = std::chrono::steady_clock;

// For what is reported.
MeasureAccuracy tight_accuracy() {
    MeasureAccuracy out;
    out.statics.warm = true;
    out.modals.warm = true;
    return out;
}

class Loop {
  public:
    Loop(StaticAnalysis& analysis, OptimizeObserver& observer, const RunStart& start)
        : model_(analysis.model()), analysis_(analysis), observer_(observer), problem_(make_problem(model_)),
          chain_(model_, filter_radius(model_), form_rules(model_.form), analysis.options()),
          measures_(analysis), stages_(model_.run, problem_) {
        require_reachable(model_, problem_);
        result_.method = problem_.method->word;
        for (const Column& column : measures_.columns())
            goal_column_.push_back(column.response == problem_.goal);
        if (start.from != nullptr)
            result_.state = taken_up(*start.from);
        else if (!start.density.empty())
            result_.state.x = chain_.variables_of(start.density);
        else
            result_.state.x.assign(chain_.variables(), start_density());
        resumed_ = start.from != nullptr;
        stepper_ = problem_.method->make(tools());
        take_up();
    }

    // Throws Error (Input) for a state of another model.
    const OptimizerState& taken_up(const OptimizerState& from) const {
        const bool fits = from.x.size() == chain_.variables() &&
                          from.density.size() == model_.mesh.elements() &&
                          from.history.size() == static_cast<std::size_t>(from.iteration) &&
                          std::all_of(from.history.begin(), from.history.end(), [&](const IterationRow& row) {
                              return row.responses.size() == measures_.columns().size();
                          });
        if (!fits)
            throw Error::input({}, "the checkpoint does not fit the study: it is damaged, or of another one",
                               "Start afresh with --force");
        return from;
    }

    OptimizeResult run() {
        OptimizerState& state = result_.state;
        if (!resumed_) look_ahead(tools());
        while (true) {
            const Schedule now = stages_.now();
            iterate(now);
            const bool last = state.iteration >= model_.run.iterations;
            const bool converged = stages_.done(facts());
            result_.stages_done = now.final;
            result_.status = converged ? RunStatus::Converged : RunStatus::IterationLimit;
            if (!converged && !last) {
                advance(now);
                stages_.next(facts());
            } else {
                settle(now);
            }
            state.kept = {};
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
            settle({result_.penalty, result_.sharpness});
            state.history.back() = row;
        }
        result_.design_of = state.iteration;
        result_.density = state.density;
        result_.readings = state.readings;
        result_.best_feasible = best_.iteration;
        if (result_.status == RunStatus::IterationLimit) return_to_best();
        result_.goal = result_.row().goal;
        result_.feasible = all_hold(result_.readings);
        result_.cases = measures_.state().cases();
        result_.modals = measures_.state().modals();
        result_.stiffness = measures_.state().stiffness();
        return std::move(result_);
    }

  private:
    StepTools tools() {
        return {model_,
                problem_,
                analysis_,
                chain_,
                measures_,
                observer_,
                result_.state,
                result_.guard,
                [this](double change) { return accuracy(change); },
                [this] { gradients_done(); }};
    }

    static double since(Clock::time_point t) {
        return std::chrono::duration<double>(Clock::now() - t).count();
    }

    // The uniform density to begin with: that at which a bound on material is just met, else enough to meet
    // the others soon.
    double start_density() const {
        if (model_.run.start) return *model_.run.start;
        double out = problem_.has_frequency && problem_.material_goal ? 0.8 : 0.5;
        for (const std::size_t r : problem_.bounds) {
            const ModelResponse& bound = model_.responses[r];
            if (!of_material(bound) || !bound.max || r == problem_.goal) continue;
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
        result_.sharpness = now.sharpness;
        mean_change_ = state.density.empty() ? 1.0 : mean_difference(density_, state.density);
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
        row.grayness = measures_.state().gray();
        read_into(row);
        row.seconds = since(start_);
        state.history.push_back(row);
        Spent spent;
        spent.iteration = row.iteration;
        spent.setup = cost.factor_seconds;
        spent.solve = cost.solve_seconds;
        spent.solver_iterations = cost.iterations;
        spent.modes = measures_.state().modal_seconds();
        spent.around = std::max(0.0, row.seconds - spent.setup - spent.solve - spent.modes);
        result_.spent.push_back(spent);
        if (bounds_hold()) remember(now);
    }

    // The smaller the steps, the closer the look.
    MeasureAccuracy accuracy(double change) const {
        MeasureAccuracy out;
        // Local measures feel the error sooner than the energy does.
        const bool local = problem_.has_stress || problem_.has_frequency;
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
        const bool exact = analysis_.cost().iterations == 0 && measures_.state().modals().empty();
        if (exact) return;
        measures_.analyse(result_.state.density, now.penalty, tight_accuracy());
        read_into(result_.state.history.back());
    }

    static bool all_hold(const std::vector<Reading>& readings) {
        return std::all_of(readings.begin(), readings.end(), [](const Reading& r) { return r.holds; });
    }
    bool bounds_hold() const { return all_hold(result_.state.readings); }

    StageFacts facts() const {
        double most_broken = -1.0;
        for (const Reading& r : result_.state.readings) most_broken = std::max(most_broken, r.excess);
        return {result_.state.history, mean_change_, most_broken, bounds_hold()};
    }
    double mean_difference(const std::vector<double>& a, const std::vector<double>& b) const {
        return sum_over(a.size(), [&](std::size_t e) { return std::abs(a[e] - b[e]); }) /
               static_cast<double>(std::max<std::size_t>(1, chain_.variables()));
    }

    // The best design so far that holds every bound once all stages are done; before that the last that does.
    struct Best {
        int iteration = 0;
        bool final = false;
        double goal = 0.0;
        double penalty = 3.0, sharpness = 0.0;
        std::vector<double> x;
    };
    bool better(double a, double b) const { return problem_.maximize ? a > b : a < b; }
    void remember(const Schedule& now) {
        const IterationRow& row = result_.state.history.back();
        if (best_.final && (!now.final || !better(row.goal, best_.goal))) return;
        best_.final = now.final;
        best_.iteration = row.iteration;
        best_.goal = row.goal;
        best_.penalty = now.penalty;
        best_.sharpness = now.sharpness;
        best_.x = result_.state.x;
    }
    // Where the last design breaks a bound, or is worse than an earlier one, that one is the result.
    void return_to_best() {
        OptimizerState& state = result_.state;
        if (best_.iteration <= 0 || best_.iteration == state.iteration) return;
        const double now_goal = state.history.back().goal;
        if (bounds_hold() &&
            !better(best_.goal, now_goal - 1e-3 * std::abs(now_goal) * (problem_.maximize ? -1.0 : 1.0)))
            return;
        result_.design_of = best_.iteration;
        result_.density = chain_.physical(best_.x, best_.sharpness);
        result_.penalty = best_.penalty;
        result_.sharpness = best_.sharpness;
        result_.stages_done = best_.final;
        measures_.analyse(result_.density, best_.penalty, tight_accuracy());
        result_.readings = measures_.readings();
        read_into(state.history.at(static_cast<std::size_t>(result_.design_of) - 1), result_.readings);
    }

    // Moves the variables; the time it takes belongs to the iteration.
    void advance(const Schedule& now) {
        const StepReport report = stepper_->advance(now);
        result_.optimality = report.optimality;
        result_.goal_scale = report.goal_scale;
        result_.trials += report.trials;
        result_.state.history.back().seconds = since(start_);
        Spent& spent = result_.spent.back();
        spent.step = std::max(0.0, since(start_) - spent.setup - spent.solve - spent.modes - spent.adjoints -
                                       spent.around);
    }

    void gradients_done() {
        Spent& spent = result_.spent.back();
        spent.adjoints = measures_.state().adjoint_seconds();
        spent.around =
            std::max(0.0, since(start_) - spent.setup - spent.solve - spent.modes - spent.adjoints);
    }

    // What a checkpoint needs beside the state's own members.
    void walk(const Walk& w) {
        measures_.walk(w.part("measures"));
        const Walk best = w.part("best");
        best("iteration", best_.iteration);
        best("goal", best_.goal);
        best("final", best_.final);
        best("penalty", best_.penalty);
        best("sharpness", best_.sharpness);
        best("x", best_.x);
        stages_.walk(w.part("stages"));
        stepper_->walk(w.part("stepper"));
    }
    void keep() {
        result_.state.kept = {};
        walk(Walk(result_.state.kept));
    }
    void take_up() { walk(Walk(std::as_const(result_.state.kept))); }

    const Model& model_;
    StaticAnalysis& analysis_;
    OptimizeObserver& observer_;
    Problem problem_;
    DesignChain chain_;
    DesignMeasures measures_;
    std::vector<bool> goal_column_;
    bool resumed_ = false;
    Stages stages_;
    double mean_change_ = 1.0; // of the physical densities in the step that led here
    std::unique_ptr<Stepper> stepper_;
    std::vector<double> density_; // room
    Best best_;
    OptimizeResult result_;
    Clock::time_point start_;
};

} // namespace

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

OptimizeResult optimize(StaticAnalysis& analysis, OptimizeObserver& observer, const RunStart& start) {
    const Model& model = analysis.model();
    if (model.cases.empty() && model.modal_cases.empty())
        throw Error::input({model.file.string(), 1, 1}, "the study has no case",
                           "Write a [[case]] with supports and loads");
    return Loop(analysis, observer, start).run();
}

} // namespace upright
