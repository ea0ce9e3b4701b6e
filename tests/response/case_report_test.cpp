#include "response/case_report.hpp"

#include "support/studies.hpp"

#include <cmath>

namespace upright {

using test::block_study;
using test::study_from;

namespace {

// The block of 8 x 4 x 4 mm pulled along x by 160 N: 10 N/mm2.
const char* tension = R"(units = ["mm", "N", "s"]
[[material]]
name = "steel"
E = 200000
nu = 0.25
density = 7.85e-9
yield = 200
[[region]]
name = "bar"
role = "design"
material = "steel"
box = [[0, 0, 0], [8, 4, 4]]
[[surface]]
name = "low"
of = "bar"
facing = [-1, 0, 0]
[[surface]]
name = "high"
of = "bar"
facing = [1, 0, 0]
[[surface]]
name = "front"
of = "bar"
facing = [0, -1, 0]
[[surface]]
name = "below"
of = "bar"
facing = [0, 0, -1]
[[point]]
name = "tip"
at = [8, 4, 4]
[[frame]]
name = "axle"
kind = "cylindrical"
origin = [0, 0, 0]
axis = [1, 0, 0]
start = [0, 1, 0]
[[support]]
name = "x-wall"
on = "low"
hold = ["x"]
[[support]]
name = "y-wall"
on = "front"
hold = ["y"]
[[support]]
name = "z-wall"
on = "below"
hold = ["z"]
[[load]]
name = "pull"
on = "high"
force = [160, 0, 0]
[[case]]
name = "pull"
supports = ["x-wall", "y-wall", "z-wall"]
loads = { pull = [1, 2] }
[mesh]
size = 1
)";

Outcome measured(const std::string& response, const std::string& in_case = "pull/1") {
    const Study study = study_from(std::string(tension) + "[[response]]\nname = \"r\"\n" + response);
    const Model model = build_model(study);
    for (const Outcome& o : measure_all(model, analyze(model, {})))
        if (o.in_case == in_case || o.in_case.empty()) return o;
    ADD_FAILURE() << "nothing was measured: " << response;
    return {};
}

} // namespace

TEST(CaseReport, ABarInTension) {
    const Model model = build_model(study_from(tension));
    const AnalysisReport report = analyze(model, {});
    ASSERT_EQ(report.statics.size(), 2U);
    const StaticReport& s = report.statics[0];
    EXPECT_NEAR(s.stress_peak.value, 10.0, 1e-9);
    EXPECT_NEAR(s.stress_point_peak.value, 10.0, 1e-9);
    EXPECT_NEAR(s.principal_high.value, 10.0, 1e-9);
    EXPECT_NEAR(s.principal_low.value, 0.0, 1e-9);
    EXPECT_NEAR(s.least_safety->value, 20.0, 1e-7);
    EXPECT_NEAR(s.compliance, 160 * 8 * 10.0 / 200000, 1e-9);
    EXPECT_NEAR(s.strain_energy, 0.5 * s.compliance, 1e-9);
    EXPECT_LT(s.error.relative, 1e-7);
    EXPECT_LT(s.balance, 1e-9);
    ASSERT_EQ(s.reactions.size(), 3U);
    EXPECT_NEAR(s.reactions[0].force.x(), -160.0, 1e-8);
    // Wall and pull share the line through the middle of the faces.
    EXPECT_NEAR(s.reactions[0].moment.y(), -160.0 * 2, 1e-6);
    EXPECT_NEAR(s.reactions[0].moment.z(), 160.0 * 2, 1e-6);
    EXPECT_NEAR(report.statics[1].stress_peak.value, 20.0, 1e-9);
}

TEST(CaseReport, EveryMeasureIsWhatItSays) {
    const double stretch = 10.0 / 200000;
    EXPECT_NEAR(measured("measure = \"displacement\"\nat = \"tip\"\ncomponent = \"x\"").value, 8 * stretch,
                1e-10);
    EXPECT_NEAR(measured("measure = \"displacement\"\nat = \"tip\"\ncomponent = \"y\"").value,
                -4 * 0.25 * stretch, 1e-10);
    EXPECT_NEAR(measured("measure = \"displacement\"\nat = \"tip\"").value, stretch * std::sqrt(64.0 + 1 + 1),
                1e-10);
    // Around the x axis the tip lies at 45 degrees: it moves inward, and not around.
    EXPECT_NEAR(
        measured("measure = \"displacement\"\nat = \"tip\"\nframe = \"axle\"\ncomponent = \"r\"").value,
        -stretch * std::sqrt(2.0), 1e-10);
    EXPECT_NEAR(
        measured("measure = \"displacement\"\nat = \"tip\"\nframe = \"axle\"\ncomponent = \"t\"").value, 0.0,
        1e-12);
    EXPECT_NEAR(
        measured("measure = \"displacement\"\nat = \"front\"\ncomponent = \"x\"\ntake = \"mean\"").value,
        4 * stretch, 1e-10);
    EXPECT_NEAR(measured("measure = \"displacement\"\nat = \"front\"\ncomponent = \"x\"").value, 8 * stretch,
                1e-10);
    EXPECT_NEAR(measured("measure = \"stress\"").value, 10.0, 1e-9);
    EXPECT_NEAR(measured("measure = \"safety\"").value, 20.0, 1e-7);
    EXPECT_NEAR(measured("measure = \"reaction\"\nat = \"x-wall\"\ncomponent = \"x\"").value, -160.0, 1e-8);
    EXPECT_NEAR(measured("measure = \"compliance\"\ncase = \"pull/2\"", "pull/2").value,
                4 * 160 * 8 * stretch, 1e-9);
    // Of all that bear the name together, as in a run; or the largest of them.
    EXPECT_NEAR(measured("measure = \"compliance\"\ncase = \"pull\"", "pull").value, 5 * 160 * 8 * stretch,
                1e-9);
    EXPECT_NEAR(measured("measure = \"compliance\"\ntake = \"largest\"").value, 4 * 160 * 8 * stretch, 1e-9);
    EXPECT_NEAR(measured("measure = \"mass\"").value, 128 * 7.85e-9, 1e-15);
}

