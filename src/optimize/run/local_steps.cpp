#include "optimize/run/local_steps.hpp"

#include "optimize/optimality_criteria.hpp"
#include "optimize/problem.hpp"

#include <algorithm>
#include <cmath>
#include <set>

namespace upright {

namespace {

// Of bumps: how far from the place, in radii of the filter; how high. What is worth a step, as a share.
constexpr std::array<double, 6> distances{0.0, 0.5, 1.0, 1.6, 2.4, 3.4};
constexpr std::array<double, 8> heights{0.15, -0.15, 0.3, -0.3, 0.6, -0.6, 1.0, -1.0};
constexpr double worth = 1e-5;
constexpr double enough = 0.7; // of the excess before: a round ends with a bump that leaves no more
constexpr double least_looks = 100.0, most_looks_at_all = 600.0, work = 1.6e7; // freedoms times looks

// Unit vectors, evenly around: eight in the plane, to faces and corners of a cube in space.
std::vector<Vec3> ways(bool plane) {
    std::vector<Vec3> out;
    for (int i = -1; i <= 1; ++i)
        for (int j = -1; j <= 1; ++j)
            for (int k = -1; k <= 1; ++k) {
                const int along = std::abs(i) + std::abs(j) + std::abs(k);
                if (plane ? k == 0 && along > 0 : along == 1 || along == 3)
                    out.push_back(Vec3(i, j, k).normalized());
            }
    return out;
}

const Reading* worst_of(const std::vector<Reading>& readings) {
    const Reading* out = nullptr;
    for (const Reading& r : readings)
        if (!r.holds && (out == nullptr || r.excess > out->excess)) out = &r;
    return out;
}

} // namespace

int looks_for_local_steps(const Model& model) {
    const double looks = std::min(most_looks_at_all, work / static_cast<double>(model.freedoms()));
    return looks < least_looks ? 0 : static_cast<int>(looks);
}

LocalSteps take_local_steps(const Model& model, const DesignChain& chain, std::vector<double> x,
                            double sharpness,
                            const std::function<BlackAndWhite(const ThreeDesigns& designs)>& look) {
    const double radius = filter_radius(model);
    const std::vector<Vec3> around = ways(model.mesh.dimension() == 2);
    const int most = looks_for_local_steps(model);
    LocalSteps out;
    ThreeDesigns designs;
    // Designs that were looked at: which elements are dense.
    std::set<std::vector<bool>> seen;
    const auto is_new = [&](const std::vector<double>& of) {
        chain.made(of, sharpness, designs);
        std::vector<bool> dense(designs.drawn.size());
        for (std::size_t e = 0; e < dense.size(); ++e) dense[e] = designs.drawn[e] > 0.5;
        return seen.insert(std::move(dense)).second;
    };
    is_new(x);
    out.x = std::move(x);
    out.made = look(designs);
    ++out.looks;
    while (!out.made.feasible && out.looks < most) {
        const Reading* worst = worst_of(out.made.readings);
        if (worst == nullptr || !worst->at) break;
        BlackAndWhite best = out.made;
        std::vector<double> best_x;
        const auto goes_on = [&] { return out.looks < most && best.fault() > enough * out.made.fault(); };
        for (const double distance : distances)
            for (std::size_t way = 0; way < (distance > 0.0 ? around.size() : 1) && goes_on(); ++way) {
                const Vec3 middle = *worst->at + distance * radius * around[way];
                std::vector<double> bump(model.mesh.elements(), 0.0);
                for (std::size_t e = 0; e < bump.size(); ++e)
                    bump[e] = std::max(0.0, 1.0 - (model.mesh.centers[e] - middle).norm() / radius);
                const std::vector<double> step = chain.variables_of(bump);
                for (const double height : heights) {
                    if (!goes_on()) break;
                    std::vector<double> trial = out.x;
                    for (std::size_t j = 0; j < trial.size(); ++j)
                        trial[j] = std::clamp(trial[j] + height * step[j], least_variable, 1.0);
                    if (!is_new(trial)) continue;
                    ++out.looks;
                    BlackAndWhite made = look(designs);
                    if (made.fault() > best.fault() - worth) continue;
                    best = std::move(made);
                    best_x = std::move(trial);
                }
            }
        if (best_x.empty()) break;
        out.x = std::move(best_x);
        out.made = std::move(best);
        ++out.taken;
    }
    return out;
}

} // namespace upright
