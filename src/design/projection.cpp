#include "design/projection.hpp"

#include "base/blocks.hpp"
#include "base/elementary.hpp"
#include "base/instruction_sets.hpp"
#include "base/reduction.hpp"

#include <algorithm>
#include <cmath>

namespace upright {

namespace {

// Sharpness below this keeps the argument of exp within its range, whatever the threshold.
constexpr double most_sharpness = 350.0;

// tanh(s t) + tanh(s (x - t)) over tanh(s t) + tanh(s (1 - t)); of 0 and 1 rounding may lead a hair out of
// their range, where roots of densities are no numbers.
struct Curve {
    Curve(double sharpness, double threshold)
        : low(hyperbolic_tangent(sharpness * threshold)),
          scale(1.0 / (low + hyperbolic_tangent(sharpness * (1.0 - threshold)))) {}
    double low, scale;
};

UPRIGHT_CLONES void project_part(const double* density, std::size_t count, double sharpness, double threshold,
                                 double* out) {
    const Curve curve(sharpness, threshold);
    for (std::size_t i = 0; i < count; ++i)
        out[i] = std::clamp(
            curve.scale * (curve.low + hyperbolic_tangent(sharpness * (density[i] - threshold))), 0.0, 1.0);
}

UPRIGHT_CLONES double sum_part(const double* density, const double* weights, std::size_t count,
                               double sharpness) {
    const double half = hyperbolic_tangent(0.5 * sharpness);
    const double scale = 0.5 / half;
    double sum = 0.0;
#pragma omp simd reduction(+ : sum)
    for (std::size_t i = 0; i < count; ++i)
        sum += weights[i] * scale * (half + hyperbolic_tangent(sharpness * (density[i] - 0.5)));
    return sum;
}

UPRIGHT_CLONES void slope_part(const double* density, std::size_t count, double sharpness, double threshold,
                               const double* value, double* out) {
    const double factor = sharpness * Curve(sharpness, threshold).scale;
    for (std::size_t i = 0; i < count; ++i) {
        const double t = hyperbolic_tangent(sharpness * (density[i] - threshold));
        out[i] = value[i] * factor * (1.0 - t * t);
    }
}

} // namespace

double project(double density, double sharpness, double threshold) {
    if (sharpness <= 0.0) return density;
    const double low = std::tanh(sharpness * threshold);
    return (low + std::tanh(sharpness * (density - threshold))) /
           (low + std::tanh(sharpness * (1.0 - threshold)));
}

double project_slope(double density, double sharpness, double threshold) {
    if (sharpness <= 0.0) return 1.0;
    const double t = std::tanh(sharpness * (density - threshold));
    return sharpness * (1.0 - t * t) /
           (std::tanh(sharpness * threshold) + std::tanh(sharpness * (1.0 - threshold)));
}

void project_all(const std::vector<double>& filtered, double sharpness, std::vector<double>& out,
                 double threshold) {
    if (sharpness <= 0.0) return copy_by_blocks(filtered, out);
    out.resize(filtered.size());
    const double used = std::min(sharpness, most_sharpness);
    each_block(filtered.size(), [&](std::size_t from, std::size_t to) {
        project_part(filtered.data() + from, to - from, used, threshold, out.data() + from);
    });
}

double projected_sum(const std::vector<double>& filtered, double sharpness,
                     const std::vector<double>& weights) {
    if (sharpness <= 0.0) return weighted_sum(filtered, weights);
    const double used = std::min(sharpness, most_sharpness);
    return sum_of_blocks(filtered.size(), [&](std::size_t from, std::size_t to) {
        return sum_part(filtered.data() + from, weights.data() + from, to - from, used);
    });
}

void multiply_by_slope(const std::vector<double>& filtered, double sharpness,
                       const std::vector<double>& values, std::vector<double>& out, double threshold) {
    if (sharpness <= 0.0) return copy_by_blocks(values, out);
    out.resize(values.size());
    const double used = std::min(sharpness, most_sharpness);
    each_block(filtered.size(), [&](std::size_t from, std::size_t to) {
        slope_part(filtered.data() + from, to - from, used, threshold, values.data() + from,
                   out.data() + from);
    });
}

} // namespace upright
