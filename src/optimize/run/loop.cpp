// The optimisation loop.
#include "base/reduction.hpp"
#include "design/interpolation.hpp"
#include "optimize/optimality_criteria.hpp"
#include "optimize/run/black_and_white.hpp"
#include "optimize/run/local_steps.hpp"
#include "optimize/run/reachable.hpp"
#include "optimize/run/stages.hpp"
#include "optimize/run/stepper.hpp"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstdint>
#include <random>

namespace upright {

namespace {

// The energy of the error, as a share, that is allowed while densities still move.
constexpr double loose = 1e-6;
// Of small models, where it costs next to nothing: errors of the solves would lead to a slightly other
// design.
constexpr double close = 1e-8;
constexpr std::size_t small_model = 100000; // freedoms
constexpr double modal_loose = 1e-3;
// Of larger ones what is reported: energies to twelve digits, displacements to six.
constexpr double close_enough = 1e-12;

// Rounds of repair at most; rows between two looks at the black-and-white design of a run for stress; how far
// it may be from the densities, and how fast the bounds of the densities follow it.
constexpr int most_repairs = 8, watch_rows = 5;
// What bounds cost: steps at a grayness of at least so much, so many of them.
constexpr double free_to_move = 0.01;
constexpr std::size_t cost_rows = 6;
constexpr double watch_from = 4.0;     // sharpness
constexpr double most_mendable = 0.12; // by how much a bound may be broken for local steps to be tried
constexpr double soft_edge = 8.0;      // the sharpness at which edges are led there
constexpr double most_aim = 1.5, aim_share = 0.5, margin = 0.002;

using Clock = std::chrono::steady_clock;

// Local steps come where the design rests, or where the limit of iterations is near.
enum class LocalEnding { None, AtRest, AtLimit };

class Loop {
  public:
    Loop(StaticAnalysis& analysis, OptimizeObserver& observer, const RunStart& start)
        : model_(analysis.model()), analysis_(analysis), observer_(observer), problem_(make_problem(model_)),
          chain_(model_, filter_radius(model_), form_rules(model_.form), analysis.options()),
          measures_(analysis), black_and_white_(model_, problem_, measures_),
          stages_(model_.run, problem_, start_grayness(start)) {
        require_reachable(model_, problem_);
        aim_.assign(measures_.columns().size(), 1.0);
        result_.asked_black_and_white = model_.run.sharpen;
        result_.method = problem_.method->word;
        if (start.from != nullptr)
            result_.state = taken_up(*start.from);
        else if (!start.density.empty())
            result_.state.x = chain_.variables_of(start.density);
        else if (model_.run.start_random)
            result_.state.x = random_start(*model_.run.start_random);
        else
            result_.state.x.assign(chain_.variables(), start_density());
        gives_start_ = start.gives_start;
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
        if (!fits) throw does_not_fit();
        return from;
    }
    static Error does_not_fit() {
        return Error::input({}, "the checkpoint does not fit the study: it is damaged, or of another one",
                            "Start afresh with --force");
    }

