// The optimisation loop.
#pragma once

#include "base/observer.hpp"
#include "design/chain.hpp"
#include "optimize/problem.hpp"

#include <string>
#include <vector>

namespace upright {

// How an iteration is set: penalty and sharpness follow a schedule over the iterations.
struct Schedule {
    double penalty = 3.0;
    double sharpness = 0.0; // of the projection; 0 is none
    double move = 0.2;
    bool final = true; // neither penalty nor sharpness will change any more
};

// Iteration counts from 1. Without a penalty of the study's own it rises from 1 to 3 over the first 30 %;
// with `sharpen` the projection starts at 40 % and rises smoothly to 16 at 85 %.
Schedule schedule(const RunCard& run, int iteration);

// One row of the history.
struct IterationRow {
    int iteration = 0;
    double goal = 0.0;
    // Largest change of any density in the step that led here: of the variables, or of the physical densities
    // once the projection is on (a variable that it pins to black or white may wander without any effect).
    double change = 1.0;
    double grayness = 0.0; // over the design elements
    double seconds = 0.0;
    std::vector<double> responses; // as in the study
};

// All that is needed to go on as if there had been no stop.
struct OptimizerState {
    int iteration = 0;           // iterations done
    std::vector<double> x;       // the variables of the next one
    std::vector<double> density; // physical densities of the last one
    double multiplier = 1.0;
    double step = 1.0; // largest change of any variable in the last step
    double aim = 1.0;  // share of a compliance bound that the next step aims at
    std::vector<IterationRow> history;
};

// Where the seconds of one iteration went.
struct Spent {
    int iteration = 0;
    double setup = 0.0; // factorisation, or the multigrid's levels
    double solve = 0.0;
    int solver_iterations = 0; // the most that a case took; 0: direct
    double around = 0.0;       // densities, forces, measures and their gradients
    double step = 0.0;         // of the optimiser
    double output = 0.0;       // files and progress
};

enum class RunStatus { Converged, IterationLimit, Interrupted };
const char* text(RunStatus status);

class OptimizeObserver : public Observer {
  public:
    // After each iteration. `state.history.back()` is its row.
    virtual void iteration(const OptimizerState& state) = 0;
};

struct OptimizeResult {
    RunStatus status = RunStatus::IterationLimit;
    OptimizerState state;
    double penalty = 3.0; // of the last iteration
    std::vector<CaseResult> cases;
    std::vector<double> stiffness; // share of each element in the last analysis
    bool feasible = false;
    std::vector<Spent> spent; // of the iterations of this start
};

// Runs until converged, at the limit of iterations, or stopped by the observer. `from` resumes.
// Throws Error (Input) for problems that are not served or out of reach, Error (Numerics) when the analysis
// fails.
OptimizeResult optimize(const Study& study, StaticAnalysis& analysis, OptimizeObserver& observer,
                        const OptimizerState* from = nullptr);

} // namespace upright
