#include "optimize/optimality_criteria.hpp"

#include "base/sums.hpp"

#include <algorithm>
#include <cmath>

namespace upright {

namespace {

constexpr double tolerance = 1e-7; // of the limit
constexpr int most_steps = 200;

// The step for any multiplier: everything but the multiplier is found once.
class Steps {
  public:
    Steps(const std::vector<double>& x, const std::vector<double>& benefit, const std::vector<double>& cost,
          double move)
        : x_(x), wish_(x.size()), move_(move) {
#pragma omp parallel for schedule(static)
        for (std::size_t i = 0; i < x.size(); ++i)
            wish_[i] = x[i] * std::sqrt(std::max(0.0, benefit[i]) / std::max(cost[i], 1e-300));
    }
    const std::vector<double>& at(double multiplier) {
        out_.resize(x_.size());
        const double factor = 1.0 / std::sqrt(multiplier);
#pragma omp parallel for schedule(static)
        for (std::size_t i = 0; i < out_.size(); ++i)
            out_[i] = std::min(std::min(1.0, x_[i] + move_),
                               std::max(std::max(least_variable, x_[i] - move_), factor * wish_[i]));
        return out_;
    }

  private:
    const std::vector<double>& x_;
    std::vector<double> wish_;
    std::vector<double> out_;
    double move_;
};

// Finds the multiplier at which `excess` (which does not increase with it) is zero: bracketed by growing
// factors, then regula falsi in the logarithm (the Illinois variant: Dowell & Jarratt 1971).
double find_multiplier(const std::function<double(double)>& excess, double start, double scale, bool& met) {
    met = true;
    double low = start > 0.0 && std::isfinite(start) ? start : 1.0; // excess above zero here
    double high = low;
    double f_low = excess(low);
    double f_high = f_low;
    if (std::abs(f_low) <= tolerance * scale) return low;
    double factor = 1.05;
    for (int i = 0; f_low < 0.0; ++i) {
        if (i > most_steps) return met = true, low; // no multiplier is small enough: all bounds are slack
        high = low;
        f_high = f_low;
        low /= factor;
        factor = std::min(4.0, factor * factor * factor);
        f_low = excess(low);
    }
    for (int i = 0; f_high > 0.0; ++i) {
        if (i > most_steps) return met = false, high;
        low = high;
        f_low = f_high;
        high *= factor;
        factor = std::min(4.0, factor * factor * factor);
        f_high = excess(high);
    }
    double a = std::log(low);
    double b = std::log(high);
    double g_low = f_low; // halved where one end stays too long
    double g_high = f_high;
    int stayed = 0;
    for (int i = 0; i < most_steps && b - a > 1e-15; ++i) {
        double middle = i % 8 == 7 ? 0.5 * (a + b) : a + (b - a) * g_low / (g_low - g_high);
        if (!(middle > a && middle < b)) middle = 0.5 * (a + b);
        const double f = excess(std::exp(middle));
        if (std::abs(f) <= tolerance * scale) return std::exp(middle);
        if (f > 0.0) {
            a = middle;
            g_low = f;
            if (stayed > 0) g_high *= 0.5;
            stayed = 1;
        } else {
            b = middle;
            g_high = f;
            if (stayed < 0) g_low *= 0.5;
            stayed = -1;
        }
    }
    return std::exp(b);
}

} // namespace

CriteriaStep criteria_step(const std::vector<double>& x, const std::vector<double>& benefit,
                           const std::vector<double>& cost,
                           const std::function<double(const std::vector<double>&)>& material, double limit,
                           double move, double multiplier) {
    CriteriaStep out;
    Steps steps(x, benefit, cost, move);
    const auto excess = [&](double m) { return material(steps.at(m)) - limit; };
    out.multiplier = find_multiplier(excess, multiplier, std::abs(limit), out.met);
    out.x = steps.at(out.multiplier);
    return out;
}

CriteriaStep least_material_step(const std::vector<double>& x, const std::vector<double>& benefit,
                                 const std::vector<double>& cost, double compliance, double limit,
                                 double move, double multiplier) {
    CriteriaStep out;
    // More material, less compliance: the excess grows with the multiplier, so the search runs on its
    // inverse.
    Steps steps(x, benefit, cost, move);
    const auto excess = [&](double inverse) {
        const std::vector<double>& next = steps.at(1.0 / inverse);
        const double more = sum_of_blocks(x.size(), [&](std::size_t from, std::size_t to) {
            double sum = 0.0;
            for (std::size_t i = from; i < to; ++i)
                sum += std::max(0.0, benefit[i]) * x[i] * (x[i] / next[i] - 1.0);
            return sum;
        });
        return compliance + more - limit;
    };
    const double inverse = find_multiplier(excess, 1.0 / multiplier, std::abs(limit), out.met);
    out.multiplier = 1.0 / inverse;
    out.x = steps.at(out.multiplier);
    return out;
}

} // namespace upright
