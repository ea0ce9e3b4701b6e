// The optimisation loop.
#pragma once

#include "base/checkpoint.hpp"
#include "base/observer.hpp"
#include "design/chain.hpp"
#include "optimize/problem.hpp"
#include "optimize/run/black_and_white.hpp"

#include <functional>
#include <map>
#include <optional>
#include <string>
#include <vector>

namespace upright {

// How an iteration is set (run/stages.hpp).
struct Schedule {
    double penalty = 3.0;
    double sharpness = 0.0; // of the projection; 0 is none
    double move = 0.2;
    bool final = true; // neither penalty nor sharpness will change any more
    int resting = 0;   // iterations since the stage began
};

// What a bound costs: the multiplier of its constraint in the optimiser's steps (Nocedal & Wright 2006,
// section 12.8), by logarithms.
struct BoundCost {
    std::size_t column = 0;
    bool upper = true; // its max, or its min
    // The change of the goal, as a share, for a bound that is looser by a share of itself: -1.8 is a goal 1.8
    // % lower for a bound looser by 1 %. Zero: the bound costs nothing.
    double rate = 0.0;
};

// One row of the history.
struct IterationRow {
    int iteration = 0;
    double goal = 0.0; // of several columns of the goal the worst
    // Largest change of any density in the step that led here: of the variables, or of the physical densities
    // once the projection is on (a variable that it pins to black or white may wander without any effect).
    double change = 1.0;
    double grayness = 0.0; // over the design elements
    double seconds = 0.0;
    std::vector<double> responses; // one for each of columns(model)
};

// A design, and how it was set.
struct KeptDesign {
    std::vector<double> density;  // of every element, physical
    std::vector<double> filtered; // the same before the projection
    double penalty = 3.0, sharpness = 0.0;
};

// All that is needed to go on as if there had been no stop.
struct OptimizerState {
    int iteration = 0;           // iterations done
    std::vector<double> x;       // the variables of the next one
    std::vector<double> density; // physical densities of the last one
    // Before its projection, and how it was set; not in checkpoints.
    std::vector<double> filtered;
    double penalty = 3.0, sharpness = 0.0;
    KeptDesign design() const { return {density, filtered, penalty, sharpness}; }
    double multiplier = 1.0;
    double step = 1.0; // largest change of any variable in the last step
    double aim = 1.0;  // share of a compliance bound that the next step aims at
    // The last iteration, measured closely: nothing goes on from here. Not in checkpoints.
    bool ended = false;
    std::vector<IterationRow> history;
    Checkpoint kept;               // of optimiser, measures and solvers
    std::vector<Reading> readings; // of the last iteration, one a column; not in checkpoints
};

// Where the seconds of one iteration went.
struct Spent {
    int iteration = 0;
    double setup = 0.0; // factorisation, or the multigrid's levels
    double solve = 0.0;
    int solver_iterations = 0; // the most that a case took; 0: direct
    double modes = 0.0;        // modal cases
    double adjoints = 0.0;     // further solves for sensitivities
    double around = 0.0;       // densities, forces, measures and their gradients
    double step = 0.0;         // of the optimiser
    double output = 0.0;       // files and progress
};

enum class RunStatus { Converged, IterationLimit, Interrupted };
const char* text(RunStatus status);

// With more elements memory is what limits a run: nothing is written beside an iteration.
inline constexpr std::size_t large_model = 2000000;

class OptimizeObserver : public Observer {
  public:
    // After each iteration. `state.history.back()` is its row; `state.kept` may be taken, nobody needs it
    // after.
    virtual void iteration(OptimizerState& state) = 0;
    // Whether the state of this iteration will be kept: only then is `kept` filled.
    virtual bool keeps(int /*iteration*/) const { return true; }
};

// One of the three that a design may be made: thin, as drawn, thick.
struct MadeDesign {
    double face_shift = 0.0; // outwards, of a flat face
    double goal = 0.0;
    std::vector<Reading> readings; // one a column
};

// Single cells of an edge under stress turn on and off to the end: a run that has found nothing better in so
// many iterations ends.
inline constexpr int patience_for_better = 50;

struct OptimizeResult {
    RunStatus status = RunStatus::IterationLimit;
    std::string method;   // the word of its stepper
    OptimizerState state; // of the last iteration
    // Those of the result, and whether the stages of the run were done by then.
    double penalty = 3.0, sharpness = 0.0;
    bool stages_done = false;
    // Of a run for stress: it ended since so many iterations of its last stage brought no better design that
    // holds every bound in black and white.
    bool no_better = false;
    // The iteration whose design is the result: the last one, or the best that held every bound at the final
    // penalty and sharpness where the last one does not. What follows is of that design, measured closely;
    // its row of the history says the same.
    int design_of = 0;
    std::vector<double> density;
    std::vector<double> filtered;  // of every element, before the projection
    std::vector<Reading> readings; // one a column
    double goal = 0.0;
    // The same design as it is made: it decides whether bounds hold, unless the run was not to end black and
    // white ([run] sharpen) or never came to the last of its stages.
    BlackAndWhite black_and_white;
    // Where a rule asks for it (min_feature strict, min_slot): thin, as drawn, thick. The densities' numbers
    // are those of the thin one but for what the design weighs, and so are the rows of the history.
    std::vector<MadeDesign> three;
    std::vector<Reading> judged; // then: what decided, of the thin one but for what the design weighs
    bool asked_black_and_white = false, came_to_last_stage = false;
    bool by_black_and_white() const {
        return asked_black_and_white && came_to_last_stage && status != RunStatus::Interrupted;
    }
    // Those of the design that decides.
    const std::vector<Reading>& deciding() const {
        if (!judged.empty()) return judged;
        return by_black_and_white() && black_and_white.there() ? black_and_white.readings : readings;
    }
    const std::vector<double>& deciding_density() const {
        return by_black_and_white() && black_and_white.there() ? black_and_white.density : density;
    }
    bool feasible = false;
    // The mean of the last few steps in which the design was still free to move; none where the optimiser has
    // no multipliers.
    std::vector<BoundCost> costs;
    // Those of the design that decides.
    std::vector<CaseResult> cases;
    std::vector<ModalResult> modals;
    std::vector<double> stiffness; // share of each element
    const IterationRow& row() const { return state.history.at(static_cast<std::size_t>(design_of) - 1); }
    // The iteration of the best (of stages not done: the last) whose densities held every bound, 0 for none,
    // and its design.
    int best_feasible = 0;
    KeptDesign best;
    KeptDesign design() const { return {density, filtered, penalty, sharpness}; }
    std::optional<double> optimality; // first-order residual at the end, as a share of the goal's gradient
    double goal_scale = 1.0;          // what the goal was multiplied by
    int trials = 0;                   // steps taken back by the globally convergent form
    std::vector<Spent> spent;         // of the iterations of this start
};

struct RunStart {
    const OptimizerState* from = nullptr; // resumes
    std::vector<double> density;          // or begins with this physical density of every element
    bool gives_start = false;             // to a finer run, which does not ask that it hold its bounds
};

// Runs until converged, at the limit of iterations, or stopped by the observer.
// Throws Error (Input) for bounds that are out of reach, Error (Numerics) when an analysis fails.
OptimizeResult optimize(StaticAnalysis& analysis, OptimizeObserver& observer, const RunStart& start = {});

// The density of each element of a mesh, taken from the element of another mesh of the same body that its
// middle lies in (or is nearest to).
std::vector<double> carry_over(const Mesh& from, const std::vector<double>& density, const Mesh& to);

// Whether a run begins with one on cells twice as large: as the study says; where it does not, with a bound
// on stress and at least three cells in the filter's radius. Peaks of stress on the steps of cells lead a run
// on small cells astray (a quarter more mass in trials) that starts from a uniform density.
bool begins_coarse(const Model& model);
// What a run begins with: "density 0.3, by a run on cells twice as large".
std::string start_words(const Model& model);

// Runs the same model on coarser elements and brings the design back: for stress, and for designs that are
// made three times, the whole run, which begins coarse itself where that pays; for others half the
// iterations, without sharpening. `on_cells(times)` makes the model on cells as many times as large. Nothing
// where the observer asked for a stop; an empty design where larger cells give no smaller mesh, or where the
// study did not ask for such a run and it cannot be made, which is told.
std::optional<std::vector<double>> coarse_start(const std::function<Model(double times)>& on_cells,
                                                const Model& model, OptimizeObserver& observer,
                                                double times = 2.0);

} // namespace upright