    OptimizeResult run() {
        OptimizerState& state = result_.state;
        if (!resumed_) look_ahead(tools());
        while (true) {
            const Schedule now = stages_.now();
            // Stopped while local steps were searched: on from there.
            const LocalEnding again = searching_;
            searching_ = LocalEnding::None;
            if (again == LocalEnding::None)
                iterate(now);
            else
                take_row_up(now);
            result_.came_to_last_stage = now.final;
            // A design that was mended by local steps is the last.
            const bool last = state.iteration >= model_.run.iterations || mended_ != LocalEnding::None;
            const bool rests =
                again != LocalEnding::None ? again == LocalEnding::AtRest : stages_.done(facts());
            result_.no_better = again == LocalEnding::None && mended_ == LocalEnding::None && flickers(now);
            const bool converged = mended_ != LocalEnding::None ? mended_ == LocalEnding::AtRest
                                   : again != LocalEnding::None ? rests
                                   : result_.no_better          ? true
                                                                : rests && (last || !repair(now));
            const bool mends = !last && (converged || state.iteration + 1 == model_.run.iterations) &&
                               mend_locally(now, converged);
            if (searching_ != LocalEnding::None) {
                observer_.iteration(state);
                result_.status = RunStatus::Interrupted;
                break;
            }
            result_.stages_done = now.final;
            result_.status = converged ? RunStatus::Converged : RunStatus::IterationLimit;
            if (mends) {
                // The next iteration analyses it.
            } else if (!converged && !last) {
                const std::vector<double> x = watches(now) && !rests ? state.x : std::vector<double>();
                advance(now);
                // The next iteration analyses its own design.
                if (!x.empty()) look(now, x);
                stages_.next(facts());
                if (rests) stages_.go_on();
            } else {
                settle(now);
            }
            state.kept = {};
            state.ended = (converged || last) && !mends;
            if (!state.ended && observer_.keeps(state.iteration)) keep();
            const auto before = Clock::now();
            observer_.iteration(state);
            result_.spent.back().output = since(before);
            if (state.ended) break;
            if (observer_.stop_requested()) {
                result_.status = RunStatus::Interrupted;
                keep();
                break;
            }
            state.kept = {}; // whoever keeps it has a copy
        }
        if (result_.status == RunStatus::Interrupted) {
            // What goes on later goes on from the row as it is.
            const IterationRow row = state.history.back();
            settle({result_.penalty, result_.sharpness});
            state.history.back() = row;
        } else {
            stepper_.reset(); // there are no steps any more
        }
        result_.design_of = state.iteration;
        result_.density = state.density;
        result_.filtered = state.filtered;
        result_.readings = state.readings;
        result_.best_feasible = best_.iteration;
        if (best_.iteration > 0)
            result_.best = {chain_.physical(best_.x, best_.sharpness), chain_.field(best_.x), best_.penalty,
                            best_.sharpness};
        if (result_.status == RunStatus::IterationLimit && mended_ == LocalEnding::None) return_to_best();
        if (result_.status != RunStatus::Interrupted) make_black_and_white();
        note_fields();
        result_.costs = mean_costs();
        result_.goal = result_.row().goal;
        const bool by_densities = !result_.by_black_and_white();
        result_.feasible = by_densities ? all_hold(result_.readings) : result_.black_and_white.feasible;
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
                aim_,
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

    std::optional<double> start_grayness(const RunStart& start) const {
        if (start.density.empty()) return {};
        std::vector<bool> design;
        for (std::size_t e = 0; e < model_.mesh.elements(); ++e)
            design.push_back(model_.role(static_cast<ElementId>(e)) == Role::Design);
        return grayness(start.density, design);
    }

    // Smooth random densities about as dense as the uniform start, the same for the same number.
    std::vector<double> random_start(int number) const {
        std::mt19937 random(static_cast<std::uint32_t>(number));
        std::vector<double> x(chain_.variables());
        for (double& one : x) one = static_cast<double>(random()) / 4294967296.0;
        for (int pass = 0; pass < 2; ++pass) x = chain_.variables_of(chain_.physical(x, 0.0));
        const double low = -largest_over(x.size(), -1.0, [&](std::size_t j) { return -x[j]; });
        const double high = largest_over(x.size(), 0.0, [&](std::size_t j) { return x[j]; });
        const double level = start_density();
        for (double& one : x)
            one = std::clamp(2.0 * level * (one - low) / std::max(high - low, 1e-12), least_variable, 1.0);
        return x;
    }

    void make_designs(const Schedule& now) {
        OptimizerState& state = result_.state;
        chain_.field(state.x, state.filtered);
        chain_.made(state.x, now.sharpness, designs_);
        state.penalty = result_.penalty = now.penalty;
        state.sharpness = result_.sharpness = now.sharpness;
    }

    // Analyses the design and writes the row.
    void iterate(const Schedule& now) {
        start_ = Clock::now();
        OptimizerState& state = result_.state;
        make_designs(now);
        mean_change_ = state.density.empty() ? 1.0 : mean_difference(designs_.drawn, state.density);
        const double change = now.sharpness > 0.0 && !state.density.empty()
                                  ? largest_difference(designs_.drawn, state.density)
                                  : state.step;
        state.density = designs_.drawn;
        measures_.analyse(designs_, now.penalty, accuracy(change));
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

    bool small() const { return analysis_.model().freedoms() < small_model; }
    // For what is reported.
    MeasureAccuracy tight_accuracy() const {
        MeasureAccuracy out;
        if (!small()) out.statics.energy = close_enough;
        out.statics.warm = true;
        out.modals.warm = true;
        return out;
    }
    // The smaller the steps, the closer the look.
    MeasureAccuracy accuracy(double change) const {
        MeasureAccuracy out;
        // Local measures feel the error sooner than the energy does.
        const bool local = problem_.has_stress || problem_.has_frequency;
        const double most = local || small() ? close : loose;
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
        for (std::size_t i = 0; i < readings.size(); ++i) {
            if (std::isnan(readings[i].value))
                throw Error::numerics(fmt::format("{} is no number in iteration {}",
                                                  measures_.columns()[i].name, row.iteration),
                                      "Report this study: what is asked of it cannot be judged");
            row.responses.push_back(readings[i].value);
        }
        row.goal = goal_of(problem_, measures_.columns(), readings);
    }

    // What is reported at the end is not the loose result that was good enough on the way.
    void settle(const Schedule& now) {
        const bool exact = analysis_.cost().iterations == 0 && measures_.state().modals().empty();
        if (exact) return;
        measures_.analyse(designs_, now.penalty, tight_accuracy());
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
        void walk(const Walk& w) {
            w("iteration", iteration);
            w("goal", goal);
            w("final", final);
            w("penalty", penalty);
            w("sharpness", sharpness);
            w("x", x);
        }
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
        // Where black and white decides, a gray design of an early stage is no result: one that was looked at
        // in black and white may be (make_black_and_white).
        if (result_.by_black_and_white() && !best_.final) return;
        const double now_goal = state.history.back().goal;
        if (bounds_hold() &&
            !better(best_.goal, now_goal - 1e-3 * std::abs(now_goal) * (problem_.maximize ? -1.0 : 1.0)))
            return;
        return_to(best_);
    }
    void return_to(const Best& best) {
        OptimizerState& state = result_.state;
        result_.design_of = best.iteration;
        chain_.made(best.x, best.sharpness, designs_);
        result_.density = designs_.drawn;
        result_.filtered = chain_.field(best.x);
        result_.penalty = best.penalty;
        result_.sharpness = best.sharpness;
        result_.stages_done = best.final;
        measures_.analyse(designs_, best.penalty, tight_accuracy());
        result_.readings = measures_.readings();
        read_into(state.history.at(static_cast<std::size_t>(result_.design_of) - 1), result_.readings);
    }
    // Of the design that decides: as drawn, where it is made three times.
    void note_fields() {
        if (chain_.thresholds().three())
            look_at_all_three(); // the last as drawn
        else if (result_.by_black_and_white() && result_.black_and_white.there())
            measures_.analyse(result_.black_and_white.density, 1.0, tight_accuracy());
        else if (result_.black_and_white.there())
            measures_.analyse(result_.density, result_.penalty, tight_accuracy());
        result_.cases = measures_.state().cases();
        result_.modals = measures_.state().modals();
        result_.stiffness = measures_.state().stiffness();
    }

    // What the three come to, in black and white where that decides. What is reported as black and white is
    // as drawn from here on.
    void look_at_all_three() {
        BlackAndWhite& made = result_.black_and_white;
        const bool by_made = result_.by_black_and_white() && made.there();
        const ThreeDesigns three = by_made ? made.designs() : designs_;
        const double penalty = by_made ? 1.0 : result_.penalty;
        const auto look = [&](const std::vector<double>& density, double threshold) {
            MadeDesign out;
            measures_.analyse(density, penalty, tight_accuracy());
            out.readings = measures_.readings();
            out.goal = goal_of(problem_, measures_.columns(), out.readings);
            out.face_shift = face_shift(threshold, filter_radius(model_));
            if (threshold > 0.5) out.face_shift = -out.face_shift;
            return out;
        };
        const Thresholds& at = chain_.thresholds();
        const bool as_thin = at.thin == 0.5; // as drawn
        const MadeDesign thin = as_thin ? MadeDesign() : look(three.thin, at.thin);
        const MadeDesign thick = look(three.thick, at.thick);
        const MadeDesign drawn = look(three.drawn, 0.5);
        result_.three = {as_thin ? drawn : thin, drawn, thick};
        if (!by_made) return;
        result_.judged = made.readings;
        made.readings = result_.three[1].readings;
        made.goal = result_.three[1].goal;
    }

    // Black and white, at the end: where it breaks a bound and an earlier one did not, that is the result.
    void make_black_and_white() {
        if (!result_.by_black_and_white()) {
            // It decides nothing: one look.
            result_.black_and_white = black_and_white_.quick(designs_, accuracy(0.0));
            return;
        }
        result_.black_and_white = closest_.iteration == result_.design_of ? closest_.made
                                  : mended_ != LocalEnding::None
                                      ? black_and_white_.quick(designs_, accuracy(0.0))
                                      : black_and_white_.best(designs_);
        const BlackAndWhite& now = result_.black_and_white;
        const double excess = now.fault();
        const bool keep = now.feasible ? !made_feasible_ || !better(made_.goal, now.goal)
                                       : !made_feasible_ && excess <= made_excess_;
        if (keep || made_.iteration <= 0 || made_.iteration == result_.design_of) return;
        return_to(made_);
        result_.black_and_white = black_and_white_.best(designs_);
    }

    // Multipliers of steps in which hardly a density could move any more tell nothing of the optimum.
    void keep_costs(std::vector<BoundCost> costs) {
        if (costs.empty() || (!costs_.empty() && result_.state.history.back().grayness < free_to_move))
            return;
        if (!costs_.empty() && costs_.front().size() != costs.size()) costs_.clear();
        costs_.push_back(std::move(costs));
        if (costs_.size() > cost_rows) costs_.erase(costs_.begin());
    }
    std::vector<BoundCost> mean_costs() const {
        if (costs_.empty()) return {};
        std::vector<BoundCost> out = costs_.back();
        for (std::size_t i = 0; i < out.size(); ++i) {
            out[i].rate = 0.0;
            for (const std::vector<BoundCost>& one : costs_)
                out[i].rate += one[i].rate / static_cast<double>(costs_.size());
        }
        return out;
    }

    // The design rests: whether its black-and-white form breaks a bound that more steps may mend.
    bool repair(const Schedule& now) {
        if (!model_.run.sharpen || repairs_ >= most_repairs) return false;
        OptimizerState& state = result_.state;
        closest_ = {state.iteration, black_and_white_.best(designs_)};
        remember_made(closest_.made, now, state.x);
        if (closest_.made.feasible) return false;
        measures_.analyse(designs_, now.penalty, accuracy(state.history.back().change));
        ++repairs_;
        look(now, state.x);
        measures_.analyse(designs_, now.penalty, accuracy(state.history.back().change));
        return true;
    }
    // Whether the last stage of a run for stress has found no better design that holds in black and white for
    // long: it goes on about the one it has.
    bool flickers(const Schedule& now) const {
        return !gives_start_ && problem_.has_stress && model_.run.sharpen && result_.by_black_and_white() &&
               now.final && made_feasible_ && made_.final &&
               result_.state.iteration - made_.iteration >= patience_for_better;
    }
    // The end is near, and the design's black-and-white form still breaks a bound on stress by a little.
    bool mend_locally(const Schedule& now, bool rests) {
        if (!problem_.has_stress || !model_.run.sharpen || !result_.by_black_and_white() ||
            made_.iteration <= 0 || made_feasible_ || made_excess_ > most_mendable ||
            looks_for_local_steps(model_) == 0)
            return false;
        observer_.note(fmt::format("local steps: a search about the worst place, {} analyses at most",
                                   looks_for_local_steps(model_)));
        searching_ = rests ? LocalEnding::AtRest : LocalEnding::AtLimit;
        keep();
        const LocalSteps mended = take_local_steps(
            model_, chain_, made_.x, now.sharpness,
            {[&](const ThreeDesigns& designs) { return black_and_white_.quick(designs, accuracy(0.0)); },
             [&](const std::vector<double>& x, const BlackAndWhite& made) { return slope_of_worst(x, made); },
             [&] { return observer_.stop_requested(); }});
        if (mended.stopped) return false;
        searching_ = LocalEnding::None;
        // The last row's analysis again, which what follows reads.
        measures_.analyse(designs_, now.penalty, accuracy(result_.state.history.back().change));
        if (mended.taken == 0 || mended.made.fault() >= made_excess_) return false;
        observer_.note(
            fmt::format("local steps: the worst bound of the design in black and white, broken by {:.2g} "
                        "%, {} after {} steps ({} analyses)",
                        100.0 * made_excess_,
                        mended.made.feasible ? std::string("holds")
                                             : fmt::format("by {:.2g} %", 100.0 * mended.made.fault()),
                        mended.taken, mended.looks));
        mended_ = rests ? LocalEnding::AtRest : LocalEnding::AtLimit;
        result_.state.x = mended.x;
        return true;
    }
    // By the variables, of what breaks the worst bound of a black-and-white design; rising is worse.
    std::vector<double> slope_of_worst(const std::vector<double>& x, const BlackAndWhite& made) {
        const Reading* worst = worst_broken(made.readings);
        if (worst == nullptr) return {};
        const auto column = static_cast<std::size_t>(worst - made.readings.data());
        measures_.analyse(made.designs(), 1.0, accuracy(0.0));
        std::vector<bool> wanted(measures_.columns().size(), false);
        wanted[column] = true;
        SmoothWish wish;
        wish.gradients = true;
        const bool above = worst->max && worst->value > *worst->max;
        std::vector<double> out;
        double most = 0.0;
        for (const Smooth& s : measures_.smooth(wanted, wish)) {
            const double sign = above == s.inverse ? -1.0 : 1.0;
            if (!out.empty() && sign * s.value <= most) continue;
            most = sign * s.value;
            out = pulled_back(chain_, x, soft_edge, s);
            for (double& one : out) one *= sign;
        }
        return out;
    }
    // The last row, of which the search was not over.
    void take_row_up(const Schedule& now) {
        start_ = Clock::now();
        OptimizerState& state = result_.state;
        make_designs(now);
        measures_.analyse(designs_, now.penalty, accuracy(state.history.back().change));
        state.readings = measures_.readings();
        Spent spent;
        spent.iteration = state.iteration;
        result_.spent.push_back(spent);
    }
    // Local stress differs most between a design and its black-and-white form: it is watched on the way.
    bool watches(const Schedule& now) const {
        return problem_.has_stress && model_.run.sharpen && now.sharpness >= watch_from &&
               now.resting % watch_rows == watch_rows - 1;
    }
    // Those that hold every bound, by their goals; else the one that breaks them least.
    void remember_made(const BlackAndWhite& made, const Schedule& now, const std::vector<double>& x) {
        const double excess = made.fault();
        const bool best =
            made_.iteration <= 0 || (made.feasible ? !made_feasible_ || better(made.goal, made_.goal)
                                                   : !made_feasible_ && excess < made_excess_);
        if (!best) return;
        made_ = {result_.state.iteration, now.final, made.goal, now.penalty, now.sharpness, x};
        made_feasible_ = made.feasible;
        made_excess_ = excess;
    }
    // The last design, of variables x, in black and white: bounds follow what comes out.
    void look(const Schedule& now, const std::vector<double>& x) {
        OptimizerState& state = result_.state;
        measures_.before_made();
        const BlackAndWhite out = black_and_white_.quick(designs_, accuracy(0.0));
        measures_.after_made();
        remember_made(out, now, x);
        // What bounds are measured by from here on.
        for (std::size_t c = 0; c < aim_.size(); ++c) {
            const Reading& gray = state.readings[c];
            const Reading& made = out.readings[c];
            const ModelResponse& card = model_.responses[measures_.columns()[c].response];
            if ((!made.min && !made.max) || of_material(card)) continue;
            const bool above = made.max && (!made.min || made.value - *made.max > *made.min - made.value);
            double ratio = gray.value * made.value > 0.0 ? made.value / gray.value : 1.0;
            ratio *= above ? 1.0 + margin : 1.0 - margin;
            ratio = above ? std::clamp(ratio, 1.0, most_aim) : std::clamp(ratio, 1.0 / most_aim, 1.0);
            aim_[c] = std::pow(aim_[c], 1.0 - aim_share) * std::pow(ratio, aim_share);
        }
    }

    // Moves the variables; the time it takes belongs to the iteration.
    void advance(const Schedule& now) {
        const StepReport report = stepper_->advance(now);
        result_.optimality = report.optimality;
        keep_costs(report.costs);
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
        best_.walk(w.part("best"));
        const Walk made = w.part("made");
        made_.walk(made);
        made("feasible", made_feasible_);
        made("excess", made_excess_);
        w("repairs", repairs_);
        walk_ending(w, "mended", mended_);
        walk_ending(w, "searching", searching_);
        walk_costs(w);
        w("aim", aim_);
        stages_.walk(w.part("stages"));
        stepper_->walk(w.part("stepper"));
    }
    static void walk_ending(const Walk& w, const char* name, LocalEnding& ending) {
        int number = static_cast<int>(ending);
        w(name, number);
        if (w.reading())
            ending = number == 1   ? LocalEnding::AtRest
                     : number == 2 ? LocalEnding::AtLimit
                                   : LocalEnding::None;
    }
    // A row: how many there are in it, then column, side and rate of each.
    void walk_costs(const Walk& w) {
        std::vector<double> flat;
        for (const std::vector<BoundCost>& row : costs_) {
            flat.push_back(static_cast<double>(row.size()));
            for (const BoundCost& c : row)
                flat.insert(flat.end(), {static_cast<double>(c.column), c.upper ? 1.0 : 0.0, c.rate});
        }
        w("costs", flat);
        if (!w.reading()) return;
        costs_.clear();
        const auto whole = [&](double v) {
            return v >= 0.0 && v < static_cast<double>(flat.size() + aim_.size());
        };
        for (std::size_t at = 0; at < flat.size();) {
            const double count = flat[at++];
            if (!whole(count) || at + 3 * static_cast<std::size_t>(count) > flat.size())
                return costs_.clear();
            costs_.emplace_back();
            for (int i = 0; i < static_cast<int>(count); ++i, at += 3) {
                if (!(flat[at] >= 0.0 && flat[at] < static_cast<double>(aim_.size()))) return costs_.clear();
                costs_.back().push_back(
                    {static_cast<std::size_t>(flat[at]), flat[at + 1] > 0.5, flat[at + 2]});
            }
        }
    }
    void keep() {
        result_.state.kept = {};
        walk(Walk(result_.state.kept));
    }
    void take_up() {
        walk(Walk(std::as_const(result_.state.kept)));
        const auto fits = [&](const Best& one) {
            return one.iteration >= 0 && one.iteration <= result_.state.iteration &&
                   (one.iteration == 0 || one.x.size() == chain_.variables());
        };
        const bool may_search = searching_ == LocalEnding::None ||
                                (!result_.state.history.empty() && made_.iteration > 0 && !made_feasible_);
        if (!fits(best_) || !fits(made_) || !may_search) throw does_not_fit();
    }

    const Model& model_;
    StaticAnalysis& analysis_;
    OptimizeObserver& observer_;
    Problem problem_;
    DesignChain chain_;
    DesignMeasures measures_;
    BlackAndWhiteLook black_and_white_;
    bool gives_start_ = false;
    bool resumed_ = false;
    Stages stages_;
    double mean_change_ = 1.0; // of the physical densities in the step that led here
    std::unique_ptr<Stepper> stepper_;
    ThreeDesigns designs_; // of the last row, at the end of the result
    Best best_;
    Best made_; // the best whose black-and-white form held every bound when it was looked at
    bool made_feasible_ = false;
    double made_excess_ = 0.0;
    std::vector<std::vector<BoundCost>> costs_; // of the last steps in which the design was free to move
    int repairs_ = 0;                           // rounds
    LocalEnding mended_ = LocalEnding::None;    // by local steps, with the last step
    LocalEnding searching_ = LocalEnding::None; // they were being searched when a stop was asked for
    struct {
        int iteration = 0;
        BlackAndWhite made;
    } closest_; // the last close look
    std::vector<double>
        aim_; // of each column: its value in black and white as a share of that of the densities
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
