#include "optimize/run/black_and_white.hpp"

#include "optimize/run.hpp"
#include "support/silent.hpp"
#include "support/studies.hpp"

#include <algorithm>
#include <gtest/gtest.h>
#include <random>

using namespace upright;
using test::block_study;
using test::study_from;

namespace {

// Denser towards the clamp, every element another: 8 x 4 x 4 cells.
std::vector<double> slope_of(const Model& model) {
    std::vector<double> out;
    for (std::size_t e = 0; e < model.mesh.elements(); ++e) {
        const Vec3& c = model.mesh.center(e);
        out.push_back(0.95 - 0.1 * c.x() - 0.003 * c.y() - 0.0007 * c.z());
    }
    return out;
}

// A bar of 8 x 2 cells pulled along x: sigma = F / A where the section is whole.
std::string bar(const std::string& responses, const std::string& goal) {
    return test::StudyText()
        .steel()
        .region("bar", "box = [[0, 0], [8, 2]]")
        .surface("root", "facing = [-1, 0]")
        .surface("tip", "facing = [1, 0]")
        .support("clamp", "root", R"(["x", "y"])")
        .force("pull", "tip", "[100, 0]")
        .load_case("pull", R"(["clamp"])", "{ pull = 1 }")
        .response("stiffness", "compliance")
        .response("weight", "mass-fraction")
        .add(responses)
        .minimize(goal)
        .mesh("size = 1\nelement = \"plane-stress\"\nthickness = 1");
}

std::size_t solid(const std::vector<double>& density) {
    return static_cast<std::size_t>(std::count(density.begin(), density.end(), 1.0));
}

} // namespace

TEST(BlackAndWhite, TakesAsMuchMaterialAsItsBoundAllows) {
    const Model model = build_model(study_from(block_study()));
    StaticAnalysis analysis(model, {});
    const Problem problem = make_problem(model);
    DesignMeasures measures(analysis);
    const BlackAndWhiteLook look(model, problem, measures);
    const std::vector<double> density = slope_of(model);
    const BlackAndWhite made = look.best({density, {}, {}});
    // 40 % of 128 equal elements: the 51 densest, by a count of its own.
    EXPECT_EQ(solid(made.density), 51U);
    std::vector<double> sorted = density;
    std::sort(sorted.rbegin(), sorted.rend());
    EXPECT_LT(made.threshold, sorted[50]);
    EXPECT_GE(made.threshold, sorted[51]);
    for (std::size_t e = 0; e < density.size(); ++e)
        EXPECT_EQ(made.density[e], density[e] > made.threshold ? 1.0 : 0.0) << e;
    EXPECT_TRUE(made.readings[1].holds);
    // The far end is void: nothing bears the load.
    EXPECT_FALSE(made.carries());
    EXPECT_FALSE(made.feasible);
    EXPECT_GT(made.in_void.at(0), 0.9);
}

TEST(BlackAndWhite, LeastMaterialIsTheLeastThatHolds) {
    const std::string limit = "[[response]]\nname = \"give\"\nmeasure = \"displacement\"\nat = \"tip\"\n"
                              "component = \"x\"\nmax = ";
    // Rows of the bar: the upper one is void from some threshold on. Whole: u = F L / (E A).
    const Model model = build_model(study_from(bar(limit + "0.0095\n", "weight")));
    StaticAnalysis analysis(model, {});
    const Problem problem = make_problem(model);
    DesignMeasures measures(analysis);
    const BlackAndWhiteLook look(model, problem, measures);
    std::vector<double> density;
    for (std::size_t e = 0; e < model.mesh.elements(); ++e) {
        const Vec3& c = model.mesh.center(e);
        density.push_back(c.y() < 1.0 || c.x() > 7.0 ? 0.9 : 0.15 + 0.05 * c.x());
    }
    const BlackAndWhite made = look.best({density, {}, {}});
    EXPECT_TRUE(made.feasible);
    // A second way: every threshold there is, one after the other.
    std::vector<double> levels = density;
    std::sort(levels.begin(), levels.end());
    std::size_t least = model.mesh.elements();
    for (const double level : levels) {
        std::vector<double> one;
        for (const double d : density) one.push_back(d > level ? 1.0 : 0.0);
        measures.analyse(one, 3.0, {});
        const std::vector<Reading> all = measures.readings();
        const bool holds = std::all_of(all.begin(), all.end(), [](const Reading& r) { return r.holds; });
        if (holds) least = std::min(least, solid(one));
    }
    EXPECT_LT(least, model.mesh.elements());
    EXPECT_EQ(solid(made.density), least);
    EXPECT_NEAR(made.goal, static_cast<double>(least) / static_cast<double>(model.mesh.elements()), 1e-12);
}

