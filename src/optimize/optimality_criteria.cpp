#include "optimize/optimality_criteria.hpp"

#include "base/blocks.hpp"
#include "base/instruction_sets.hpp"
#include "base/reduction.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

namespace upright {

namespace {

constexpr double tolerance = 1e-7; // of the limit
constexpr int most_steps = 200;

struct Reach {
    const double* x = nullptr;
    const double* wish = nullptr;
    double move = 0.0;
    double factor = 0.0;
    // Where a variable comes to.
    double next(std::size_t i) const {
        return std::min(std::min(1.0, x[i] + move),
                        std::max(std::max(least_variable, x[i] - move), factor * wish[i]));
    }
};

UPRIGHT_CLONES void step_part(Reach reach, std::size_t from, std::size_t to, double* out) {
    for (std::size_t i = from; i < to; ++i) out[i] = reach.next(i);
}

// The cost of a step and how much of it is at no limit.
UPRIGHT_CLONES void cost_part(Reach reach, const double* cost, std::size_t from, std::size_t to, double* sum,
                              double* free) {
    double all = 0.0;
    double loose = 0.0;
#pragma omp simd reduction(+ : all, loose)
    for (std::size_t i = from; i < to; ++i) {
        const double next = reach.next(i);
        const double one = cost[i] * next;
        all += one;
        loose += next == reach.factor * reach.wish[i] ? one : 0.0;
    }
    *sum = all;
    *free = loose;
}

UPRIGHT_CLONES void wish_part(const double* x, const double* benefit, const double* cost, std::size_t from,
                              std::size_t to, double* wish) {
    for (std::size_t i = from; i < to; ++i)
        wish[i] = x[i] * std::sqrt(std::max(0.0, benefit[i]) / std::max(cost[i], 1e-300));
}

UPRIGHT_CLONES void worth_part(const double* x, const double* benefit, const double* next, std::size_t from,
                               std::size_t to, double* out) {
    double sum = 0.0;
#pragma omp simd reduction(+ : sum)
    for (std::size_t i = from; i < to; ++i) sum += std::max(0.0, benefit[i]) * x[i] * (x[i] / next[i] - 1.0);
    *out = sum;
}

// A value and its slope by the logarithm of the multiplier; no slope where it is zero.
struct Excess {
    double value = 0.0;
    double slope = 0.0;
};

// The step for any multiplier: everything but the multiplier is found once.
class Steps {
  public:
    Steps(const std::vector<double>& x, const std::vector<double>& benefit, const std::vector<double>& cost,
          double move)
        : x_(x), cost_(cost), wish_(x.size()), move_(move) {
        each_block(x.size(), [&](std::size_t from, std::size_t to) {
            wish_part(x.data(), benefit.data(), cost.data(), from, to, wish_.data());
        });
    }
    const std::vector<double>& at(double multiplier) {
        out_.resize(x_.size());
        const Reach reach = to(multiplier);
        each_block(x_.size(),
                   [&](std::size_t from, std::size_t to) { step_part(reach, from, to, out_.data()); });
        return out_;
    }
    std::vector<double> take() { return std::move(out_); }
    // The sum of cost times variables, without the variables being kept.
    Excess cost_at(double multiplier) const {
        const Reach reach = to(multiplier);
        const auto both = sums_of_blocks<2>(x_.size(), [&](std::size_t from, std::size_t to) {
            std::array<double, 2> part{};
            cost_part(reach, cost_.data(), from, to, &part[0], &part[1]);
            return part;
        });
        return {both[0], -0.5 * both[1]};
    }

