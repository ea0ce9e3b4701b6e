// Published small problems, and what the method promises whatever the problem.
#include "optimize/moving_asymptotes.hpp"

#include <cmath>
#include <functional>
#include <gtest/gtest.h>
#include <omp.h>
#include <random>

using namespace upright;

namespace {

using Values = std::function<MmaValues(const std::vector<double>&)>;

std::vector<double> run(std::vector<double> x, const std::vector<double>& low,
                        const std::vector<double>& high, const Values& values, int steps,
                        const MmaSettings& settings = {}, double move = 1.0) {
    MmaState state;
    for (int i = 0; i < steps; ++i) x = mma_step({x, low, high, move, values(x)}, settings, state).x;
    return x;
}

} // namespace

// Svanberg 1987, the cantilever of five segments: weight 1.33996 at (6.016, 5.309, 4.494, 3.502, 2.153).
TEST(MovingAsymptotes, CantileverOfFiveSegments) {
    const Values values = [](const std::vector<double>& x) {
        MmaValues out;
        const double share[] = {61, 37, 19, 7, 1};
        double g = -1.0;
        out.gradient.emplace_back();
        for (std::size_t j = 0; j < 5; ++j) {
            out.goal += 0.0624 * x[j];
            out.goal_gradient.push_back(0.0624);
            g += share[j] / std::pow(x[j], 3);
            out.gradient[0].push_back(-3 * share[j] / std::pow(x[j], 4));
        }
        out.constraint = {g};
        return out;
    };
    const auto x = run(std::vector<double>(5, 5.0), std::vector<double>(5, 1.0), std::vector<double>(5, 10.0),
                       values, 12);
    const double expected[] = {6.016, 5.309, 4.494, 3.502, 2.153};
    for (std::size_t j = 0; j < 5; ++j) EXPECT_NEAR(x[j], expected[j], 2e-3) << j;
    EXPECT_NEAR(values(x).goal, 1.33996, 1e-4);
    EXPECT_LT(values(x).constraint[0], 1e-4);
}

// Svanberg 1987, the two-bar truss: weight under bounds on the stress of both bars; 1.51 at (1.41, 0.377).
TEST(MovingAsymptotes, TwoBarsUnderStressBounds) {
    const Values values = [](const std::vector<double>& x) {
        MmaValues out;
        const double a = x[0];
        const double h = x[1];
        const double root = std::sqrt(1 + h * h);
        out.goal = a * root;
        out.goal_gradient = {root, a * h / root};
        for (const double sign : {1.0, -1.0}) {
            const double inner = 8 / a + sign / (a * h);
            out.constraint.push_back(0.124 * root * inner - 1);
            out.gradient.push_back({0.124 * root * (-8 / (a * a) - sign / (a * a * h)),
                                    0.124 * (h / root * inner - root * sign / (a * h * h))});
        }
        return out;
    };
    const auto x = run({1.5, 0.5}, {0.2, 0.1}, {4.0, 1.6}, values, 20);
    EXPECT_NEAR(values(x).goal, 1.5087, 2e-4);
    EXPECT_NEAR(x[0], 1.4117, 2e-3);
    EXPECT_NEAR(x[1], 0.3770, 2e-3);
    EXPECT_LT(values(x).constraint[0], 1e-4);
}

// Least weight of two bars of lengths l with forces F under a bound on the displacement of their joint, sum
// F^2 l / (E a) <= u: the areas are proportional to |F|, a = |F| sum(|F| l) / (E u).
TEST(MovingAsymptotes, TwoBarsUnderADisplacementBound) {
    const double length[] = {1.0, std::sqrt(2.0)};
    const double force[] = {1.0, -std::sqrt(2.0)};
    const double limit = 5.0;
    const Values values = [&](const std::vector<double>& x) {
        MmaValues out;
        double u = 0.0;
        out.gradient.emplace_back();
        for (std::size_t j = 0; j < 2; ++j) {
            out.goal += length[j] * x[j];
            out.goal_gradient.push_back(length[j]);
            u += force[j] * force[j] * length[j] / x[j];
            out.gradient[0].push_back(-force[j] * force[j] * length[j] / (x[j] * x[j]) / limit);
        }
        out.constraint = {u / limit - 1};
        return out;
    };
    const auto x = run({1.5, 1.5}, {0.1, 0.1}, {2.0, 2.0}, values, 30, {}, 0.2);
    const double sum = 1.0 + 2.0; // sum |F| l
    EXPECT_NEAR(x[0], sum / limit, 1e-4);
    EXPECT_NEAR(x[1], std::sqrt(2.0) * sum / limit, 1e-4);
}