TEST(CaseReport, BoundsHoldOrNot) {
    EXPECT_TRUE(measured("measure = \"stress\"\nmax = \"6% of yield\"").holds);
    const Outcome share = measured("measure = \"stress\"\nmax = \"4% of yield\"");
    EXPECT_FALSE(share.holds);
    EXPECT_NEAR(*share.max, 8.0, 1e-12);
    EXPECT_FALSE(measured("measure = \"safety\"\nmin = 21").holds);
    EXPECT_TRUE(measured("measure = \"safety\"\nmin = 19").holds);
    EXPECT_FALSE(measured("measure = \"displacement\"\nat = \"tip\"\ncomponent = \"x\"\nmax = 1e-4").holds);
    EXPECT_FALSE(measured("measure = \"displacement\"\nat = \"tip\"\ncomponent = \"y\"\nmin = -1e-5").holds);
}

TEST(CaseReport, ExceptionsLeaveOutWhatTheyName) {
    const Model model = build_model(study_from(block_study()));
    const AnalysisReport all = analyze(model, {});
    AnalysisWish wish;
    wish.except = {"root"};
    const AnalysisReport some = analyze(model, wish);
    // The clamp has the largest stress; without its elements the place moves away from it.
    EXPECT_LT(all.statics[0].stress_peak.place.x(), 1.5);
    EXPECT_GT(some.statics[0].stress_peak.place.x(), 1.5);
    EXPECT_LT(some.statics[0].stress_peak.value, all.statics[0].stress_peak.value);
    wish.except = {"rot"};
    EXPECT_THROW(analyze(model, wish), Error);
}

TEST(CaseReport, ProbesReadTheFieldInside) {
    const Model model = build_model(study_from(tension));
    const AnalysisReport report = analyze(model, {});
    const ProbeReading inside = read_probe(model, report, report.statics[0], Vec3(3.3, 1.7, 2.9));
    EXPECT_LT(inside.off, 1e-9);
    EXPECT_NEAR(inside.displacement.x(), 3.3 * 10 / 200000, 1e-10);
    EXPECT_NEAR(inside.displacement.z(), -2.9 * 0.25 * 10 / 200000, 1e-10);
    EXPECT_NEAR(inside.stress[0], 10.0, 1e-9);
    EXPECT_NEAR(inside.von_mises, 10.0, 1e-9);
    const ProbeReading outside = read_probe(model, report, report.statics[0], Vec3(10, 2, 2));
    EXPECT_NEAR(outside.off, 2.0, 1e-9);
    EXPECT_NEAR(outside.place.x(), 8.0, 1e-9);
}

TEST(CaseReport, ChosenCasesAlone) {
    const Model model = build_model(study_from(tension));
    AnalysisWish wish;
    wish.cases = {"pull/2"};
    EXPECT_EQ(analyze(model, wish).statics.size(), 1U);
    wish.cases = {"pull"};
    EXPECT_EQ(analyze(model, wish).statics.size(), 2U);
    wish.cases = {"pul"};
    EXPECT_THROW(analyze(model, wish), Error);
}

// With both bounds each side of a displacement is looked at: what is farther beyond its bound is told.
TEST(CaseReport, BothSidesOfADisplacementAreJudged) {
    // The tip's nodes move along y by 0 at the wall to -nu * 4 * strain.
    const double most = 0.25 * 4 * 10.0 / 200000;
    const std::string of = "measure = \"displacement\"\nat = \"high\"\ncomponent = \"y\"\n";
    const auto bounded = [&](double low, double high) {
        return measured(of + "min = " + std::to_string(1e6 * low) +
                        "e-6\nmax = " + std::to_string(1e6 * high) + "e-6\n");
    };
    EXPECT_TRUE(bounded(-1.1 * most, 2 * most).holds);
    EXPECT_FALSE(bounded(-0.5 * most, 10 * most).holds); // below, though the size is far from max
    EXPECT_NEAR(bounded(-0.5 * most, 10 * most).value, -most, 1e-12);
    EXPECT_FALSE(bounded(-2 * most, -0.1 * most).holds); // the node at the wall, which does not move
    EXPECT_NEAR(bounded(-2 * most, -0.1 * most).value, 0.0, 1e-12);
}

} // namespace upright