// Stress does not fall with every element that is added: a design that holds its bound when cut at 0.5 may
// break it at all other thresholds, and this one is looked at.
TEST(BlackAndWhite, WhatHoldsAtTheMiddleIsFound) {
    const auto limit = [](double max) {
        return "[[response]]\nname = \"strength\"\nmeasure = \"stress\"\nmax = " + std::to_string(max) + "\n";
    };
    std::mt19937 random(11);
    std::uniform_real_distribution<double> any(0.05, 0.95);
    for (int round = 0; round < 40; ++round) {
        std::vector<double> density;
        double max = 1e6;
        for (const bool bounded : {false, true}) {
            const Model model = build_model(study_from(bar(limit(max), "weight")));
            StaticAnalysis analysis(model, {});
            const Problem problem = make_problem(model);
            DesignMeasures measures(analysis);
            const BlackAndWhiteLook look(model, problem, measures);
            if (!bounded)
                for (const Vec3& c : model.mesh.element_centers())
                    density.push_back(c.y() < 1.0 || c.x() > 7.0 ? 0.97 : any(random));
            const BlackAndWhite middle = look.quick({density, {}, {}}, {});
            max = 1.0001 * middle.readings.at(2).value;
            if (!bounded) continue;
            ASSERT_TRUE(middle.feasible);
            const BlackAndWhite best = look.best({density, {}, {}});
            EXPECT_TRUE(best.feasible) << round << ": " << best.readings.at(2).value << " of " << max;
            EXPECT_LE(best.goal, middle.goal) << round;
        }
    }
}

TEST(BlackAndWhite, TheThresholdStandsAwayFromTheDensities) {
    const Model model = build_model(study_from(block_study()));
    StaticAnalysis analysis(model, {});
    const Problem problem = make_problem(model);
    DesignMeasures measures(analysis);
    const BlackAndWhiteLook look(model, problem, measures);
    // A design that is black and white already.
    std::vector<double> density;
    for (std::size_t e = 0; e < model.mesh.elements(); ++e)
        density.push_back(model.mesh.center(e).z() < 1.0 || model.mesh.center(e).x() > 7.0 ? 1.0 - 1e-9
                                                                                           : 1e-9);
    const BlackAndWhite made = look.best({density, {}, {}});
    EXPECT_DOUBLE_EQ(made.threshold, 0.5);
    EXPECT_EQ(solid(made.density), 44U); // a layer of 32, and the end that is pulled
    EXPECT_TRUE(made.carries());
    EXPECT_LT(made.in_void.at(0), 1e-4);
    EXPECT_TRUE(made.feasible);
}

// Stress of the whole bar is F / A = 50: in black and white as in the measure.
TEST(BlackAndWhite, StressIsThatOfSolidMaterial) {
    const std::string strength =
        "[[response]]\nname = \"strength\"\nmeasure = \"stress\"\nexcept = [\"root\", \"tip\"]\nmax = 120\n";
    const Model model = build_model(study_from(bar(strength, "weight"), {"material.steel.nu=0"}));
    StaticAnalysis analysis(model, {});
    const Problem problem = make_problem(model);
    DesignMeasures measures(analysis);
    const BlackAndWhiteLook look(model, problem, measures);
    const BlackAndWhite whole = look.quick({std::vector<double>(model.mesh.elements(), 0.9), {}, {}}, {});
    EXPECT_EQ(solid(whole.density), model.mesh.elements());
    EXPECT_NEAR(whole.readings[2].value, 50.0, 1e-6);
    // Half the section: twice the stress.
    std::vector<double> half;
    for (std::size_t e = 0; e < model.mesh.elements(); ++e)
        half.push_back(model.mesh.center(e).y() < 1.0 ? 0.9 : 0.1);
    EXPECT_NEAR(look.quick({half, {}, {}}, {}).readings[2].value, 100.0, 0.01);
}

// What decides is said, and by which design.
TEST(BlackAndWhite, DecidesWhereTheRunCameToItsEnd) {
    const auto run = [](const std::vector<std::string>& settings) {
        const Model model = build_model(study_from(block_study("[run]\niterations = 80\n"), settings));
        StaticAnalysis analysis(model, {});
        test::Silent silent;
        return optimize(analysis, silent);
    };
    const OptimizeResult sharp = run({});
    EXPECT_TRUE(sharp.by_black_and_white());
    EXPECT_EQ(sharp.feasible, sharp.black_and_white.feasible);
    EXPECT_EQ(&sharp.deciding(), &sharp.black_and_white.readings);
    // The fields that are kept are of the same design: compliance is the first response.
    EXPECT_NEAR(sharp.cases.at(0).compliance, sharp.black_and_white.readings.at(0).value,
                1e-6 * sharp.cases.at(0).compliance);
    for (std::size_t e = 0; e < sharp.stiffness.size(); ++e)
        EXPECT_TRUE(sharp.stiffness[e] == 1.0 || sharp.stiffness[e] < 1e-6) << e;
    const OptimizeResult gray = run({"run.sharpen=false"});
    EXPECT_FALSE(gray.by_black_and_white());
    EXPECT_TRUE(gray.black_and_white.there());
    EXPECT_EQ(&gray.deciding(), &gray.readings);
    EXPECT_NEAR(gray.cases.at(0).compliance, gray.readings.at(0).value, 1e-6 * gray.readings.at(0).value);
    const OptimizeResult cut_short = run({"run.iterations=3"});
    EXPECT_FALSE(cut_short.by_black_and_white());
    EXPECT_TRUE(cut_short.feasible); // its densities hold the bound
}