// The three-bar truss: volume 263.8958 at (0.78868, 0.40825) (the classic of stress constraints).
TEST(MovingAsymptotes, ThreeBarsUnderStressBounds) {
    const Values values = [](const std::vector<double>& x) {
        MmaValues out;
        const double r = std::sqrt(2.0);
        const double a = x[0];
        const double b = x[1];
        out.goal = (2 * r * a + b); // times 100
        out.goal_gradient = {2 * r, 1};
        const double d = r * a * a + 2 * a * b;
        const double da = 2 * r * a + 2 * b;
        const double db = 2 * a;
        const double n = r * a + b;
        out.constraint = {n / d - 1, b / d - 1, 1 / (r * b + a) - 1};
        const double s = r * b + a;
        out.gradient = {{(r * d - n * da) / (d * d), (d - n * db) / (d * d)},
                        {-b * da / (d * d), (d - b * db) / (d * d)},
                        {-1 / (s * s), -r / (s * s)}};
        return out;
    };
    const auto x = run({1.0, 1.0}, {0.01, 0.01}, {1.5, 1.5}, values, 25);
    EXPECT_NEAR(100 * values(x).goal, 263.8958, 0.01);
    EXPECT_NEAR(x[0], 0.78868, 2e-3);
    EXPECT_NEAR(x[1], 0.40825, 4e-3);
}

// The worst of several functions, by the variable z: the largest of (x - 1)^2 + 1 and (x + 1)^2 + 2 is least
// where they cross, at x = -1/4.
TEST(MovingAsymptotes, LeastWorst) {
    const Values values = [](const std::vector<double>& x) {
        MmaValues out;
        out.goal_gradient = {0.0};
        out.constraint = {std::pow(x[0] - 1, 2) + 1, std::pow(x[0] + 1, 2) + 2};
        out.gradient = {{2 * (x[0] - 1)}, {2 * (x[0] + 1)}};
        return out;
    };
    MmaSettings settings;
    settings.a = {1.0, 1.0};
    const auto x = run({1.5}, {-2.0}, {2.0}, values, 40, settings);
    EXPECT_NEAR(x[0], -0.25, 1e-4);
}

TEST(MovingAsymptotes, WhatCannotBeMetIsBrokenAsLittleAsPossible) {
    // x <= 1 and 1.5 <= x at once: the elastic variables share it.
    const Values values = [](const std::vector<double>& x) {
        MmaValues out;
        out.goal = 0.001 * x[0];
        out.goal_gradient = {0.001};
        out.constraint = {x[0] - 1, 1.5 - x[0]};
        out.gradient = {{1.0}, {-1.0}};
        return out;
    };
    const auto x = run({0.2}, {0.0}, {3.0}, values, 20);
    EXPECT_GT(x[0], 0.999);
    EXPECT_LT(x[0], 1.501);
}

TEST(MovingAsymptotes, StepsKeepToTheirLimits) {
    const Values values = [](const std::vector<double>& x) {
        MmaValues out;
        for (const double v : x) out.goal -= v;
        out.goal_gradient.assign(x.size(), -1.0);
        return out;
    };
    MmaState state;
    const std::vector<double> x(50, 0.5);
    const MmaStep step =
        mma_step({x, std::vector<double>(50, 0.0), std::vector<double>(50, 1.0), 0.2, values(x)}, {}, state);
    for (const double v : step.x) EXPECT_NEAR(v, 0.7, 1e-6);
}

