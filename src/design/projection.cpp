#include "design/projection.hpp"

#include "base/blocks.hpp"
#include "base/elementary.hpp"
#include "base/instruction_sets.hpp"
#include "base/reduction.hpp"

#include <algorithm>
#include <cmath>

namespace upright {

namespace {

// Sharpness below this keeps the argument of exp within its range.
constexpr double most_sharpness = 600.0;

UPRIGHT_CLONES void project_part(const double* density, std::size_t count, double sharpness, double* out) {
    const double half = hyperbolic_tangent(0.5 * sharpness);
    const double scale = 0.5 / half;
    for (std::size_t i = 0; i < count; ++i)
        out[i] = scale * (half + hyperbolic_tangent(sharpness * (density[i] - 0.5)));
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

UPRIGHT_CLONES void slope_part(const double* density, std::size_t count, double sharpness,
                               const double* value, double* out) {
    const double factor = 0.5 * sharpness / hyperbolic_tangent(0.5 * sharpness);
    for (std::size_t i = 0; i < count; ++i) {
        const double t = hyperbolic_tangent(sharpness * (density[i] - 0.5));
        out[i] = value[i] * factor * (1.0 - t * t);
    }
}

} // namespace

double project(double density, double sharpness) {
    if (sharpness <= 0.0) return density;
    const double half = std::tanh(0.5 * sharpness);
    return (half + std::tanh(sharpness * (density - 0.5))) / (2.0 * half);
}

double project_slope(double density, double sharpness) {
    if (sharpness <= 0.0) return 1.0;
    const double t = std::tanh(sharpness * (density - 0.5));
    return sharpness * (1.0 - t * t) / (2.0 * std::tanh(0.5 * sharpness));
}

void project_all(const std::vector<double>& filtered, double sharpness, std::vector<double>& out) {
    if (sharpness <= 0.0) return copy_by_blocks(filtered, out);
    out.resize(filtered.size());
    const double used = std::min(sharpness, most_sharpness);
    each_block(filtered.size(), [&](std::size_t from, std::size_t to) {
        project_part(filtered.data() + from, to - from, used, out.data() + from);
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
                       const std::vector<double>& values, std::vector<double>& out) {
    if (sharpness <= 0.0) return copy_by_blocks(values, out);
    out.resize(values.size());
    const double used = std::min(sharpness, most_sharpness);
    each_block(filtered.size(), [&](std::size_t from, std::size_t to) {
        slope_part(filtered.data() + from, to - from, used, values.data() + from, out.data() + from);
    });
}

} // namespace upright
