#include "design/projection.hpp"

#include "base/instruction_sets.hpp"

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <cstring>

namespace upright {

namespace {

// exp for arguments of moderate size, to a few units in the last place, in operations that vectorise: powers
// of two by the exponent's bits, the rest by its Taylor series on |r| <= ln 2 / 2.
inline __attribute__((always_inline)) double exponential(double x) {
    constexpr double magic = 6755399441055744.0; // 1.5 * 2^52: its sum with a number rounds to a whole one
    const double shifted = x * 1.4426950408889634 + magic;
    const double k = shifted - magic;
    const double r = (x - k * 0.693147180369123816490) - k * 1.90821492927058770002e-10;
    double p = 1.0 / 6227020800.0;
    p = p * r + 1.0 / 479001600.0;
    p = p * r + 1.0 / 39916800.0;
    p = p * r + 1.0 / 3628800.0;
    p = p * r + 1.0 / 362880.0;
    p = p * r + 1.0 / 40320.0;
    p = p * r + 1.0 / 5040.0;
    p = p * r + 1.0 / 720.0;
    p = p * r + 1.0 / 120.0;
    p = p * r + 1.0 / 24.0;
    p = p * r + 1.0 / 6.0;
    p = p * r + 0.5;
    p = p * r + 1.0;
    p = p * r + 1.0;
    std::uint64_t bits = 0;
    std::memcpy(&bits, &shifted, sizeof bits);
    std::uint64_t power = (bits + 1023U) << 52U;
    double scale = 0.0;
    std::memcpy(&scale, &power, sizeof scale);
    return p * scale;
}

inline __attribute__((always_inline)) double tangent(double x) {
    return 1.0 - 2.0 / (exponential(2.0 * x) + 1.0);
}

// Sharpness below this keeps the argument of exp within its range.
constexpr double most_sharpness = 600.0;

UPRIGHT_CLONES void project_part(double* density, std::size_t count, double sharpness) {
    const double half = tangent(0.5 * sharpness);
    const double scale = 0.5 / half;
    for (std::size_t i = 0; i < count; ++i)
        density[i] = scale * (half + tangent(sharpness * (density[i] - 0.5)));
}

UPRIGHT_CLONES void slope_part(const double* density, std::size_t count, double sharpness, double* value) {
    const double factor = 0.5 * sharpness / tangent(0.5 * sharpness);
    for (std::size_t i = 0; i < count; ++i) {
        const double t = tangent(sharpness * (density[i] - 0.5));
        value[i] *= factor * (1.0 - t * t);
    }
}

constexpr std::size_t part = 4096;

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

void project_all(std::vector<double>& densities, double sharpness) {
    if (sharpness <= 0.0) return;
    const double used = std::min(sharpness, most_sharpness);
#pragma omp parallel for schedule(static)
    for (std::size_t from = 0; from < densities.size(); from += part)
        project_part(densities.data() + from, std::min(part, densities.size() - from), used);
}

void multiply_by_slope(const std::vector<double>& densities, double sharpness, std::vector<double>& values) {
    if (sharpness <= 0.0) return;
    const double used = std::min(sharpness, most_sharpness);
#pragma omp parallel for schedule(static)
    for (std::size_t from = 0; from < densities.size(); from += part)
        slope_part(densities.data() + from, std::min(part, densities.size() - from), used,
                   values.data() + from);
}

} // namespace upright