// Two ways to the same step: by the dual function and by the interior point method. Bounds that are slack,
// active, at odds with each other, and that no step can hold; functions of very different sizes.
TEST(MovingAsymptotes, TheDualFindsWhatTheInteriorPointMethodFinds) {
    std::mt19937 random(11);
    std::uniform_real_distribution<double> any(-1.0, 1.0);
    int active = 0;
    int broken = 0;
    for (int round = 0; round < 75; ++round) {
        const std::size_t n = round >= 60 ? 130 : round % 5 == 0 ? 3 : 40; // strips of 64
        const auto m = static_cast<std::size_t>(round % 4);
        MmaValues at;
        at.goal = 3.0;
        for (std::size_t j = 0; j < n; ++j)
            at.goal_gradient.push_back(std::pow(10.0, 2.0 * any(random)) * any(random));
        for (std::size_t i = 0; i < m; ++i) {
            at.constraint.push_back(0.3 * any(random) + (round % 7 == 0 ? 2.0 : 0.0));
            at.gradient.emplace_back();
            for (std::size_t j = 0; j < n; ++j)
                at.gradient[i].push_back((any(random) + (i == 0 ? 1.0 : 0.0)) / static_cast<double>(n));
        }
        // One that nothing depends on stays in the middle of its step.
        if (round % 2 == 0) {
            at.goal_gradient[2] = 0.0;
            for (auto& row : at.gradient) row[2] = 0.0;
        }
        std::vector<double> x;
        for (std::size_t j = 0; j < n; ++j) x.push_back(0.5 + 0.5 * any(random));
        if (round % 3 == 0) x[0] = 0.0;
        const std::vector<double> low(n, 0.0);
        const std::vector<double> high(n, 1.0);
        MmaState first;
        MmaState second;
        MmaSettings settings;
        settings.dual_from = 0;
        const MmaStep dual = mma_step({x, low, high, 0.3, at}, settings, first);
        EXPECT_LT(dual.newton_steps, n > 100 ? 80 : 60) << round; // the interior point method takes more
        // Limits that are not given are these.
        MmaState third;
        EXPECT_EQ(mma_step({x, {}, {}, 0.3, at}, settings, third).x, dual.x) << round;
        // From where it ended it is there at once, and from elsewhere it comes to the same.
        const MmaStep again = mma_again({x, low, high, 0.3, at}, settings, first);
        EXPECT_LE(again.newton_steps, 3) << round;
        MmaState elsewhere = first;
        for (std::size_t i = 0; i < m; ++i) elsewhere.multiplier[i] = i == 0 ? 0.0 : 400.0;
        const MmaStep other = mma_again({x, low, high, 0.3, at}, settings, elsewhere);
        EXPECT_LT(other.newton_steps, 80) << round;
        for (std::size_t j = 0; j < n; ++j) {
            EXPECT_NEAR(again.x[j], dual.x[j], 1e-6) << round << " " << j;
            EXPECT_NEAR(other.x[j], dual.x[j], 1e-6) << round << " " << j;
        }
        settings.dual_from = 1000000;
        const MmaStep inner = mma_step({x, low, high, 0.3, at}, settings, second);
        for (std::size_t j = 0; j < n; ++j)
            EXPECT_NEAR(dual.x[j], inner.x[j], j == 2 ? 2e-3 : 2e-4) << round << " " << j;
        const auto merit = [&](const MmaStep& step) {
            double out = step.expected[0];
            for (const double y : step.y) out += settings.c * y + 0.5 * settings.d * y * y;
            return out;
        };
        EXPECT_NEAR(merit(dual), merit(inner), 1e-6 * std::max(1.0, std::abs(merit(inner)))) << round;
        for (std::size_t i = 0; i < m; ++i) {
            EXPECT_NEAR(dual.multiplier[i], inner.multiplier[i], 1e-4 * std::max(1.0, inner.multiplier[i]))
                << round;
            EXPECT_NEAR(dual.y[i], inner.y[i], 1e-5) << round;
            active += dual.multiplier[i] > 1e-3 && dual.y[i] == 0.0 ? 1 : 0;
            broken += dual.y[i] > 0.0 ? 1 : 0;
            // Complementary: what is slack costs nothing, what costs less than the price holds.
            const double left = dual.expected[i + 1] - dual.y[i];
            EXPECT_LT(left, 1e-9) << round;
            if (dual.multiplier[i] > 0.0) EXPECT_GT(left, -1e-9) << round;
        }
    }
    EXPECT_GT(active, 10);
    EXPECT_GT(broken, 5);
}

