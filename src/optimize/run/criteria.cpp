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
        const std::vector<double> weights = linear_weights(tools.model, tools.model.responses[material]);
        linear_cost_ = chain.pull_back(std::vector<double>(chain.variables(), 1.0), 0.0, weights);
        kept_material_ =
            sum_over(weights.size(), [&](std::size_t e) { return chain.is_design()[e] ? 0.0 : weights[e]; });
    }

    const std::vector<bool>& wanted() const override { return wanted_; }

    StepReport advance(const Schedule& now) override {
        OptimizerState& state = tools_.state;
        const DesignChain& chain = tools_.chain;
        const std::vector<Smooth> smooth = tools_.measures.smooth(wanted_, {true, true});
        const double compliance = smooth.front().value;
        std::vector<double> benefit = chain.pull_back(state.x, now.sharpness, smooth.front().gradient);
        each_block(benefit.size(), [&](std::size_t from, std::size_t to) {
            for (std::size_t i = from; i < to; ++i) benefit[i] = -benefit[i];
        });
        tools_.gradients_done();
        CriteriaStep step =
            least_material_ ? less_material(now, compliance, benefit) : less_compliance(now, benefit);
        StepReport report;
        report.optimality = residual(state.x, benefit, step.multiplier);
        // d ln C / d ln V = -lambda V / C, and the other way about.
        const double material = kept_material_ + sum_over(state.x.size(), [&](std::size_t j) {
                                    return linear_cost_[j] * state.x[j];
                                });
        const double rate = step.multiplier * material / compliance;
        const auto& columns = tools_.measures.columns();
        for (std::size_t c = 0; c < columns.size(); ++c)
            if (columns[c].response == tools_.problem.bounds.front())
                report.costs.push_back({c, true, least_material_ ? -1.0 / rate : -rate});
        state.step = largest_difference(state.x, step.x);
        state.x = std::move(step.x);
        state.multiplier = step.multiplier;
        return report;
    }

    void walk(const Walk& /*w*/) override {} // multiplier and aim are the state's own

  private:
    // How far the Lagrangian's gradient is from zero in directions that are free, against that of the
    // compliance.
    double residual(const std::vector<double>& x, const std::vector<double>& benefit,
                    double multiplier) const {
        const auto sums = sums_of_blocks<2>(x.size(), [&](std::size_t from, std::size_t to) {
            std::array<double, 2> part{};
            for (std::size_t j = from; j < to; ++j) {
                const double sum = multiplier * linear_cost_[j] - benefit[j];
                const bool pinned =
                    (x[j] <= 1.01 * least_variable && sum > 0.0) || (x[j] >= 1.0 - 1e-6 && sum < 0.0);
                part[1] += std::abs(benefit[j]);
                if (!pinned) part[0] += std::abs(sum);
            }
            return part;
        });
        return sums[1] > 0.0 ? sums[0] / sums[1] : 0.0;
    }

    CriteriaStep less_material(const Schedule& now, double compliance, const std::vector<double>& benefit) {
        OptimizerState& state = tools_.state;
        // The step's expansion errs a little the same way every time; aiming off by what was missed makes up
        // for it.
        state.aim = std::clamp(state.aim * std::pow(limit_ / compliance, 0.4), 0.9, 1.02);
        return least_material_step({state.x, benefit, linear_cost_, now.move, state.multiplier}, compliance,
                                   limit_ * state.aim);
    }

    CriteriaStep less_compliance(const Schedule& now, const std::vector<double>& benefit) {
        OptimizerState& state = tools_.state;
        return criteria_step({state.x, benefit, linear_cost_, now.move, state.multiplier}, limit_,
                             kept_material_);
    }

    StepTools tools_;
    bool least_material_;
    double limit_ = 0.0;
    std::vector<bool> wanted_;
    std::vector<double> linear_cost_; // of each variable: without a projection the same in every design
    double kept_material_ = 0.0;
};

// No rule that makes material another than a linear function. One max alone, no min, sums and no largest of
// several cases; compliance and a linear measure; densities that stay gray, since with a projection the steps
// end in going to and fro.
bool fits(const Model& model, const Problem& problem) {
    if (model.run.sharpen || problem.bounds.size() != 1 || problem.bounds.front() == problem.goal ||
        problem.maximize)
        return false;
    const FormRules rules = form_rules(model.form);
    if (std::any_of(rules.asked.begin(), rules.asked.end(), [](const auto& rule) { return rule->links; }))
        return false;
    const ModelResponse& goal = model.responses[problem.goal];
    const ModelResponse& bound = model.responses[problem.bounds.front()];
    if (!bound.max || bound.min || goal.worst || bound.worst) return false;
    return (goal.measure->linear && bound.measure->compliance) ||
           (goal.measure->compliance && bound.measure->linear);
}

} // namespace

StepperKind criteria_stepper() {
    return {"optimality criteria", fits, [](const StepTools& tools) -> std::unique_ptr<Stepper> {
                return std::make_unique<Criteria>(tools);
            }};
}

} // namespace upright
