#include "optimize/run/black_and_white.hpp"

#include "base/reduction.hpp"

#include <algorithm>
#include <cmath>

namespace upright {

namespace {

// Nothing is cut closer to black or white.
constexpr double lowest = 0.02, highest = 0.98, middle = 0.5;
constexpr double most_in_void = 0.01;
constexpr int most_looks = 6; // analyses

// Displacements to about 1e-5, frequencies to 1e-4: far within the tolerance of bounds.
MeasureAccuracy close_look() {
    MeasureAccuracy out;
    out.statics.energy = 1e-10;
    out.modals.tolerance = 1e-3;
    out.modals.masses = false;
    out.statics.warm = true;
    out.modals.warm = true;
    return out;
}

} // namespace

bool BlackAndWhite::carries() const {
    return std::all_of(in_void.begin(), in_void.end(), [](double share) { return share <= most_in_void; });
}

double BlackAndWhite::fault() const {
    return carries() ? std::max(0.0, most_broken) : 1e300;
}

double goal_of(const Problem& problem, const std::vector<Column>& columns,
               const std::vector<Reading>& readings) {
    double out = 0.0;
    bool any = false;
    for (std::size_t c = 0; c < columns.size(); ++c) {
        if (columns[c].response != problem.goal) continue;
        const double value = readings[c].value;
        if (!any || (problem.maximize ? value < out : value > out)) out = value;
        any = true;
    }
    return out;
}

BlackAndWhiteLook::BlackAndWhiteLook(const Model& model, const Problem& problem, DesignMeasures& measures)
    : model_(model), problem_(problem), measures_(measures) {
    for (std::size_t e = 0; e < model.mesh.elements(); ++e)
        design_.push_back(model.role(static_cast<ElementId>(e)) == Role::Design);
    for (const std::size_t r : problem.bounds) {
        const ModelResponse& bound = model.responses[r];
        if (of_material(bound)) material_.push_back(&bound);
    }
}

double BlackAndWhiteLook::material(const std::vector<double>& weights, const std::vector<double>& density,
                                   double threshold) const {
    return sum_over(density.size(),
                    [&](std::size_t e) { return !design_[e] || density[e] > threshold ? weights[e] : 0.0; });
}

std::array<double, 2> BlackAndWhiteLook::range(const std::vector<double>& density) const {
    std::array<double, 2> out{lowest, highest};
    // Half of the tolerance is left to what is rounded.
    std::vector<double> weights;
    const auto fits_at = [&](double limit, double threshold, bool above) {
        const double value = material(weights, density, threshold);
        const double room = 0.5 * bound_tolerance * std::abs(limit);
        return above ? value <= limit + room : value >= limit - room;
    };
    const auto halve = [&](double limit, double fits, double breaks, bool above) {
        for (int i = 0; i < 40; ++i) {
            const double mid = 0.5 * (fits + breaks);
            (fits_at(limit, mid, above) ? fits : breaks) = mid;
        }
        return fits;
    };
    for (const ModelResponse* bound : material_) {
        weights = linear_weights(model_, *bound);
        if (bound->max && !fits_at(*bound->max, out[0], true))
            out[0] = halve(*bound->max, highest, out[0], true);
        if (bound->min && !fits_at(*bound->min, out[1], false))
            out[1] = halve(*bound->min, lowest, out[1], false);
    }
    return out;
}

std::vector<double> BlackAndWhiteLook::gaps(const std::vector<double>& density, double low,
                                            double high) const {
    std::vector<double> levels;
    for (std::size_t e = 0; e < density.size(); ++e)
        if (design_[e] && density[e] > low && density[e] <= high) levels.push_back(density[e]);
    std::sort(levels.begin(), levels.end());
    levels.erase(std::unique(levels.begin(), levels.end()), levels.end());
    // That of the middle stands for its gap, so that it is found there.
    const auto within = [](double from, double to) {
        return middle >= from && middle < to ? middle : 0.5 * (from + to);
    };
    std::vector<double> out{low};
    for (std::size_t i = 0; i + 1 < levels.size(); ++i) out.push_back(within(levels[i], levels[i + 1]));
    if (!levels.empty()) out.push_back(middle >= levels.back() && middle < high ? middle : high);
    return out;
}

double BlackAndWhiteLook::nearest_middle(const std::vector<double>& density, double threshold) const {
    double below = 0.0;
    double above = 1.0;
    for (std::size_t e = 0; e < density.size(); ++e) {
        if (!design_[e]) continue;
        if (density[e] > threshold)
            above = std::min(above, density[e]);
        else
            below = std::max(below, density[e]);
    }
    if (above <= below) return threshold;
    // Strictly below the densest neighbour, so that the same elements are solid.
    return std::clamp(middle, below, below + 0.999 * (above - below));
}

BlackAndWhite BlackAndWhiteLook::cut(const ThreeDesigns& designs, double asked,
                                     const MeasureAccuracy& accuracy) const {
    const std::vector<double>& density = designs.drawn;
    BlackAndWhite out;
    const double threshold = nearest_middle(density, asked);
    out.threshold = threshold;
    const auto made = [&](const std::vector<double>& from) {
        std::vector<double> to(from.size());
        for (std::size_t e = 0; e < from.size(); ++e)
            to[e] = !design_[e] ? from[e] : from[e] > threshold ? 1.0 : 0.0;
        return to;
    };
    out.density = made(density);
    out.thin = made(designs.thin);
    out.thick = made(designs.thick);
    measures_.analyse(out.designs(), 1.0, accuracy);
    out.readings = measures_.readings();
    out.goal = goal_of(problem_, measures_.columns(), out.readings);
    for (const Reading& r : out.readings) out.most_broken = std::max(out.most_broken, r.excess);
    take_paths(out);
    out.feasible = out.carries() && std::all_of(out.readings.begin(), out.readings.end(),
                                                [](const Reading& r) { return r.holds; });
    return out;
}

// Where loads come to the supports through solid material next to nothing of the energy is in the void.
void BlackAndWhiteLook::take_paths(BlackAndWhite& out) const {
    const DesignState& state = measures_.state();
    std::vector<double> energy;
    const std::vector<double>& solid = out.thin.empty() ? out.density : out.thin;
    for (const CaseId c : model_.cases.ids()) {
        const Eigen::VectorXd& u = state.displacement(c);
        state.statics().unit_energy(u, &u, energy);
        const auto sums = sums_of_blocks<2>(energy.size(), [&](std::size_t from, std::size_t to) {
            std::array<double, 2> part{};
            for (std::size_t e = from; e < to; ++e) {
                const double one = state.stiffness()[e] * energy[e];
                part[1] += one;
                if (solid[e] <= 0.0) part[0] += one;
            }
            return part;
        });
        out.in_void.push_back(sums[1] > 0.0 ? sums[0] / sums[1] : 0.0);
    }
}

void BlackAndWhiteLook::keep_better(BlackAndWhite& best, BlackAndWhite other) const {
    bool better = !best.there() || (other.feasible && !best.feasible);
    if (other.feasible == best.feasible && best.there())
        better = !best.feasible      ? other.fault() < best.fault()
                 : problem_.maximize ? other.goal > best.goal
                                     : other.goal < best.goal;
    if (better) best = std::move(other);
}

BlackAndWhite BlackAndWhiteLook::quick(const ThreeDesigns& designs, const MeasureAccuracy& accuracy) const {
    const auto [low, high] = range(designs.drawn);
    return cut(designs, std::clamp(middle, low, std::max(low, high)), accuracy);
}

BlackAndWhite BlackAndWhiteLook::best(const ThreeDesigns& designs) const {
    const std::vector<double>& density = designs.drawn;
    auto [low, high] = range(density);
    high = std::max(low, high);
    BlackAndWhite out;
    if (!problem_.material_goal) {
        // As much material as may be; where that does not hold, others.
        const bool bounded = low > lowest;
        std::vector<double> tried;
        for (const double t : {bounded ? low : middle, middle, 0.3, 0.7}) {
            const double at = std::clamp(t, low, high);
            if (std::find(tried.begin(), tried.end(), at) != tried.end()) continue;
            tried.push_back(at);
            keep_better(out, cut(designs, at, close_look()));
            if (out.feasible) break;
        }
        return out;
    }
    // As little as may be: halving the gaps between densities, from the middle on.
    const std::vector<double> all = gaps(density, low, high);
    std::size_t holds = 0; // the first may yet turn out not to
    std::size_t breaks = all.size();
    std::size_t at = static_cast<std::size_t>(
        std::upper_bound(all.begin(), all.end(), std::clamp(middle, low, high)) - all.begin() - 1);
    for (int look = 0; look < most_looks; ++look) {
        BlackAndWhite one = cut(designs, all[at], close_look());
        const bool feasible = one.feasible;
        keep_better(out, std::move(one));
        if (feasible)
            holds = at + 1;
        else
            breaks = at;
        if (holds >= breaks) break;
        // The last look is for one that holds.
        at = look + 2 == most_looks && !out.feasible ? holds : (holds + breaks) / 2;
    }
    return out;
}

} // namespace upright
