#include "response/stress_lagrangian.hpp"

#include "support/studies.hpp"

#include <cmath>
#include <gtest/gtest.h>

using namespace upright;

namespace {

// A row of 6 plane cells.
Model row_of_cells() {
    return build_model(test::study_from(test::StudyText()
                                            .steel()
                                            .region("row", "box = [[0, 0], [6, 1]]")
                                            .surface("root", "facing = [-1, 0]")
                                            .support("clamp", "root", R"(["x", "y"])")
                                            .mesh("size = 1\nelement = \"plane-stress\"\nthickness = 1")));
}

StressLagrangian of_row(const Model& model, double allowed) {
    return {model.mesh, {0, 1, 2, 3, 4, 5}, std::vector<double>(6, 200.0), allowed};
}

} // namespace

// By the formula: mean of lambda h + mu h^2 / 2 with lambda = 0 and mu = 50 at first; void counts nothing.
TEST(StressLagrangian, IsTheFormulaOfItsSource) {
    const Model model = row_of_cells();
    const StressLagrangian one = of_row(model, 0.5); // limit 100
    Memory memory;
    const std::vector<double> stress{50.0, 120.0, 150.0, 1e6, 100.0, 90.0};
    const std::vector<double> stiffness{1.0, 1.0, 0.125, 1e-9, 1.0, 1.0};
    const StressLagrangian::Terms terms = one.terms(stress, stiffness, memory, "s", false);
    const auto h = [](double share, double s) {
        const double over = s / 100.0 - 1.0;
        return share * over * (over * over + 1.0);
    };
    // A cell that is nearly void and still bears: by the tangent at ten times the limit.
    const double void_h = 1e-9 * (9.0 * 82.0 + 244.0 * (9999.0 - 9.0));
    const double expected =
        0.5 * 50.0 * (std::pow(h(1.0, 120.0), 2) + std::pow(h(0.125, 150.0), 2) + std::pow(void_h, 2)) / 6.0;
    EXPECT_NEAR(terms.value, expected, 1e-9 * expected);
    EXPECT_EQ(terms.by_stress[0], 0.0);
    EXPECT_EQ(terms.by_stress[5], 0.0);
    // Slopes against differences.
    for (const std::size_t k : {1U, 2U}) {
        std::vector<double> up = stress;
        std::vector<double> down = stress;
        up[k] += 1e-3;
        down[k] -= 1e-3;
        const double slope = (one.terms(up, stiffness, memory, "s", false).value -
                              one.terms(down, stiffness, memory, "s", false).value) /
                             2e-3;
        EXPECT_NEAR(terms.by_stress[k], slope, 1e-5 * std::abs(terms.value));
        std::vector<double> stiffer = stiffness;
        stiffer[k] += 1e-5;
        const double by_stiffness =
            (one.terms(stress, stiffer, memory, "s", false).value - terms.value) / 1e-5;
        EXPECT_NEAR(terms.by_stiffness[k], by_stiffness, 1e-3 * by_stiffness);
    }
}

// A peak of one element weighs as much where elements are a sixth as large.
TEST(StressLagrangian, AMeanOverWhatAFilterLeavesFree) {
    const Model model = row_of_cells();
    const StressLagrangian one{model.mesh, {1}, {200.0}, 0.5};
    const StressLagrangian six{model.mesh, {0, 1, 2, 3, 4, 5}, std::vector<double>(6, 200.0), 0.5, 6.0};
    const StressLagrangian fewer{model.mesh, {1}, {200.0}, 0.5, 6.0}; // than move as one
    const std::vector<double> stress{50.0, 120.0, 50.0, 50.0, 50.0, 50.0};
    const std::vector<double> stiffness(6, 1.0);
    Memory of_one;
    Memory of_six;
    Memory of_fewer;
    for (int i = 0; i < 12; ++i) {
        const auto a = one.terms({120.0}, stiffness, of_one, "s", true);
        const auto b = six.terms(stress, stiffness, of_six, "s", true);
        const auto c = fewer.terms({120.0}, stiffness, of_fewer, "s", true);
        EXPECT_NEAR(a.value, b.value, 1e-12 * a.value);
        EXPECT_NEAR(a.by_stress[0], b.by_stress[1], 1e-12 * a.by_stress[0]);
        EXPECT_NEAR(a.by_limit, b.by_limit, 1e-12 + 1e-12 * a.by_limit);
        EXPECT_NEAR(a.value, c.value, 1e-12 * a.value);
    }
}

TEST(StressLagrangian, MultipliersGrowWhereABoundStaysBroken) {
    const Model model = row_of_cells();
    const StressLagrangian one = of_row(model, 0.5);
    Memory memory;
    const std::vector<double> stress{50.0, 120.0, 50.0, 50.0, 50.0, 50.0};
    const std::vector<double> stiffness(6, 1.0);
    const double first = one.terms(stress, stiffness, memory, "s", true).by_stress[1];
    double last = first;
    for (int i = 0; i < 20; ++i) last = one.terms(stress, stiffness, memory, "s", true).by_stress[1];
    EXPECT_GT(last, 3.0 * first);
    EXPECT_GT(memory.multipliers.at("s")[1], 0.0);
    EXPECT_EQ(memory.multipliers.at("s")[0], 0.0); // never below zero
}

// The third cell bears more in black and white: it and its neighbours are held to as much less.
TEST(StressLagrangian, FollowsTheBlackAndWhiteDesign) {
    const Model model = row_of_cells();
    const StressLagrangian one = of_row(model, 1.0); // limit 200
    Memory memory;
    const std::vector<double> gray(6, 100.0);
    std::vector<double> made(6, 100.0);
    made[2] = 120.0;
    made[5] = 500.0; // of a void cell: nothing
    const std::vector<double> density{1.0, 1.0, 1.0, 1.0, 1.0, 0.0};
    one.follow(gray, made, density, memory, "s");
    const std::vector<double> more = memory.multipliers.at("s made");
    EXPECT_DOUBLE_EQ(more[0], 1.0);
    EXPECT_DOUBLE_EQ(more[1], 1.2);
    EXPECT_DOUBLE_EQ(more[2], 1.2);
    EXPECT_DOUBLE_EQ(more[3], 1.2);
    EXPECT_DOUBLE_EQ(more[4], 1.0);
    EXPECT_DOUBLE_EQ(memory.corrections.at("s made"), 1.0); // 120 of 200: nothing is broken
    // What is no more larger is forgotten slowly; what is broken tightens all.
    made[2] = 100.0;
    made[0] = 220.0;
    one.follow(gray, made, density, memory, "s");
    EXPECT_NEAR(memory.multipliers.at("s made")[2], 1.16, 1e-12);
    EXPECT_DOUBLE_EQ(memory.multipliers.at("s made")[0], 2.0);
    EXPECT_NEAR(memory.corrections.at("s made"), std::pow(1.1, 0.1), 1e-12);
    // And is let go again, never below what was asked.
    for (int i = 0; i < 50; ++i) one.follow(gray, gray, density, memory, "s");
    EXPECT_DOUBLE_EQ(memory.corrections.at("s made"), 1.0);
}
