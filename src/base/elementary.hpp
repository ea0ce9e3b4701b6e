// Elementary functions in operations that vectorise, to a few units in the last place.
#pragma once

#include <algorithm>
#include <cstdint>
#include <cstring>

namespace upright {

// exp for |x| < 700: powers of two by the exponent's bits, the rest by its Taylor series on |r| <= ln 2 / 2.
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
    const std::uint64_t power = (bits + 1023U) << 52U;
    double scale = 0.0;
    std::memcpy(&scale, &power, sizeof scale);
    return p * scale;
}

inline __attribute__((always_inline)) double hyperbolic_tangent(double x) {
    return 1.0 - 2.0 / (exponential(2.0 * x) + 1.0);
}

// log of a positive normal number: 2 artanh((m - 1) / (m + 1)) of its mantissa, sqrt(1/2) <= m < sqrt(2).
inline __attribute__((always_inline)) double logarithm(double x) {
    constexpr std::uint64_t up = 0x3ff0000000000000ULL - 0x3fe6a09e667f3bcdULL;
    std::uint64_t bits = 0;
    std::memcpy(&bits, &x, sizeof bits);
    const std::uint64_t exponent = (bits + up) >> 52U; // with its bias
    const std::uint64_t mantissa = bits - (exponent << 52U) + 0x3ff0000000000000ULL;
    // The exponent as a number: the low bits of 2^52.
    const std::uint64_t whole = exponent | 0x4330000000000000ULL;
    double m = 0.0;
    double e = 0.0;
    std::memcpy(&m, &mantissa, sizeof m);
    std::memcpy(&e, &whole, sizeof e);
    e -= 4503599627370496.0 + 1023.0;
    const double s = (m - 1.0) / (m + 1.0);
    const double q = s * s;
    double p = 1.0 / 23.0;
    p = p * q + 1.0 / 21.0;
    p = p * q + 1.0 / 19.0;
    p = p * q + 1.0 / 17.0;
    p = p * q + 1.0 / 15.0;
    p = p * q + 1.0 / 13.0;
    p = p * q + 1.0 / 11.0;
    p = p * q + 1.0 / 9.0;
    p = p * q + 1.0 / 7.0;
    p = p * q + 1.0 / 5.0;
    p = p * q + 1.0 / 3.0;
    p = p * q + 1.0;
    return e * 0.693147180369123816490 + (e * 1.90821492927058770002e-10 + 2.0 * s * p);
}

// x^p for p >= 0; negative x count as zero, and results below 1e-300 are about that.
inline __attribute__((always_inline)) double power_of(double x, double p) {
    constexpr double least = 1e-300;
    return exponential(std::max(-690.0, p * logarithm(std::max(x, least))));
}

} // namespace upright
