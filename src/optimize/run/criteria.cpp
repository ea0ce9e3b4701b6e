// Optimality criteria: compliance under one bound on material, or least material under one on compliance.
#include "optimize/run/stepper.hpp"

#include "base/blocks.hpp"
#include "base/reduction.hpp"
#include "optimize/optimality_criteria.hpp"

#include <algorithm>
#include <cmath>

namespace upright {

namespace {

class Criteria final : public Stepper {
  public:
    explicit Criteria(const StepTools& tools)
        : tools_(tools), least_material_(of_material(tools.model.responses[tools.problem.goal])) {
        const std::size_t goal = tools.problem.goal;
        const std::size_t bound = tools.problem.bounds.front();
        const std::size_t material = least_material_ ? goal : bound;
        const std::size_t compliance = least_material_ ? bound : goal;
        limit_ = *tools.model.responses[bound].max;
        // The material is linear; only the compliance has gradients to be found anew.
        for (const Column& column : tools.measures.columns())
            wanted_.push_back(column.response == compliance);
        const DesignChain& chain = tools.chain;
        weights_ = linear_weights(tools.model, tools.model.responses[material]);
        linear_cost_ = chain.pull_back(std::vector<double>(chain.variables(), 1.0), 0.0, weights_);
        kept_material_ = sum_over(weights_.size(),
                                  [&](std::size_t e) { return chain.is_design()[e] ? 0.0 : weights_[e]; });
    }

    const std::vector<bool>& wanted() const override { return wanted_; }
    bool rests() const override { return false; }

    StepReport advance(const Schedule& now) override {
        OptimizerState& state = tools_.state;
        const DesignChain& chain = tools_.chain;
        const std::vector<Smooth> smooth = tools_.measures.smooth(wanted_, {true, true});
        const double compliance = smooth.front().value;
        std::vector<double> benefit = chain.pull_back(state.x, now.sharpness, smooth.front().gradient);
        each_block(benefit.size(), [&](std::size_t from, std::size_t to) {
            for (std::size_t i = from; i < to; ++i) benefit[i] = -benefit[i];
        });
        // Without a projection it is the same in every design.
        std::vector<double> sharp_cost;
        if (now.sharpness > 0.0) sharp_cost = chain.pull_back(state.x, now.sharpness, weights_);
        const std::vector<double>& cost = now.sharpness > 0.0 ? sharp_cost : linear_cost_;
        tools_.gradients_done();
        CriteriaStep step = least_material_ ? less_material(now, compliance, benefit, cost)
                                            : less_compliance(now, benefit, cost);
        state.step = largest_difference(state.x, step.x);
        state.x = std::move(step.x);
        state.multiplier = step.multiplier;
        return {};
    }

    void walk(const Walk& w) override {
        w("missed", correction_.missed);
        w("slope", correction_.slope);
    }

  private:
    CriteriaStep less_material(const Schedule& now, double compliance, const std::vector<double>& benefit,
                               const std::vector<double>& cost) {
        OptimizerState& state = tools_.state;
        // While the projection sharpens, every step moves the compliance more than its expansion sees; a
        // little inside of the bound the last iterate still holds it.
        const double inside = now.sharpness > 0.0 ? 0.996 : 1.0;
        // The step's expansion errs a little the same way every time; aiming off by what was missed makes up
        // for it.
        state.aim = std::clamp(state.aim * std::pow(inside * limit_ / compliance, 0.4), 0.9, 1.02);
        return least_material_step({state.x, benefit, cost, now.move, state.multiplier}, compliance,
                                   limit_ * state.aim);
    }

    CriteriaStep less_compliance(const Schedule& now, const std::vector<double>& benefit,
                                 const std::vector<double>& cost) {
        OptimizerState& state = tools_.state;
        const double next_sharpness =
            schedule(tools_.model.run, tools_.problem, state.iteration + 1).sharpness;
        MaterialBound bound;
        bound.limit = limit_;
        // Without a projection the densities, and so the material, are linear in the variables.
        if (now.sharpness <= 0.0)
            bound.constant = kept_material_;
        else
            bound.constant = weighted_sum(weights_, state.density) - weighted_sum(cost, state.x);
        bound.correction = correction_;
        if (next_sharpness > 0.0)
            bound.exact = [&, next_sharpness](const std::vector<double>& x) {
                return tools_.chain.weighted(x, next_sharpness, weights_);
            };
        CriteriaStep step = criteria_step({state.x, benefit, cost, now.move, state.multiplier}, bound);
        correction_ = step.correction;
        return step;
    }

    StepTools tools_;
    bool least_material_;
    double limit_ = 0.0;
    std::vector<bool> wanted_;
    std::vector<double> weights_;
    std::vector<double> linear_cost_; // of each variable, while no projection is on
    double kept_material_ = 0.0;
    LinearCorrection correction_;
};

// One max alone, no min, sums and no largest of several cases; compliance and a linear measure.
bool fits(const Model& model, const Problem& problem) {
    if (problem.bounds.size() != 1 || problem.bounds.front() == problem.goal || problem.maximize)
        return false;
    const ModelResponse& goal = model.responses[problem.goal];
    const ModelResponse& bound = model.responses[problem.bounds.front()];
    if (!bound.max || bound.min || goal.worst || bound.worst) return false;
    return (goal.measure->linear && bound.measure->compliance) ||
           (goal.measure->compliance && bound.measure->linear);
}

} // namespace

StepperKind criteria_stepper() {
    return {"optimality criteria", true, fits, [](const StepTools& tools) -> std::unique_ptr<Stepper> {
                return std::make_unique<Criteria>(tools);
            }};
}

} // namespace upright
