// What a run must not depend on: the units it is written in, the way the body lies in space, the names of
// things. On every family of mesh, by criteria and by asymptotes.
#include "optimize/run.hpp"
#include "response/case_report.hpp"
#include "support/bodies.hpp"
#include "support/other_units.hpp"
#include "support/silent.hpp"
#include "support/studies.hpp"

namespace upright {
namespace {

using test::Body;
using test::replaced;
using test::study_from;

using test::Silent;

OptimizeResult run(const Model& model) {
    StaticAnalysis analysis(model, {});
    Silent silent;
    return optimize(analysis, silent);
}

double largest(const std::vector<double>& a, const std::vector<double>& b) {
    double out = 0.0;
    for (std::size_t e = 0; e < a.size(); ++e) out = std::max(out, std::abs(a[e] - b[e]));
    return out;
}

class RunInvariance : public testing::TestWithParam<Body> {};

const std::string short_run = "[run]\niterations = 7\n";
const std::string gray_run = short_run + "sharpen = false\n";
// Another bound makes it a problem for asymptotes.
const std::string heavy = "[[response]]\nname = \"weight\"\nmeasure = \"mass\"\nmax = \"1 t\"\n";

} // namespace

TEST_P(RunInvariance, UnitsLeadToTheSameDesign) {
    for (const std::string& more : {std::string(), heavy}) {
        const std::string text = GetParam().text + more + (more.empty() ? gray_run : short_run);
        const Model a = build_model(study_from(text));
        const Model b = build_model(study_from(test::in_other_units(text)));
        ASSERT_EQ(a.mesh.elements(), b.mesh.elements());
        const OptimizeResult one = run(a);
        const OptimizeResult two = run(b);
        EXPECT_EQ(one.method, two.method);
        EXPECT_EQ(one.method, more.empty() ? "optimality criteria" : "moving asymptotes");
        EXPECT_LT(largest(one.density, two.density), 2e-5) << more;
        for (std::size_t i = 0; i < one.state.history.size(); ++i)
            EXPECT_NEAR(two.state.history[i].goal, one.state.history[i].goal * 1e-4,
                        2e-5 * two.state.history[i].goal)
                << i;
    }
}

// The load ten times as large, and the material half as stiff: compliance is another number, the best design
// is not.
TEST_P(RunInvariance, SizesOfLoadAndStiffnessLeadToTheSameDesign) {
    for (const std::string& more : {std::string(), heavy}) {
        const std::string text = GetParam().text + more + (more.empty() ? gray_run : short_run);
        const OptimizeResult one = run(build_model(study_from(text)));
        const OptimizeResult two = run(build_model(
            study_from(replaced(text, "{ pull = 1 }", "{ pull = 10 }"), {"material.steel.E=105000"})));
        EXPECT_LT(largest(one.density, two.density), 2e-5) << more;
        EXPECT_NEAR(two.goal, 200.0 * one.goal, 1e-4 * two.goal);
    }
}

// What a run measures at full density is what an analysis finds.
TEST_P(RunInvariance, RunsAndAnalysesMeasureAlike) {
    const Model model = build_model(study_from(GetParam().text + R"([[case]]
name = "hum"
kind = "modal"
supports = "clamp"
modes = 2
[[response]]
name = "sag"
measure = "displacement"
at = "tip"
[[response]]
name = "hold"
measure = "reaction"
at = "clamp"
[[response]]
name = "weight"
measure = "mass"
[[response]]
name = "pitch"
measure = "frequency"
)"));
    StaticAnalysis analysis(model, {});
    DesignMeasures measures(analysis);
    measures.analyse(std::vector<double>(model.mesh.elements(), 1.0), 3.0, {});
    const std::vector<Reading> readings = measures.readings();
    const std::vector<Outcome> outcomes = measure_all(model, analyze(model, {}));
    ASSERT_EQ(readings.size(), outcomes.size());
    for (std::size_t k = 0; k < readings.size(); ++k)
        EXPECT_NEAR(readings[k].value, outcomes[k].value, 1e-6 * std::abs(outcomes[k].value))
            << measures.columns()[k].name;
}

// Names and the order of cards that do not paint over each other change nothing.
TEST_P(RunInvariance, NamesDoNotMatter) {
    const std::string text = GetParam().text + short_run;
    const OptimizeResult one = run(build_model(study_from(text)));
    std::string other = text;
    for (const auto& [from, to] :
         std::vector<std::pair<std::string, std::string>>{{"\"body\"", "\"Körper 1\""},
                                                          {"\"clamp\"", "\"a\""},
                                                          {"\"tip\"", "\"zz top\""},
                                                          {"\"bend\"", "\"Fall 2\""}})
        other = replaced(other, from, to);
    const OptimizeResult two = run(build_model(study_from(other)));
    EXPECT_EQ(one.density, two.density);
    EXPECT_EQ(one.goal, two.goal);
}

INSTANTIATE_TEST_SUITE_P(All, RunInvariance, testing::ValuesIn(test::bodies()), test::name_of);

// A block along x and one along y: the same design, turned.
TEST(RunOrientation, DoesNotMatter) {
    const auto block = [](bool turned) {
        const auto list = [&](const std::string& x, const std::string& y, const std::string& z) {
            return "[" + (turned ? y + ", " + x : x + ", " + y) + ", " + z + "]";
        };
        return std::string(
            test::StudyText()
                .steel()
                .region("body", "box = [" + list("0", "0", "0") + ", " + list("10", "4", "3") + "]")
                .surface("root", "facing = " + list("-1", "0", "0"))
                .surface("tip", "facing = " + list("1", "0", "0"))
                .support("clamp", "root", R"(["x", "y", "z"])")
                .force("pull", "tip", list("10", "40", "-100"))
                .load_case("bend", R"(["clamp"])", "{ pull = 1 }")
                .response("stiffness", "compliance")
                .response("budget", "volume-fraction", "max = 0.4")
                .minimize("stiffness")
                .mesh("size = 1\n")
                .section("run", "iterations = 10\n"));
    };
    const Model a = build_model(study_from(block(false)));
    const Model b = build_model(study_from(block(true)));
    const OptimizeResult one = run(a);
    const OptimizeResult two = run(b);
    EXPECT_NEAR(one.goal, two.goal, 1e-5 * one.goal);
    double most = 0.0;
    for (std::size_t e = 0; e < a.mesh.elements(); ++e)
        for (std::size_t o = 0; o < b.mesh.elements(); ++o)
            if ((Vec3(b.mesh.center(o).y(), b.mesh.center(o).x(), b.mesh.center(o).z()) - a.mesh.center(e))
                    .norm() < 1e-9)
                most = std::max(most, std::abs(one.density[e] - two.density[o]));
    EXPECT_LT(most, 1e-4);
}

// What mirrors in load and support mirrors in design, though nobody asked for it.
TEST(RunSymmetry, IsKeptWithoutBeingAskedFor) {
    const std::string text = test::StudyText()
                                 .steel()
                                 .region("body", "box = [[0, 0, 0], [10, 6, 4]]")
                                 .surface("root", "facing = [-1, 0, 0]")
                                 .surface("tip", "facing = [1, 0, 0]")
                                 .support("clamp", "root", R"(["x", "y", "z"])")
                                 .force("pull", "tip", "[0, 0, -100]")
                                 .load_case("bend", R"(["clamp"])", "{ pull = 1 }")
                                 .response("stiffness", "compliance")
                                 .response("budget", "volume-fraction", "max = 0.3")
                                 .minimize("stiffness")
                                 .mesh("size = 1\n")
                                 .section("run", "iterations = 15\n");
    for (const std::string& more : {std::string(), heavy}) {
        const Model model = build_model(study_from(text + more));
        const OptimizeResult result = run(model);
        double most = 0.0;
        for (std::size_t e = 0; e < model.mesh.elements(); ++e)
            for (std::size_t o = 0; o < e; ++o) {
                Vec3 image = model.mesh.center(o);
                image.y() = 6.0 - image.y();
                if ((model.mesh.center(e) - image).norm() < 1e-9)
                    most = std::max(most, std::abs(result.density[e] - result.density[o]));
            }
        EXPECT_LT(most, 1e-4) << more;
    }
}

} // namespace upright