// A thousand variables of very different sensitivity: the same digits with any number of threads.
// A design that comes apart has slopes of any size: steps are numbers all the same, within their limits, and
// go the right way, by either method.
TEST(MovingAsymptotes, SlopesOfAnySizeLeaveNumbers) {
    std::mt19937 random(5);
    std::uniform_real_distribution<double> any(-1.0, 1.0);
    for (const int dual_from : {0, 1000000})
        for (int power = 2; power <= 16; ++power)
            for (int round = 0; round < 6; ++round) {
                constexpr std::size_t n = 60;
                MmaValues at;
                at.goal = 4000.0;
                at.constraint = {-0.03};
                at.gradient.emplace_back();
                std::vector<double> x;
                for (std::size_t j = 0; j < n; ++j) {
                    at.goal_gradient.push_back(-std::abs(any(random)));
                    at.gradient[0].push_back(1.0 / n);
                    x.push_back(0.5 + 0.5 * any(random));
                }
                const double huge = std::pow(10.0, power);
                x[0] = 7e-8;
                x[1] = 1.0 - 5e-9;
                x[2] = 0.3;
                at.goal_gradient[0] = -huge;
                at.goal_gradient[1] = -huge / 3.0;
                at.goal_gradient[2] = round % 2 == 0 ? huge : -huge;
                MmaSettings settings;
                settings.dual_from = dual_from;
                settings.c = 1000.0;
                MmaState state;
                const std::vector<double> low(n, 0.0);
                const std::vector<double> high(n, 1.0);
                const MmaStep step = mma_step({x, low, high, 0.2, at}, settings, state);
                const std::string which = "dual from " + std::to_string(dual_from) + ", 1e" +
                                          std::to_string(power) + ", round " + std::to_string(round);
                for (std::size_t j = 0; j < n; ++j) {
                    ASSERT_TRUE(std::isfinite(step.x[j])) << which;
                    ASSERT_GE(step.x[j], 0.0) << which;
                    ASSERT_LE(step.x[j], 1.0) << which;
                    ASSERT_LE(std::abs(step.x[j] - x[j]), 0.2 + 1e-12) << which;
                }
                ASSERT_TRUE(std::isfinite(step.multiplier[0])) << which;
                EXPECT_GT(step.x[0], 0.15) << which;
                EXPECT_GT(step.x[1], 0.99) << which;
                EXPECT_TRUE(round % 2 == 0 ? step.x[2] < 0.15 : step.x[2] > 0.45) << which;
            }
}

TEST(MovingAsymptotes, ThreadsDoNotChangeTheStep) {
    const std::size_t n = 9000;
    const Values values = [&](const std::vector<double>& x) {
        MmaValues out;
        out.goal_gradient.resize(n);
        out.gradient.assign(2, std::vector<double>(n));
        out.constraint.assign(2, -1.0);
        for (std::size_t j = 0; j < n; ++j) {
            const double weight = (1.0 + std::sin(0.01 * static_cast<double>(j))) / static_cast<double>(n);
            out.goal += x[j] / static_cast<double>(n);
            out.goal_gradient[j] = 1.0 / static_cast<double>(n);
            for (std::size_t i = 0; i < 2; ++i) {
                const double w = weight * (i == 0 ? 0.2 : 0.1);
                out.constraint[i] += w / x[j];
                out.gradient[i][j] = -w / (x[j] * x[j]);
            }
        }
        return out;
    };
    const std::vector<double> start(n, 0.5);
    const auto with = [&](int threads) {
        omp_set_num_threads(threads);
        return run(start, std::vector<double>(n, 1e-3), std::vector<double>(n, 1.0), values, 4, {}, 0.2);
    };
    const int before = omp_get_max_threads();
    const auto one = with(1);
    const auto three = with(3);
    omp_set_num_threads(before);
    EXPECT_EQ(one, three);
}

// The globally convergent form: a step after which the functions lie above their approximations is taken
// back, with more curvature, until they do not.
TEST(MovingAsymptotes, ConservativeStepsNeverOvershoot) {
    const auto function = [](double x) { return std::pow(x - 0.3, 2) + 0.05 * std::sin(40 * x); };
    const Values values = [&](const std::vector<double>& x) {
        MmaValues out;
        out.goal = function(x[0]);
        out.goal_gradient = {2 * (x[0] - 0.3) + 2 * std::cos(40 * x[0])};
        return out;
    };
    MmaState state;
    std::vector<double> x{0.9};
    const std::vector<double> low{0.0};
    const std::vector<double> high{1.0};
    double before = function(x[0]);
    for (int i = 0; i < 20; ++i) {
        const MmaValues here = values(x);
        mma_start_conservative(here, state);
        MmaStep step = mma_step({x, low, high, 1.0, here}, {}, state);
        for (int trial = 0; trial < 30 && mma_raise(step, {function(step.x[0])}, 1e-9, state); ++trial)
            step = mma_again({x, low, high, 1.0, here}, {}, state);
        x = step.x;
        EXPECT_LE(function(x[0]), before + 1e-9);
        before = function(x[0]);
    }
}
