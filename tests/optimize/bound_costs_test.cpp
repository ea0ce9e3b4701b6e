// What bounds cost: the multipliers against closed forms and against runs with the bound moved.
#include "optimize/run.hpp"
#include "support/silent.hpp"
#include "support/studies.hpp"

#include <cmath>
#include <gtest/gtest.h>

using namespace upright;
using test::study_from;

namespace {

OptimizeResult priced(const Model& model) {
    StaticAnalysis analysis(model, {});
    test::Silent silent;
    return optimize(analysis, silent);
}

OptimizeResult priced_bench(const std::string& name, const std::vector<std::string>& settings) {
    return priced(
        build_model(load_study(std::filesystem::path(UPRIGHT_OPTIMIZER_BENCH) / (name + ".toml"), settings)));
}

// Two bars one after the other, pulled: without a penalty C = F^2 L / (E A) sum 1 / rho, so at the optimum
// both have the same density and C goes with 1 / V.
std::string gray_bar(const std::string& goal, const std::string& bounds) {
    return test::StudyText()
        .material("unit", "1000", "0", "1")
        .region("bar", "box = [[0, 0], [8, 1]]")
        .surface("root", "facing = [-1, 0]")
        .surface("tip", "facing = [1, 0]")
        .support("clamp", "root", R"(["x", "y"])")
        .force("pull", "tip", "[1, 0]")
        .load_case("pull", R"(["clamp"])", "{ pull = 1 }")
        .add(bounds)
        .minimize(goal)
        .mesh("size = 1\nelement = \"plane-stress\"\nthickness = 1")
        .add("[run]\niterations = 60\npenalty = 1\nsharpen = false\nfilter = 0.5\n");
}

std::string response(const std::string& name, const std::string& measure, const std::string& more = {}) {
    return "[[response]]\nname = \"" + name + "\"\nmeasure = \"" + measure + "\"\n" + more;
}

double rate(const OptimizeResult& result, std::size_t column, bool upper) {
    for (const BoundCost& cost : result.costs)
        if (cost.column == column && cost.upper == upper) return cost.rate;
    return std::nan("");
}

} // namespace

TEST(BoundCosts, OfABarAreThoseOfItsFormula) {
    // By criteria: compliance under volume, and volume under compliance.
    const OptimizeResult stiff = priced(build_model(study_from(
        gray_bar("work", response("work", "compliance") + response("v", "volume-fraction", "max = 0.5\n")))));
    EXPECT_EQ(stiff.method, "optimality criteria");
    EXPECT_NEAR(rate(stiff, 1, true), -1.0, 1e-3);
    EXPECT_LT(stiff.optimality.value_or(1.0), 1e-3);
    const OptimizeResult light = priced(build_model(study_from(
        gray_bar("v", response("work", "compliance", "max = 0.016\n") + response("v", "volume-fraction")))));
    EXPECT_EQ(light.method, "optimality criteria");
    EXPECT_NEAR(light.goal, 0.5, 2e-3);
    EXPECT_NEAR(rate(light, 0, true), -1.0, 5e-3);
    // By asymptotes: another bound that is slack costs nothing, one from below is loosened by less.
    const OptimizeResult both = priced(build_model(study_from(
        gray_bar("work", response("work", "compliance") + response("v", "volume-fraction", "max = 0.5\n") +
                             response("u", "displacement", "at = \"tip\"\ncomponent = \"x\"\nmax = 1\n")))));
    EXPECT_EQ(both.method, "moving asymptotes");
    EXPECT_NEAR(rate(both, 1, true), -1.0, 5e-3);
    EXPECT_NEAR(rate(both, 2, true), 0.0, 1e-6);
}

// Each against two runs with the bound 3 % lower and higher, to a fifth of the rate.
TEST(BoundCosts, AreWhatRunsWithTheBoundMovedShow) {
    struct Try {
        const char* study;
        const char* key;
        std::size_t column;
        double bound;
        std::vector<std::string> more;
    };
    const std::vector<Try> tries{{"half-beam", "response.budget.max=", 1, 0.5, {}}};
    for (const Try& one : tries) {
        SCOPED_TRACE(one.study);
        const auto at = [&](double factor) {
            std::vector<std::string> settings = one.more;
            settings.push_back(one.key + std::to_string(factor * one.bound));
            return priced_bench(one.study, settings);
        };
        const OptimizeResult here = at(1.0);
        const double found = std::log(at(1.03).goal / at(0.97).goal) / std::log(1.03 / 0.97);
        EXPECT_NEAR(rate(here, one.column, true) / found, 1.0, 0.2) << found;
    }
}

TEST(BoundCosts, OfAVolumeAreThoseOfItsShare) {
    const std::string mm =
        gray_bar("work", response("work", "compliance") + response("v", "volume", "max = 4\n") +
                             response("u", "displacement", "at = \"tip\"\nmax = 1\n"));
    const OptimizeResult one = priced(build_model(study_from(mm)));
    EXPECT_NEAR(rate(one, 1, true), -1.0, 5e-3);
    EXPECT_NEAR(rate(one, 2, true), 0.0, 1e-6);
}
