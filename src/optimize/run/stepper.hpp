// Steppers: how the variables move from one iteration to the next. Each in one file; a new one is that file
// and a line in steppers.cpp.
#pragma once

#include "optimize/run.hpp"

#include "response/design_measures.hpp"

#include <functional>
#include <memory>
#include <string>
#include <vector>

namespace upright {

// What the loop lends to a stepper. All of it outlives the stepper.
struct StepTools {
    const Model& model;
    const Problem& problem;
    StaticAnalysis& analysis;
    const DesignChain& chain;
    DesignMeasures& measures;
    OptimizeObserver& observer;
    OptimizerState& state;
    // Of each column: what it is to be multiplied by where its bounds are concerned.
    const std::vector<double>& aim;
    // How closely to look where densities move so far.
    std::function<MeasureAccuracy(double)> accuracy;
    // Gradients are at hand: what follows is the step's own time.
    std::function<void()> gradients_done;
};

// What a step has to say of itself.
struct StepReport {
    std::optional<double> optimality; // first-order residual, as a share of the goal's gradient
    double goal_scale = 1.0;          // what the goal was multiplied by
    int trials = 0;                   // steps taken back
    std::vector<BoundCost> costs;     // one for each bound
};

class Stepper {
  public:
    virtual ~Stepper() = default;
    // Columns whose smooth functions it needs.
    virtual const std::vector<bool>& wanted() const = 0;
    // Moves `state.x`, from the last analysis.
    virtual StepReport advance(const Schedule& now) = 0;
    // What goes on from step to step, for checkpoints.
    virtual void walk(const Walk& w) = 0;
};

struct StepperKind {
    const char* word; // in run.json, and for people
    bool (*fits)(const Model& model, const Problem& problem);
    std::unique_ptr<Stepper> (*make)(const StepTools& tools);
};

// In the order in which they are asked; the last fits everything.
const std::vector<StepperKind>& stepper_kinds();
StepperKind criteria_stepper();
StepperKind asymptotes_stepper();

} // namespace upright
