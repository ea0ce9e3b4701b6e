#include "optimize/optimality_criteria.hpp"

#include <cmath>
#include <gtest/gtest.h>
#include <numeric>

using namespace upright;

namespace {

double sum(const std::vector<double>& x) {
    return std::accumulate(x.begin(), x.end(), 0.0);
}

} // namespace

// Minimise sum a_i / x_i under sum x_i <= V: the optimum is x_i proportional to sqrt(a_i).
TEST(OptimalityCriteria, FindTheKnownOptimum) {
    const std::vector<double> a{1, 4, 9, 2};
    std::vector<double> x(4, 0.3);
    const std::vector<double> cost(4, 1.0);
    double multiplier = 1.0;
    for (int i = 0; i < 60; ++i) {
        std::vector<double> benefit(4);
        for (std::size_t k = 0; k < 4; ++k) benefit[k] = a[k] / (x[k] * x[k]);
        const CriteriaStep step = criteria_step({x, benefit, cost, 0.2, multiplier}, {1.2, 0.0, {}, {}});
        EXPECT_TRUE(step.met);
        EXPECT_NEAR(sum(step.x), 1.2, 1e-8);
        x = step.x;
        multiplier = step.multiplier;
    }
    const double total = 1 + 2 + 3 + std::sqrt(2.0);
    EXPECT_NEAR(x[0], 1.2 * 1 / total, 1e-6);
    EXPECT_NEAR(x[2], 1.2 * 3 / total, 1e-6);
}

// The same the other way round: least sum x_i with sum a_i / x_i <= C.
TEST(OptimalityCriteria, FindTheLeastMaterial) {
    const std::vector<double> a{1, 4, 9, 2};
    std::vector<double> x(4, 0.9);
    const std::vector<double> cost(4, 1.0);
    const double total = 1 + 2 + 3 + std::sqrt(2.0);
    const double limit = total * total / 1.2; // the compliance of the optimum above
    double multiplier = 1.0;
    for (int i = 0; i < 60; ++i) {
        std::vector<double> benefit(4);
        double compliance = 0.0;
        for (std::size_t k = 0; k < 4; ++k) {
            benefit[k] = a[k] / (x[k] * x[k]);
            compliance += a[k] / x[k];
        }
        const CriteriaStep step = least_material_step({x, benefit, cost, 0.2, multiplier}, compliance, limit);
        x = step.x;
        multiplier = step.multiplier;
    }
    EXPECT_NEAR(sum(x), 1.2, 1e-6);
    EXPECT_NEAR(x[2], 1.2 * 3 / total, 1e-6);
}

TEST(OptimalityCriteria, StayWithinMoveLimitsAndSayWhenTheyCannot) {
    const std::vector<double> x(3, 0.9);
    const CriteriaStep step = criteria_step({x, {1, 1, 1}, {1, 1, 1}, 0.1, 1.0}, {0.3, 0.0, {}, {}});
    EXPECT_FALSE(step.met);
    for (const double v : step.x) EXPECT_NEAR(v, 0.8, 1e-12);
    // Negative benefit (a load that weighs more with material) takes material away.
    const CriteriaStep mixed = criteria_step({{0.5, 0.5}, {1, -1}, {1, 1}, 0.2, 1.0}, {1.0, 0.0, {}, {}});
    EXPECT_NEAR(mixed.x[1], 0.3, 1e-12);
}

// Material that bends with the design: the linear search is put right by what it missed.
TEST(OptimalityCriteria, MeetABoundOnMaterialThatIsNotLinear) {
    std::vector<double> x;
    std::vector<double> benefit;
    for (int i = 0; i < 500; ++i) {
        x.push_back(0.3 + 0.4 * std::abs(std::sin(i)));
        benefit.push_back(1.0 + std::cos(3.0 * i));
    }
    const auto material = [](const std::vector<double>& at) {
        double out = 7.0;
        for (const double v : at) out += 2.0 * v * v * v;
        return out;
    };
    std::vector<double> cost;
    for (const double v : x) cost.push_back(6.0 * v * v);
    int calls = 0;
    for (const double share : {0.9, 1.0, 1.1, 1.25}) {
        MaterialBound bound;
        bound.limit = share * material(x);
        bound.constant = material(x) - std::inner_product(cost.begin(), cost.end(), x.begin(), 0.0);
        bound.exact = [&](const std::vector<double>& at) {
            ++calls;
            return material(at);
        };
        calls = 0;
        const CriteriaStep step = criteria_step({x, benefit, cost, 0.2, 1.0}, bound);
        EXPECT_TRUE(step.met);
        EXPECT_NEAR(material(step.x), bound.limit, 1e-5 * bound.limit) << share;
        // What it learnt is of use to a step that is alike.
        const int before = calls;
        calls = 0;
        bound.correction = step.correction;
        EXPECT_NEAR(material(criteria_step({x, benefit, cost, 0.2, 1.0}, bound).x), bound.limit,
                    1e-5 * bound.limit);
        EXPECT_LE(calls, before);
        EXPECT_LT(before, 6);
        // Out of reach, and beyond need.
        bound.limit = 0.1 * material(x);
        const CriteriaStep far = criteria_step({x, benefit, cost, 0.1, 1.0}, bound);
        EXPECT_FALSE(far.met);
        for (std::size_t i = 0; i < x.size(); ++i) EXPECT_NEAR(far.x[i], x[i] - 0.1, 1e-12);
        bound.limit = 10.0 * material(x);
        EXPECT_TRUE(criteria_step({x, benefit, cost, 0.1, 1.0}, bound).met);
    }
}
