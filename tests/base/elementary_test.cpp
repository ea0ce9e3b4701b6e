#include "base/elementary.hpp"

#include <cmath>
#include <gtest/gtest.h>

using namespace upright;

TEST(Elementary, FunctionsAgreeWithTheLibrarys) {
    for (double x = -650.0; x < 650.0; x += 0.377) ASSERT_NEAR(exponential(x) / std::exp(x), 1.0, 1e-14) << x;
    for (double x = 1e-300; x < 1e300; x *= 1.0137)
        ASSERT_NEAR(logarithm(x), std::log(x), 4e-16 * std::max(1.0, std::abs(std::log(x)))) << x;
    for (double x = 0.5; x < 2.0; x += 1e-3)
        ASSERT_NEAR(logarithm(x), std::log(x), 2e-16 + 4e-16 * std::abs(std::log(x))) << x;
    for (double x = -20.0; x < 20.0; x += 0.01) ASSERT_NEAR(hyperbolic_tangent(x), std::tanh(x), 1e-15) << x;
    for (const double p : {0.0, 0.37, 1.0, 2.5, 9.0})
        for (double x = 1e-9; x <= 1.0; x *= 1.31)
            ASSERT_NEAR(power_of(x, p) / std::pow(x, p), 1.0, 3e-14) << x << " " << p;
    EXPECT_LT(power_of(0.0, 1.5), 1e-290);
    EXPECT_LT(power_of(-1e-17, 1.5), 1e-290);
}
