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
        const CriteriaStep step = criteria_step({x, benefit, cost, 0.2, multiplier}, 1.2, 0.0);
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
    const CriteriaStep step = criteria_step({x, {1, 1, 1}, {1, 1, 1}, 0.1, 1.0}, 0.3, 0.0);
    EXPECT_FALSE(step.met);
    for (const double v : step.x) EXPECT_NEAR(v, 0.8, 1e-12);
    // Negative benefit (a load that weighs more with material) takes material away.
    const CriteriaStep mixed = criteria_step({{0.5, 0.5}, {1, -1}, {1, 1}, 0.2, 1.0}, 1.0, 0.0);
    EXPECT_NEAR(mixed.x[1], 0.3, 1e-12);
}
