#include "optimize/dual_strip.hpp"

#include "base/instruction_sets.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <vector>

namespace upright {

namespace {

// What the logarithms are multiplied by, as the interior point method has them in the end; and how near to a
// limit, as a share of the step, a place is found with them from the start.
constexpr double centring = 1e-9, close = 1e-3;
constexpr int most_settling = 60;
// The logarithm of so many numbers at once; none of them is below 1 or above 1e40.
constexpr std::size_t multiplied = 4;

using Row = std::array<double, dual_strip>;

struct Places {
    Row p, q; // weighted
    Row x;
    Row centred;  // curvature by the logarithms
    Row distance; // what the logarithm is of
};

// p and q of the Lagrangian.
UPRIGHT_CLONES void weigh(const DualStrip& s, const double* multipliers, double* __restrict p,
                          double* __restrict q) {
    const std::size_t n = s.count;
    for (std::size_t k = 0; k < n; ++k) {
        p[k] = s.p[k];
        q[k] = s.q[k];
    }
    for (std::size_t i = 1; i <= s.constraints; ++i) {
        const double by = multipliers[i - 1];
        if (by == 0.0) continue;
        const double* from_p = s.p + i * dual_strip;
        const double* from_q = s.q + i * dual_strip;
#pragma omp simd
        for (std::size_t k = 0; k < n; ++k) {
            p[k] += by * from_p[k];
            q[k] += by * from_q[k];
        }
    }
}

// From the best places without logarithms by Newton's steps on the slope, kept between what is known to lie
// below and above. A variable whose limits are one stays there.
UPRIGHT_CLONES void settle(std::size_t n, const double* __restrict lower, const double* __restrict upper,
                           const double* __restrict low, const double* __restrict high,
                           const double* __restrict p, const double* __restrict q, double* __restrict x,
                           double* __restrict centred, double* __restrict distance) {
    alignas(64) double from[dual_strip];
    alignas(64) double to[dual_strip];
    alignas(64) double done[dual_strip]; // 1 or 0
#pragma omp simd
    for (std::size_t k = 0; k < n; ++k) {
        const double a = lower[k];
        const double b = upper[k];
        const double span = b - a;
        const double sp = std::sqrt(p[k]);
        const double sq = std::sqrt(q[k]);
        const double both = sp + sq;
        const double free = both > 0.0 ? (sp * low[k] + sq * high[k]) / both : 0.5 * (a + b);
        // Beside a limit: with logarithms of its own and a slope that is the same everywhere.
        const double at = free < a ? a : free > b ? b : free;
        const double up = sp / (high[k] - at);
        const double down = sq / (at - low[k]);
        const double slope = (up * up - down * down) * span / centring;
        const double size = slope < 0.0 ? -slope : slope;
        const double u = 2.0 / (size + 2.0 + std::sqrt(slope * slope + 4.0));
        const double beside = slope >= 0.0 ? a + u * span : b - u * span;
        x[k] = free > a + close * span && free < b - close * span ? free : beside;
        from[k] = a;
        to[k] = b;
        done[k] = span > 0.0 ? 0.0 : 1.0;
    }
    for (int round = 0; round < most_settling; ++round) {
        double open = 0.0;
#pragma omp simd reduction(+ : open)
        for (std::size_t k = 0; k < n; ++k) {
            const double here = x[k];
            const double span = upper[k] - lower[k];
            const double u = 1.0 / (high[k] - here);
            const double d = 1.0 / (here - low[k]);
            const double below = 1.0 / (here - lower[k]);
            const double above = 1.0 / (upper[k] - here);
            const double pu = p[k] * u * u;
            const double qd = q[k] * d * d;
            const double slope = pu - qd + centring * (above - below);
            const double a = slope > 0.0 ? from[k] : here;
            const double b = slope > 0.0 ? here : to[k];
            const double curve = 2.0 * (pu * u + qd * d) + centring * (above * above + below * below);
            const double newton = here - slope / curve;
            const double next = newton > a && newton < b ? newton : 0.5 * (a + b);
            const double step = next > here ? next - here : here - next;
            const double nearest = above > below ? above : below;
            const bool rests = step < 1e-10 * span || step * nearest < 1e-6;
            const double was = done[k];
            x[k] = was > 0.0 ? here : next;
            from[k] = a;
            to[k] = b;
            const double is = rests ? 1.0 : was;
            done[k] = is;
            open += 1.0 - is;
        }
        if (open == 0.0) break;
    }
#pragma omp simd
    for (std::size_t k = 0; k < n; ++k) {
        const double span = upper[k] - lower[k];
        const bool moves = span > 0.0;
        const double below = moves ? 1.0 / (x[k] - lower[k]) : 0.0;
        const double above = moves ? 1.0 / (upper[k] - x[k]) : 0.0;
        x[k] = moves ? x[k] : lower[k];
        centred[k] = centring * (above * above + below * below);
        distance[k] = moves ? 0.25 * span * span * below * above : 1.0;
    }
}

void find_places(const DualStrip& s, const double* multipliers, Places& out) {
    weigh(s, multipliers, out.p.data(), out.q.data());
    settle(s.count, s.lower, s.upper, s.low, s.high, out.p.data(), out.q.data(), out.x.data(),
           out.centred.data(), out.distance.data());
}

double logarithms(const double* distance, std::size_t n) {
    double out = 0.0;
    for (std::size_t k = 0; k < n; k += multiplied) {
        double product = 1.0;
        for (std::size_t i = k; i < std::min(n, k + multiplied); ++i) product *= distance[i];
        out += std::log(product);
    }
    return centring * out;
}

// Value, slopes, and the gradients of the constraints over the root of the curvature, a row of each.
UPRIGHT_CLONES void sum_up(const DualStrip& s, const double* __restrict p, const double* __restrict q,
                           const double* __restrict x, const double* __restrict centred,
                           double* __restrict sums, double* __restrict gradients) {
    const std::size_t n = s.count;
    const std::size_t w = s.constraints + 1;
    alignas(64) double up[dual_strip];
    alignas(64) double down[dual_strip];
    alignas(64) double share[dual_strip];
    double value = 0.0;
#pragma omp simd reduction(+ : value)
    for (std::size_t k = 0; k < n; ++k) {
        const double u = 1.0 / (s.high[k] - x[k]);
        const double d = 1.0 / (x[k] - s.low[k]);
        const double pu = p[k] * u;
        const double qd = q[k] * d;
        value += pu + qd;
        const double curve = 2.0 * (pu * u * u + qd * d * d) + centred[k];
        share[k] = curve > 0.0 ? 1.0 / std::sqrt(curve) : 0.0;
        up[k] = u;
        down[k] = d;
    }
    sums[0] += value;
    for (std::size_t i = 1; i < w; ++i) {
        double slope = 0.0;
        double* row = gradients + (i - 1) * dual_strip;
        const double* of_p = s.p + i * dual_strip;
        const double* of_q = s.q + i * dual_strip;
#pragma omp simd reduction(+ : slope)
        for (std::size_t k = 0; k < n; ++k) {
            const double pu = of_p[k] * up[k];
            const double qd = of_q[k] * down[k];
            slope += pu + qd;
            row[k] = (pu * up[k] - qd * down[k]) * share[k];
        }
        sums[i] += slope;
    }
    double* to = sums + w;
    for (std::size_t i = 0; i < s.constraints; ++i)
        for (std::size_t k = 0; k <= i; ++k) {
            const double* a = gradients + i * dual_strip;
            const double* b = gradients + k * dual_strip;
            double sum = 0.0;
#pragma omp simd reduction(+ : sum)
            for (std::size_t j = 0; j < n; ++j) sum += a[j] * b[j];
            *to++ += sum;
        }
}

} // namespace

UPRIGHT_CLONES void find_limits(const StripPoint& at, double* __restrict lower, double* __restrict upper) {
    const bool unit = at.least == nullptr;
#pragma omp simd
    for (std::size_t k = 0; k < at.count; ++k) {
        const double x = at.x[k];
        const double least = unit ? 0.0 : at.least[k];
        const double most = unit ? 1.0 : at.most[k];
        const double range = most - least > 1e-12 ? most - least : 1e-12;
        const double off_low = at.low[k] + at.conserve * (x - at.low[k]);
        const double off_high = at.high[k] - at.conserve * (at.high[k] - x);
        const double down = x - at.move * range;
        const double up = x + at.move * range;
        const double a = off_low > least ? off_low : least;
        const double b = off_high < most ? off_high : most;
        lower[k] = down > a ? down : a;
        upper[k] = up < b ? up : b;
    }
}

UPRIGHT_CLONES void find_curves(const StripPoint& at, const double* __restrict gradient, double floor,
                                double* __restrict p, double* __restrict q) {
    const bool unit = at.least == nullptr;
#pragma omp simd
    for (std::size_t k = 0; k < at.count; ++k) {
        const double x = at.x[k];
        const double span = unit ? 1.0 : at.most[k] - at.least[k];
        const double range = span > 1e-12 ? span : 1e-12;
        const double above = (at.high[k] - x) * (at.high[k] - x);
        const double below = (x - at.low[k]) * (x - at.low[k]);
        const double g = gradient[k];
        const double up = g > 0.0 ? g : 0.0;
        const double down = g < 0.0 ? -g : 0.0;
        const double both = floor / range;
        p[k] = above * (1.001 * up + 0.001 * down + both);
        q[k] = below * (0.001 * up + 1.001 * down + both);
    }
}

void best_places(const DualStrip& strip, const double* multipliers, double* x) {
    Places room;
    find_places(strip, multipliers, room);
    for (std::size_t k = 0; k < strip.count; ++k) x[k] = room.x[k];
}

void add_dual_sums(const DualStrip& strip, const double* multipliers, double* sums) {
    Places room;
    find_places(strip, multipliers, room);
    std::vector<double> gradients(strip.constraints * dual_strip);
    sum_up(strip, room.p.data(), room.q.data(), room.x.data(), room.centred.data(), sums, gradients.data());
    sums[0] += logarithms(room.distance.data(), strip.count);
}

} // namespace upright
