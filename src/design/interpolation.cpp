#include "design/interpolation.hpp"

#include "base/blocks.hpp"
#include "base/elementary.hpp"
#include "base/instruction_sets.hpp"
#include "base/reduction.hpp"

#include <cmath>

namespace upright {

namespace {

// Share and slope of a range. The usual penalties need no logarithm.
UPRIGHT_CLONES void interpolate_part(const double* density, std::size_t count, double penalty, double* share,
                                     double* slope) {
    constexpr double rest = 1.0 - least_stiffness;
    if (penalty == 1.0) {
        for (std::size_t e = 0; e < count; ++e) {
            share[e] = least_stiffness + density[e] * rest;
            slope[e] = rest;
        }
    } else if (penalty == 2.0) {
        for (std::size_t e = 0; e < count; ++e) {
            share[e] = least_stiffness + density[e] * density[e] * rest;
            slope[e] = 2.0 * density[e] * rest;
        }
    } else if (penalty == 3.0) {
        for (std::size_t e = 0; e < count; ++e) {
            const double square = density[e] * density[e];
            share[e] = least_stiffness + square * density[e] * rest;
            slope[e] = 3.0 * square * rest;
        }
    } else {
        for (std::size_t e = 0; e < count; ++e) {
            const double less = power_of(density[e], penalty - 1.0);
            share[e] = least_stiffness + less * density[e] * rest;
            slope[e] = penalty * less * rest;
        }
    }
}

} // namespace

void interpolate_stiffness(const std::vector<double>& density, double penalty, std::vector<double>& share,
                           std::vector<double>& slope) {
    share.resize(density.size());
    slope.resize(density.size());
    each_block(density.size(), [&](std::size_t from, std::size_t to) {
        interpolate_part(density.data() + from, to - from, penalty, share.data() + from, slope.data() + from);
    });
}

std::vector<double> stiffness_share(const std::vector<double>& density, double penalty) {
    std::vector<double> share;
    std::vector<double> slope;
    interpolate_stiffness(density, penalty, share, slope);
    return share;
}

std::vector<double> modal_mass_share(const std::vector<double>& density) {
    std::vector<double> out(density.size());
    for (std::size_t e = 0; e < density.size(); ++e) {
        const double d = density[e];
        // Continuous in value and slope at 0.1.
        out[e] = d >= 0.1 ? d : 6e5 * std::pow(d, 6) - 5e6 * std::pow(d, 7);
    }
    return out;
}

std::vector<double> modal_mass_slope(const std::vector<double>& density) {
    std::vector<double> out(density.size());
    for (std::size_t e = 0; e < density.size(); ++e) {
        const double d = density[e];
        out[e] = d >= 0.1 ? 1.0 : 3.6e6 * std::pow(d, 5) - 3.5e7 * std::pow(d, 6);
    }
    return out;
}

void interpolate_buckling_stress(const std::vector<double>& density, double penalty,
                                 std::vector<double>& share, std::vector<double>& slope) {
    share = modal_mass_share(density);
    slope = modal_mass_slope(density);
    for (std::size_t e = 0; e < density.size(); ++e) {
        const double d = density[e];
        const double power = d > 0.0 ? std::pow(d, penalty - 1.0) : penalty == 1.0 ? 1.0 : 0.0;
        slope[e] = power * slope[e] + (d > 0.0 ? (penalty - 1.0) * power / d * share[e] : 0.0);
        share[e] *= power;
    }
}

double grayness(const std::vector<double>& density, const std::vector<bool>& counted) {
    const auto sums = sums_of_blocks<2>(density.size(), [&](std::size_t from, std::size_t to) {
        std::array<double, 2> part{};
        for (std::size_t e = from; e < to; ++e) {
            const double weight = counted[e] ? 1.0 : 0.0;
            part[0] += weight;
            part[1] += weight * density[e] * (1.0 - density[e]);
        }
        return part;
    });
    return sums[0] > 0.0 ? 4.0 * sums[1] / sums[0] : 0.0;
}

} // namespace upright
