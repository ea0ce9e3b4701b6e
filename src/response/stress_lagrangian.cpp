#include "response/stress_lagrangian.hpp"

#include "base/reduction.hpp"
#include "response/stress_share.hpp"

#include <algorithm>
#include <cmath>

namespace upright {

namespace {

// mu to begin with, its growth every so many steps, its end.
constexpr double first_mu = 50.0, mu_growth = 1.3, most_mu = 1e4, mu_steps = 5.0;
// Black and white: by how much more stress an element is followed, what is kept of it from look to look, and
// how fast all together follow what is broken all the same.
constexpr double most_more = 2.0, kept_of_more = 0.8;
constexpr double all_power = 0.1, least_all_step = 0.98, most_all_step = 1.05;

// L (L^2 + 1) up to ten times the limit, beyond it its tangent: designs that have yet to form have stresses
// of any size. Multipliers grow as if a bound were broken by no more than `most_broken`.
constexpr double straight_from = 9.0, most_broken = 1.0;
struct Over {
    double value = 0.0, slope = 0.0;
};
Over cubic(double over) {
    if (over <= straight_from) return {over * (over * over + 1.0), 3.0 * over * over + 1.0};
    constexpr double slope = 3.0 * straight_from * straight_from + 1.0;
    return {straight_from * (straight_from * straight_from + 1.0) + slope * (over - straight_from), slope};
}

} // namespace

StressLagrangian::StressLagrangian(const Mesh& mesh, std::vector<std::size_t> element,
                                   std::vector<double> strength, double allowed, double alike)
    : mesh_(mesh), element_(std::move(element)), limit_(std::move(strength)), alike_(alike) {
    for (double& one : limit_) one *= allowed;
}

StressLagrangian::Terms StressLagrangian::terms(const std::vector<double>& stress,
                                                const std::vector<double>& stiffness, Memory& memory,
                                                const std::string& name, bool update) const {
    const std::size_t n = stress.size();
    std::vector<double>& lambda = memory.multipliers[name];
    const std::vector<double>& more = memory.multipliers[name + " made"];
    double& mu = memory.corrections[name + " price"];
    double& steps = memory.corrections[name + " steps"];
    const double all = std::max(1.0, memory.corrections[name + " made"]);
    if (lambda.size() != n) lambda.assign(n, 0.0);
    if (mu <= 0.0) mu = first_mu;
    const bool move = update && (steps += 1.0) >= mu_steps;
    const double mean = alike_ / std::max(alike_, static_cast<double>(total(static_cast<std::int64_t>(n))));
    Terms out;
    out.by_stress.assign(n, 0.0);
    out.by_stiffness.assign(n, 0.0);
    out.value = sum_over(n, [&](std::size_t k) {
        const double share = stiffness[element_[k]];
        const double to_limit = all * (more.size() == n ? more[k] : 1.0) / limit_[k];
        const Over over = cubic(stress[k] * to_limit - 1.0);
        const double g = share * over.value;
        const double h = std::max(g, -lambda[k] / mu);
        const double value = mean * (lambda[k] * h + 0.5 * mu * h * h);
        if (h == g) {
            const double of_g = mean * (lambda[k] + mu * h);
            out.by_stiffness[k] = of_g * over.value;
            out.by_stress[k] = of_g * share * over.slope * to_limit;
        }
        if (move) lambda[k] += mu * std::min(h, most_broken);
        return value;
    });
    out.by_limit = sum_over(n, [&](std::size_t k) {
        const double use = stress[k] * all * (more.size() == n ? more[k] : 1.0) / limit_[k];
        return mean * lambda[k] * stiffness[element_[k]] * cubic(use - 1.0).slope * use;
    });
    if (move) {
        mu = std::min(mu_growth * mu, most_mu);
        steps = 0.0;
    }
    return out;
}

// The largest of the neighbours as well: which cell of a stair bears most changes with every step.
void StressLagrangian::spread(std::vector<double>& ratio) const {
    std::vector<double> at_node(mesh_.nodes.size(), 1.0);
    for (std::size_t k = 0; k < ratio.size(); ++k)
        for (const NodeId n : mesh_.nodes_of(static_cast<ElementId>(element_[k])))
            at_node[index(n)] = std::max(at_node[index(n)], ratio[k]);
    for (std::size_t k = 0; k < ratio.size(); ++k)
        for (const NodeId n : mesh_.nodes_of(static_cast<ElementId>(element_[k])))
            ratio[k] = std::max(ratio[k], at_node[index(n)]);
}

void StressLagrangian::follow(const std::vector<double>& gray, const std::vector<double>& made,
                              const std::vector<double>& made_density, Memory& memory,
                              const std::string& name) const {
    const std::size_t n = made.size();
    const auto solid = [&](std::size_t k) { return made_density[element_[k]] > counted_density; };
    std::vector<double> ratio(n, 1.0);
    for (std::size_t k = 0; k < n; ++k)
        if (solid(k) && gray[k] > 0.0) ratio[k] = std::clamp(made[k] / gray[k], 1.0, most_more);
    spread(ratio);
    std::vector<double>& more = memory.multipliers[name + " made"];
    if (more.size() != n) more.assign(n, 1.0);
    for (std::size_t k = 0; k < n; ++k) more[k] = std::max(ratio[k], 1.0 + kept_of_more * (more[k] - 1.0));
    const double worst =
        largest_over(n, 0.0, [&](std::size_t k) { return solid(k) ? made[k] / limit_[k] : 0.0; });
    double& all = memory.corrections[name + " made"];
    all = std::max(1.0, std::max(all, 1.0) *
                            std::clamp(std::pow(worst, all_power), least_all_step, most_all_step));
}

} // namespace upright
