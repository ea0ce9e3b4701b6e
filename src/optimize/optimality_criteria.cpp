#include "optimize/optimality_criteria.hpp"

#include <algorithm>
#include <cmath>

namespace upright {

namespace {

constexpr double tolerance = 1e-10; // of the limit
constexpr int most_steps = 200;

std::vector<double> stepped(const std::vector<double>& x, const std::vector<double>& benefit,
                            const std::vector<double>& cost, double multiplier, double move) {
    std::vector<double> out(x.size());
    for (std::size_t i = 0; i < x.size(); ++i) {
        const double ratio = std::max(0.0, benefit[i]) / (multiplier * std::max(cost[i], 1e-300));
        const double wish = x[i] * std::sqrt(ratio);
        out[i] = std::min(std::min(1.0, x[i] + move), std::max(std::max(least_variable, x[i] - move), wish));
    }
    return out;
}

// Finds the multiplier at which `excess` (which does not increase with it) is zero: bracket by factors, then
// bisect in the logarithm, with a secant step wherever that falls inside.
double find_multiplier(const std::function<double(double)>& excess, double start, double scale, bool& met) {
    met = true;
    double low = start > 0.0 && std::isfinite(start) ? start : 1.0; // excess above zero here
    double high = low;
    double f_low = excess(low);
    double f_high = f_low;
    for (int i = 0; f_low < 0.0; ++i) {
        if (i > most_steps) return met = true, low; // no multiplier is small enough: all bounds are slack
        high = low;
        f_high = f_low;
        low /= 4.0;
        f_low = excess(low);
    }
    for (int i = 0; f_high > 0.0; ++i) {
        if (i > most_steps) return met = false, high;
        low = high;
        f_low = f_high;
        high *= 4.0;
        f_high = excess(high);
    }
    for (int i = 0; i < most_steps && high > low * (1.0 + 1e-15); ++i) {
        const double a = std::log(low);
        const double b = std::log(high);
        double middle = 0.5 * (a + b);
        if (i % 2 == 1 && f_low > f_high) {
            const double secant = a + (b - a) * f_low / (f_low - f_high);
            if (secant > a && secant < b) middle = secant;
        }
        const double at = std::exp(middle);
        const double f = excess(at);
        if (std::abs(f) <= tolerance * scale) return at;
        (f > 0.0 ? low : high) = at;
        (f > 0.0 ? f_low : f_high) = f;
    }
    return high;
}

} // namespace

CriteriaStep criteria_step(const std::vector<double>& x, const std::vector<double>& benefit,
                           const std::vector<double>& cost,
                           const std::function<double(const std::vector<double>&)>& material, double limit,
                           double move, double multiplier) {
    CriteriaStep out;
    const auto excess = [&](double m) { return material(stepped(x, benefit, cost, m, move)) - limit; };
    out.multiplier = find_multiplier(excess, multiplier, std::abs(limit), out.met);
    out.x = stepped(x, benefit, cost, out.multiplier, move);
    return out;
}

CriteriaStep least_material_step(const std::vector<double>& x, const std::vector<double>& benefit,
                                 const std::vector<double>& cost, double compliance, double limit,
                                 double move, double multiplier) {
    CriteriaStep out;
    // More material, less compliance: the excess grows with the multiplier, so the search runs on its
    // inverse.
    const auto excess = [&](double inverse) {
        const std::vector<double> next = stepped(x, benefit, cost, 1.0 / inverse, move);
        double value = compliance;
        for (std::size_t i = 0; i < x.size(); ++i)
            value += std::max(0.0, benefit[i]) * x[i] * (x[i] / next[i] - 1.0);
        return value - limit;
    };
    const double inverse = find_multiplier(excess, 1.0 / multiplier, std::abs(limit), out.met);
    out.multiplier = 1.0 / inverse;
    out.x = stepped(x, benefit, cost, out.multiplier, move);
    return out;
}

} // namespace upright
