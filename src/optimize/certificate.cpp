#include "optimize/certificate.hpp"

#include "base/reduction.hpp"
#include "design/interpolation.hpp"
#include "optimize/optimality_criteria.hpp"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace upright {

namespace {

constexpr int most_iterations = 120;
constexpr int look_every = 5;
constexpr double good_gap = 2e-3;
constexpr double safety = 1e-6; // share that rounding and the solver may err by

class Relaxation {
  public:
    Relaxation(StaticAnalysis& analysis, const ModelResponse& compliance, const ModelResponse& material,
               bool least_material)
        : analysis_(analysis), model_(analysis.model()), compliance_(compliance),
          least_material_(least_material), weights_(linear_weights(analysis.model(), material)),
          limit_(*(least_material ? compliance.max : material.max)) {
        density_.assign(model_.mesh.elements(), 1.0);
        const auto is_free = [&](std::size_t e) {
            return model_.role(static_cast<ElementId>(e)) == Role::Design;
        };
        for (std::size_t e = 0; e < density_.size(); ++e)
            if (is_free(e)) free_.push_back(e);
        const double all =
            sum_over(density_.size(), [&](std::size_t e) { return is_free(e) ? weights_[e] : 0.0; });
        kept_ = sum_over(density_.size(), [&](std::size_t e) { return is_free(e) ? 0.0 : weights_[e]; });
        const double start = least_material ? 0.5 : std::clamp((limit_ - kept_) / all, least_variable, 1.0);
        for (const std::size_t e : free_) density_[e] = start;
        for (const CaseId c : model_.cases.ids()) {
            const ModelCase& card = model_.cases[c];
            const bool counts =
                std::find(compliance.cases.begin(), compliance.cases.end(), c) != compliance.cases.end();
            share_.push_back(!counts                                           ? 0.0
                             : compliance.worst || !compliance.in_case.empty() ? 1.0
                                                                               : card.weight);
        }
        if (compliance.worst) {
            double sum = 0.0; // of cases
            for (const double s : share_) sum += s;
            for (double& s : share_) s /= sum;
        }
    }

    void run(Certificate& out, Observer& observer, int most = most_iterations) {
        double multiplier = 1.0;
        std::vector<double> x(free_.size());
        for (std::size_t i = 0; i < x.size(); ++i) x[i] = density_[free_[i]];
        const auto count = static_cast<double>(std::max<std::size_t>(1, x.size()));
        std::vector<double> cost(x.size());
        for (std::size_t i = 0; i < x.size(); ++i) cost[i] = std::max(weights_[free_[i]], 1e-300);
        for (out.iterations = 1; out.iterations <= most; ++out.iterations) {
            const bool look = out.iterations % look_every == 0 || out.iterations == most;
            evaluate(look ? 1e-14 : 1e-7);
            if (look) {
                const double bound = lower_bound() * (1.0 - safety);
                const double relaxed = least_material_ ? material(x) : worst_;
                if (bound > out.bound) out.bound = bound;
                // Of least material only designs that meet the bound on compliance count.
                if (!least_material_ || value_ <= limit_ * (1.0 + 1e-3)) {
                    if (out.relaxed <= 0.0 || relaxed < out.relaxed) out.relaxed = relaxed;
                    if (out.bound > 0.0 && out.relaxed / out.bound - 1.0 < good_gap) break;
                }
                if (observer.stop_requested()) break;
            }
            if (out.iterations == most) break;
            std::vector<double> benefit(x.size());
            for (std::size_t i = 0; i < x.size(); ++i) benefit[i] = -gradient_[free_[i]];
            const CriteriaStep step =
                least_material_ ? least_material_step({x, benefit, cost, 0.2, multiplier}, value_, limit_)
                                : criteria_step({x, benefit, cost, 0.2, multiplier}, limit_, kept_);
            const double moved =
                sum_over(x.size(), [&](std::size_t i) { return std::abs(step.x[i] - x[i]); });
            x = step.x;
            multiplier = step.multiplier;
            for (std::size_t i = 0; i < x.size(); ++i) density_[free_[i]] = x[i];
            if (compliance_.worst) reweight();
            if (moved / count < 1e-7) out.iterations = std::max(out.iterations, most - 1);
        }
        out.iterations = std::min(out.iterations, most);
    }

  private:
    // Compliance of the weighted cases and its gradient at penalty 1.
    void evaluate(double energy) {
        Accuracy accuracy;
        accuracy.energy = energy;
        accuracy.warm = true;
        const std::vector<double> stiffness = stiffness_share(density_, 1.0);
        const std::vector<CaseResult> cases = analysis_.solve(stiffness, density_, accuracy);
        each_.assign(cases.size(), 0.0);
        gradient_.assign(density_.size(), 0.0);
        value_ = 0.0;
        worst_ = 0.0;
        for (std::size_t c = 0; c < cases.size(); ++c) {
            if (share_[c] <= 0.0) continue;
            each_[c] = cases[c].compliance;
            value_ += share_[c] * cases[c].compliance;
            worst_ = std::max(worst_, cases[c].compliance);
            const std::vector<double> unit = analysis_.unit_energy(cases[c].displacement);
            for (std::size_t e = 0; e < unit.size(); ++e)
                gradient_[e] -= share_[c] * (1.0 - least_stiffness) * unit[e];
        }
        if (!compliance_.worst) worst_ = value_;
    }

