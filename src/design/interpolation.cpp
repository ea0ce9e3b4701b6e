#include "design/interpolation.hpp"

#include "base/sums.hpp"

#include <cmath>

namespace upright {

namespace {

// x^p; the usual penalties need no logarithm.
double power(double x, double p) {
    if (p == 1.0) return x;
    if (p == 2.0) return x * x;
    if (p == 3.0) return x * x * x;
    return p == 0.0 ? 1.0 : std::pow(x, p);
}

} // namespace

std::vector<double> stiffness_share(const std::vector<double>& density, double penalty) {
    std::vector<double> out(density.size());
#pragma omp parallel for schedule(static)
    for (std::size_t e = 0; e < density.size(); ++e)
        out[e] = least_stiffness + power(density[e], penalty) * (1.0 - least_stiffness);
    return out;
}

std::vector<double> stiffness_slope(const std::vector<double>& density, double penalty) {
    std::vector<double> out(density.size());
#pragma omp parallel for schedule(static)
    for (std::size_t e = 0; e < density.size(); ++e)
        out[e] = penalty * power(density[e], penalty - 1.0) * (1.0 - least_stiffness);
    return out;
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

double grayness(const std::vector<double>& density, const std::vector<bool>& counted) {
    const auto sum = [&](auto&& value) {
        return sum_of_blocks(density.size(), [&](std::size_t from, std::size_t to) {
            double part = 0.0;
            for (std::size_t e = from; e < to; ++e) part += counted[e] ? value(density[e]) : 0.0;
            return part;
        });
    };
    const double count = sum([](double /*d*/) { return 1.0; });
    return count > 0.0 ? 4.0 * sum([](double d) { return d * (1.0 - d); }) / count : 0.0;
}

} // namespace upright