  private:
    Reach to(double multiplier) const {
        return {x_.data(), wish_.data(), move_, 1.0 / std::sqrt(multiplier)};
    }
    const std::vector<double>& x_;
    const std::vector<double>& cost_;
    std::vector<double> wish_;
    std::vector<double> out_;
    double move_;
};

enum class Found { Met, Slack, OutOfReach };

struct Root {
    double multiplier = 1.0;
    Found found = Found::Met;
};

// Finds the multiplier at which `excess` (which does not increase with it) is zero within `accuracy`: by
// Newton's steps in the logarithm where it has a slope, else regula falsi (the Illinois variant: Dowell &
// Jarratt 1971); bracketed by growing factors first.
template <class F> Root find_multiplier(F&& excess, double start, double accuracy) {
    const double first = start > 0.0 && std::isfinite(start) ? std::log(start) : 0.0;
    double at = first;
    double low = -std::numeric_limits<double>::infinity(); // excess above zero here
    double high = -low;
    double g_low = 0.0; // halved where one end stays too long
    double g_high = 0.0;
    int stayed = 0;
    double grow = std::log(1.05);
    int grown = 0;
    for (int i = 0; i < 2 * most_steps; ++i) {
        const Excess f = excess(std::exp(at));
        if (std::abs(f.value) <= accuracy) return {std::exp(at), Found::Met};
        if (f.value > 0.0) {
            low = at;
            g_low = f.value;
            if (stayed > 0) g_high *= 0.5;
            stayed = 1;
        } else {
            high = at;
            g_high = f.value;
            if (stayed < 0) g_low *= 0.5;
            stayed = -1;
        }
        const bool newton = f.slope < 0.0;
        double next = newton ? at - f.value / f.slope : at;
        if (std::isfinite(low) && std::isfinite(high)) {
            if (high - low <= 1e-15 * std::max(1.0, std::abs(low))) break;
            if (!newton) next = low + (high - low) * g_low / (g_low - g_high);
            if (i % 8 == 7 || !(next > low && next < high)) next = 0.5 * (low + high);
        } else {
            if (++grown > most_steps) // all bounds are slack, or none can be met
                return {std::exp(at), f.value < 0.0 ? Found::Slack : Found::OutOfReach};
            const double most = newton ? std::log(4.0) : grow;
            next = at + (f.value > 0.0 ? most : -most) *
                            (newton ? std::min(1.0, std::abs(next - at) / most) : 1.0);
            grow = std::min(std::log(4.0), 3.0 * grow);
        }
        at = next;
    }
    return {std::exp(high), Found::Met};
}

} // namespace

CriteriaStep criteria_step(const CriteriaPoint& point, double limit, double constant) {
    Steps steps(point.x, point.benefit, point.cost, point.move);
    const double target = limit - constant;
    const auto excess = [&](double multiplier) {
        const Excess found = steps.cost_at(multiplier);
        return Excess{found.value - target, found.slope};
    };
    const Root root = find_multiplier(excess, point.multiplier, tolerance * std::abs(limit));
    CriteriaStep out;
    out.multiplier = root.multiplier;
    out.met = root.found != Found::OutOfReach;
    steps.at(root.multiplier);
    out.x = steps.take();
    return out;
}

CriteriaStep least_material_step(const CriteriaPoint& point, double compliance, double limit) {
    const std::vector<double>& x = point.x;
    // More material, less compliance: the excess grows with the multiplier, so the search runs on its
    // inverse.
    Steps steps(x, point.benefit, point.cost, point.move);
    const auto excess = [&](double inverse) {
        const std::vector<double>& next = steps.at(1.0 / inverse);
        const double more = sum_of_blocks(x.size(), [&](std::size_t from, std::size_t to) {
            double sum = 0.0;
            worth_part(x.data(), point.benefit.data(), next.data(), from, to, &sum);
            return sum;
        });
        return Excess{compliance + more - limit, 0.0};
    };
    const Root root = find_multiplier(excess, 1.0 / point.multiplier, tolerance * std::abs(limit));
    CriteriaStep out;
    out.multiplier = 1.0 / root.multiplier;
    out.met = root.found != Found::OutOfReach;
    steps.at(out.multiplier);
    out.x = steps.take();
    return out;
}

} // namespace upright