    // Towards the cases that are worse than the mean: any weights that add up to one give a lower bound.
    void reweight() {
        double sum = 0.0;
        for (std::size_t c = 0; c < share_.size(); ++c) {
            if (share_[c] > 0.0) share_[c] *= std::sqrt(each_[c] / std::max(value_, 1e-300));
            sum += share_[c];
        }
        for (double& s : share_) s /= sum;
    }

    double material(const std::vector<double>& x) const {
        return kept_ + sum_over(x.size(), [&](std::size_t i) { return weights_[free_[i]] * x[i]; });
    }

    double lower_bound() const {
        // Best use of material first.
        std::vector<std::size_t> order(free_.size());
        std::iota(order.begin(), order.end(), 0);
        const auto use = [&](std::size_t i) {
            return -gradient_[free_[i]] / std::max(weights_[free_[i]], 1e-300);
        };
        std::sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
            return use(a) > use(b) || (use(a) == use(b) && a < b);
        });
        double at_none = value_; // the tangent with no design material
        for (const std::size_t e : free_) at_none -= gradient_[e] * density_[e];
        if (least_material_) {
            double need = at_none - limit_;
            double sum = kept_;
            for (const std::size_t i : order) {
                if (need <= 0.0) break;
                const double gain = -gradient_[free_[i]];
                const double share = gain > 0.0 ? std::min(1.0, need / gain) : 1.0;
                need -= share * gain;
                sum += share * weights_[free_[i]];
            }
            return sum;
        }
        double left = limit_ - kept_;
        double out = at_none;
        for (const std::size_t i : order) {
            const double weight = weights_[free_[i]];
            const double share = weight > 0.0 ? std::clamp(left / weight, 0.0, 1.0) : 1.0;
            out += share * gradient_[free_[i]];
            left -= share * weight;
        }
        return out;
    }

    StaticAnalysis& analysis_;
    const Model& model_;
    const ModelResponse& compliance_;
    bool least_material_;
    std::vector<double> weights_;
    double limit_, kept_ = 0.0;
    std::vector<std::size_t> free_;
    std::vector<double> density_, share_, gradient_, each_;
    double value_ = 0.0, worst_ = 0.0;
};

// Why compliance is not convex in the densities; empty where it is.
std::string not_convex(const Model& model) {
    for (const ModelLoad& load : model.loads)
        if (load.of_body() || load.heat != 0.0)
            return "loads that depend on the design make the relaxed problem not convex";
    for (const ModelSupport& support : model.supports)
        if (support.moves()) return "supports that move make the relaxed problem not convex";
    return {};
}

} // namespace

double least_compliance(StaticAnalysis& analysis, const ModelResponse& compliance,
                        const ModelResponse& material, Observer& observer) {
    if (!not_convex(analysis.model()).empty()) return 0.0;
    constexpr int few = 10;
    Certificate out;
    Relaxation(analysis, compliance, material, false).run(out, observer, few);
    return out.bound;
}

Certificate certify(StaticAnalysis& analysis, double goal, Observer& observer) {
    Certificate out;
    const Model& model = analysis.model();
    const Problem problem = make_problem(model);
    const ModelResponse& goal_card = model.responses[problem.goal];
    const ModelResponse* other = nullptr;
    for (const std::size_t r : problem.bounds) {
        const ModelResponse& bound = model.responses[r];
        const bool fits =
            problem.compliance_goal ? of_material(bound) : bound.measure->compliance && !bound.worst;
        if (fits && bound.max && other == nullptr) other = &bound;
    }
    if (!problem.compliance_goal && !problem.material_goal)
        out.not_served = "the goal is neither compliance nor material";
    else if (other == nullptr)
        out.not_served =
            problem.compliance_goal ? "no max bounds the material" : "no max bounds a compliance";
    if (out.not_served.empty()) out.not_served = not_convex(analysis.model());
    if (!out.not_served.empty()) return out;
    Relaxation relaxation(analysis, problem.compliance_goal ? goal_card : *other,
                          problem.compliance_goal ? *other : goal_card, !problem.compliance_goal);
    relaxation.run(out, observer);
    if (out.bound <= 0.0) {
        out.not_served = "the relaxed problem gave no bound";
        return out;
    }
    out.gap = out.relaxed > 0.0 ? out.relaxed / out.bound - 1.0 : 0.0;
    out.distance = goal / out.bound - 1.0;
    return out;
}

} // namespace upright
