#include "optimize/run/local_steps.hpp"

#include "base/reduction.hpp"
#include "optimize/optimality_criteria.hpp"
#include "optimize/problem.hpp"

#include <algorithm>
#include <cmath>
#include <set>

namespace upright {

namespace {

// Of bumps: how far from the place, in radii of their own; how high. What is worth a step, as a share.
constexpr std::array<double, 6> distances{0.0, 0.5, 1.0, 1.6, 2.4, 3.4};
constexpr std::array<double, 8> heights{0.15, -0.15, 0.3, -0.3, 0.6, -0.6, 1.0, -1.0};
// Of steps down the slope: how far the variable moves that moves farthest.
constexpr std::array<double, 6> strides{0.02, 0.05, 0.1, 0.2, 0.4, 0.8};
constexpr std::array<double, 2> widths{1.0, 2.5}; // radii
constexpr std::size_t most_places = 16;
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

std::vector<Vec3> places_around(const Vec3& place, double radius, const std::vector<Vec3>& around) {
    std::vector<Vec3> out;
    for (const double distance : distances)
        for (std::size_t way = 0; way < (distance > 0.0 ? around.size() : 1); ++way)
            out.push_back(place + distance * radius * around[way]);
    return out;
}

// Where a bound has no place: middles of design elements from the steepest slope down, two radii apart.
std::vector<Vec3> steepest_places(const Model& model, const DesignChain& chain,
                                  const std::vector<double>& slope, double radius) {
    std::vector<Vec3> out;
    if (slope.empty()) return out;
    const double most = largest_over(slope.size(), 0.0, [&](std::size_t j) { return -slope[j]; });
    if (most <= 0.0) return out;
    std::vector<double> down(slope.size());
    for (std::size_t j = 0; j < down.size(); ++j) down[j] = std::max(0.0, -slope[j] / most);
    const std::vector<double> of_element = chain.field(down);
    std::vector<std::size_t> order;
    for (std::size_t e = 0; e < of_element.size(); ++e)
        if (of_element[e] > 0.0 && model.role(static_cast<ElementId>(e)) == Role::Design) order.push_back(e);
    std::stable_sort(order.begin(), order.end(),
                     [&](std::size_t a, std::size_t b) { return of_element[a] > of_element[b]; });
    for (const std::size_t e : order) {
        const Vec3& at = model.mesh.center(e);
        const bool near = std::any_of(out.begin(), out.end(),
                                      [&](const Vec3& other) { return (at - other).norm() < 2.0 * radius; });
        if (!near) out.push_back(at);
        if (out.size() >= most_places) break;
    }
    return out;
}

} // namespace

const Reading* worst_broken(const std::vector<Reading>& readings) {
    const Reading* out = nullptr;
    for (const Reading& r : readings)
        if (!r.holds && (out == nullptr || r.excess > out->excess)) out = &r;
    return out;
}

int looks_for_local_steps(const Model& model) {
    const double looks = std::min(most_looks_at_all, work / static_cast<double>(model.freedoms()));
    return looks < least_looks ? 0 : static_cast<int>(looks);
}

LocalSteps take_local_steps(const Model& model, const DesignChain& chain, std::vector<double> x,
                            double sharpness, const LocalLooks& looks) {
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
    out.made = looks.look(designs);
    ++out.looks;
    while (!out.made.feasible && out.looks < most) {
        const Reading* worst = worst_broken(out.made.readings);
        if (worst == nullptr) break;
        BlackAndWhite best = out.made;
        std::vector<double> best_x;
        const auto goes_on = [&] {
            out.stopped = out.stopped || looks.stop();
            return !out.stopped && out.looks < most && best.fault() > enough * out.made.fault();
        };
        const auto attempt = [&](const std::vector<double>& step, double height) {
            std::vector<double> trial = out.x;
            for (std::size_t j = 0; j < trial.size(); ++j)
                trial[j] = std::clamp(trial[j] + height * step[j], least_variable, 1.0);
            if (!is_new(trial)) return;
            ++out.looks;
            BlackAndWhite made = looks.look(designs);
            if (made.fault() > best.fault() - worth) return;
            best = std::move(made);
            best_x = std::move(trial);
        };
        const std::vector<double> slope = looks.slope(out.x, out.made);
        ++out.looks;
        const double steepest =
            largest_over(slope.size(), 0.0, [&](std::size_t j) { return std::abs(slope[j]); });
        for (const double stride : strides)
            if (steepest > 0.0 && goes_on()) attempt(slope, -stride / steepest);
        for (const double width : widths) {
            const double reach = width * radius;
            const std::vector<Vec3> middles = worst->at ? places_around(*worst->at, reach, around)
                                                        : steepest_places(model, chain, slope, reach);
            // Wider ones where no narrower one helps.
            for (std::size_t i = 0; i < middles.size() && goes_on(); ++i) {
                std::vector<double> bump(model.mesh.elements(), 0.0);
                for (std::size_t e = 0; e < bump.size(); ++e)
                    bump[e] = std::max(0.0, 1.0 - (model.mesh.center(e) - middles[i]).norm() / reach);
                const std::vector<double> step = chain.variables_of(bump);
                for (const double height : heights)
                    if (goes_on()) attempt(step, height);
            }
            if (!best_x.empty()) break;
        }
        if (best_x.empty() || out.stopped) break;
        out.x = std::move(best_x);
        out.made = std::move(best);
        ++out.taken;
    }
    return out;
}

} // namespace upright
