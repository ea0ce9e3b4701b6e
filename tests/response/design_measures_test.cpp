#include "response/case_report.hpp"
#include "response/gradients.hpp"

using namespace upright;
using test::every_measure;
using test::expect_gradients_match;
using test::study_from;

namespace {

// A body without any symmetry: off-centre hole, kept pad, loads on every side.
std::string crooked_block(const std::string& extra) {
    return test::block_study(R"(
[[region]]
name = "hole"
role = "void"
box = [[2, 1, 0], [4, 2, 3]]
[[region]]
name = "pad"
role = "keep"
material = "steel"
box = [[7, 0, 0], [8, 2, 4]]
[[load]]
name = "side"
on = "tip"
force = [20, 70, 0]
[[point]]
name = "under"
at = [6, 0, 0]
[[support]]
name = "prop"
on = "under"
hold = ["x", "z"]
[[case]]
name = "ring"
kind = "modal"
supports = "clamp"
modes = 3
)" + every_measure(false) + extra);
}

const std::vector<std::string> strong{"material.steel.yield=300", "material.steel.expansion=1.2e-5",
                                      "case.bend.loads={ pull = 1, side = 0.7 }",
                                      "case.bend.supports=[\"clamp\", \"prop\"]"};

std::vector<std::string> with(std::vector<std::string> settings, const std::vector<std::string>& more) {
    settings.insert(settings.end(), more.begin(), more.end());
    return settings;
}

std::string flat_plate(const std::string& element, const std::string& extra) {
    const bool shell = element == "shell";
    return std::string("units = [\"mm\", \"N\", \"s\"]\n") + test::steel + R"(yield = 300
expansion = 1.2e-5
[[region]]
name = "plate"
role = "design"
material = "steel"
box = [[0, 0], [10, 5]]
[[region]]
name = "hole"
role = "void"
box = [[4, 1], [6, 2]]
[[surface]]
name = "root"
of = "plate"
facing = [-1, 0]
[[surface]]
name = "tip"
of = "plate"
facing = [1, 0]
[[support]]
name = "clamp"
on = "root"
hold = )" + (shell ? R"(["x", "y", "z", "rx", "ry", "rz"])" : R"(["x", "y"])") +
           R"(
[[point]]
name = "under"
at = [7, 0]
[[support]]
name = "prop"
on = "under"
hold = )" + (shell ? R"(["x", "z"])" : R"(["x", "y"])") +
           R"(
[[load]]
name = "pull"
on = "tip"
force = )" +
           (shell ? "[5, -20, 3]" : "[5, -20]") +
           R"(
[[case]]
name = "bend"
supports = ["clamp", "prop"]
loads = { pull = 1 }
[[case]]
name = "ring"
kind = "modal"
supports = "clamp"
modes = 3
[mesh]
size = 1
thickness = 0.5
element = ")" +
           element + "\"\n" + every_measure(true) + extra;
}

} // namespace

TEST(DesignMeasures, SensitivitiesOnAGrid) {
    expect_gradients_match(study_from(crooked_block(""), with(strong, {"mesh.size=1"})), 17);
}

TEST(DesignMeasures, SensitivitiesOnAFittedMesh) {
    expect_gradients_match(study_from(crooked_block(""), with(strong, {"mesh.size=2", "mesh.kind=fitted"})),
                           41);
}

TEST(DesignMeasures, SensitivitiesOnSecondOrderTetrahedra) {
    expect_gradients_match(
        study_from(crooked_block(""), with(strong, {"mesh.size=4", "mesh.kind=fitted", "mesh.order=2"})),
        151);
}

// The body is stocky: its factors are large, and lie apart.
TEST(DesignMeasures, SensitivitiesOfBuckling) {
    const std::string stable = "[[response]]\nname = \"stable\"\nmeasure = \"buckling\"\nmin = 20\n";
    const std::string warm = "[[load]]\nname = \"warm\"\nheat = 20\n[[case]]\nname = \"hot\"\nsupports = "
                             "[\"clamp\", \"prop\"]\nloads = { warm = 1, pull = 1 }\n";
    const std::vector<std::string> harder{"load.pull.force=[-9000, 500, -3000]"};
    for (const auto& mesh :
         std::vector<std::vector<std::string>>{{"mesh.size=2"}, {"mesh.size=3", "mesh.kind=fitted"}})
        expect_gradients_match(study_from(crooked_block(stable + warm), with(with(strong, harder), mesh)), 97,
                               3e-5);
    for (const char* element : {"plane-stress", "shell"})
        expect_gradients_match(study_from(flat_plate(element, stable),
                                          {"load.pull.force=" +
                                           std::string(*element == 's' ? "[-400, -20, 3]" : "[-2000, -20]")}),
                               11, 3e-5);
}

TEST(DesignMeasures, SensitivitiesInThePlane) {
    for (const char* element : {"plane-stress", "plane-strain"})
        expect_gradients_match(study_from(flat_plate(element, "")), 7);
}

TEST(DesignMeasures, SensitivitiesOnAFittedPlane) {
    expect_gradients_match(study_from(flat_plate("plane-stress", ""), {"mesh.kind=fitted", "mesh.size=1.5"}),
                           11);
}

TEST(DesignMeasures, SensitivitiesOfShells) {
    expect_gradients_match(study_from(flat_plate("shell", "")), 9);
}

// Loads that depend on the design, and a support that moves.
TEST(DesignMeasures, SensitivitiesUnderGravitySpinHeatPressureAndMotion) {
    const std::string extra = R"(
[[frame]]
name = "f"
kind = "cylindrical"
origin = [0, 1, 1]
axis = [0, 0, 1]
[[surface]]
name = "top"
of = "pad"
facing = [0, 0, 1]
[[support]]
name = "lift"
on = "top"
hold = "z"
move = { z = 0.001 }
[[load]]
name = "turn"
spin = { frame = "f", speed_up = "4e6 rad/s2", speed = "100000 rpm" }
[[load]]
name = "warm"
heat = 20
[[load]]
name = "weight"
gravity = [3e8, 2e8, -1e9]
[[load]]
name = "press"
on = "top"
pressure = 3
[[case]]
name = "all"
supports = ["clamp", "lift", "prop"]
loads = { turn = 1, warm = 1, weight = 1, press = 1, side = 1 }
)";
    // Spin and gravity leave the shortest distances between the values of a difference.
    expect_gradients_match(study_from(crooked_block(extra), with(strong, {"mesh.size=1"})), 23, 2e-5);
}

// A strip as thick as the size, and in space a round bar 1.1 times as thick, have a bulk of 1; balls stand on
// elements and their borders are a cell wide.
TEST(DesignMeasures, BulkOfAMemberIsItsThickness) {
    const auto bulk_of = [](const std::string& element, double across, const std::string& half) {
        const bool flat = element != "solid";
        const Model model = build_model(study_from(
            test::StudyText()
                .steel()
                .region("block", flat ? "box = [[0, 0], [60, 60]]" : "box = [[0, 0, 0], [36, 30, 30]]")
                .surface("root", flat ? "facing = [0, -1]" : "facing = [0, 0, -1]")
                .support("clamp", "root", element == "plane-stress" ? R"(["x", "y"])" : R"(["x", "y", "z"])")
                .force("pull", "root", element == "plane-stress" ? "[1, 0]" : "[1, 0, 0]")
                .load_case("one", R"(["clamp"])", "{ pull = 1 }")
                .response("stiffness", "compliance")
                .response("mass", "mass", "max = 1")
                .minimize("stiffness")
                .mesh("size = 1\n" + (flat ? "element = \"" + element + "\"\nthickness = 3" : std::string()))
                .add(half + "\n[form]\nmax_feature = " + (flat ? "12" : "10") + "\n")));
        StaticAnalysis analysis(model, {});
        DesignMeasures measures(analysis);
        const double middle = flat ? 30.0 : 18.0;
        std::vector<double> density;
        for (const Vec3& c : model.mesh.element_centers())
            density.push_back((flat ? std::abs(c.x() - middle) : std::hypot(c.x() - middle, c.y() - 15.0)) <
                                      0.5 * across
                                  ? 1.0
                                  : 0.0);
        measures.analyse(density, 3.0, {});
        for (std::size_t k = 0; k < measures.columns().size(); ++k)
            if (measures.columns()[k].name == "max_feature") return measures.readings()[k];
        ADD_FAILURE() << "max_feature is no response";
        return Reading{};
    };
    for (const char* element : {"plane-stress", "shell"}) {
        EXPECT_NEAR(bulk_of(element, 12.0, "").value, 1.0, 0.02) << element;
        EXPECT_TRUE(bulk_of(element, 10.0, "").holds);
        EXPECT_FALSE(bulk_of(element, 14.0, "").holds);
    }
    EXPECT_NEAR(bulk_of("solid", 11.0, "").value, 1.0, 0.08); // stairs, and balls beside its middle
    EXPECT_TRUE(bulk_of("solid", 9.5, "").holds);
    EXPECT_FALSE(bulk_of("solid", 13.0, "").holds);
    // The plane of symmetry halves the bar, and the ball sees the other half.
    EXPECT_NEAR(bulk_of("solid", 11.0, "[symmetry]\nplanes = [\"x = 18\"]").value,
                bulk_of("solid", 11.0, "").value, 0.02);
}

TEST(DesignMeasures, SensitivitiesOfBulk) {
    const std::string wish = "[form]\nmax_feature = 3\n";
    expect_gradients_match(study_from(test::block_study(wish)), 3);
    expect_gradients_match(study_from(test::block_study(wish), {"mesh.kind=fitted"}), 11);
    expect_gradients_match(study_from(test::block_study(wish + "[symmetry]\nplanes = [\"y = 2\"]\n")), 3);
}

TEST(DesignMeasures, OneColumnForEachCaseThatFits) {
    const Study study = study_from(crooked_block("[[case]]\nname = \"twist\"\nsupports = \"clamp\"\nloads = "
                                                 "{ side = [1, -1] }\n"),
                                   strong);
    std::vector<std::string> names;
    for (const Column& c : columns(build_model(study))) names.push_back(c.name);
    const auto has = [&](const std::string& name) {
        return std::find(names.begin(), names.end(), name) != names.end();
    };
    EXPECT_TRUE(has("work"));
    EXPECT_TRUE(has("worst"));
    EXPECT_TRUE(has("sag@bend"));
    EXPECT_TRUE(has("sag@twist/1"));
    EXPECT_TRUE(has("sag@twist/2"));
    EXPECT_TRUE(has("pitch")); // one modal case
    EXPECT_FALSE(has("sag"));
}

// Of full material the measures of a run are those of an analysis.
TEST(DesignMeasures, FullMaterialMeasuresAsAnAnalysisDoes) {
    const Study study = study_from(crooked_block(""), strong);
    const Model model = build_model(study);
    StaticAnalysis analysis(model, {});
    DesignMeasures measures(analysis);
    const std::vector<double> full(model.mesh.elements(), 1.0);
    measures.analyse(full, 3.0, {});
    const std::vector<Reading> readings = measures.readings();
    const std::vector<Smooth> smooth =
        measures.smooth(std::vector<bool>(readings.size(), true), {false, true});
    const AnalysisReport report = analyze(model, {});
    for (const Outcome& o : measure_all(model, report)) {
        const ResponseCard& card = study.responses[o.response];
        // Stress is read at nodes there and in the middle of elements here.
        if (card.measure->strength) continue;
        bool found = false;
        for (std::size_t c = 0; c < readings.size(); ++c) {
            if (measures.columns()[c].response != o.response) continue;
            found = true;
            EXPECT_NEAR(readings[c].value, o.value, 1e-6 * std::abs(o.value)) << card.name;
        }
        EXPECT_TRUE(found) << card.name;
    }
    // Corrected aggregates start at what they stand for.
    for (const Smooth& s : smooth) {
        const std::string& m = study.responses[measures.columns()[s.column].response].measure->word;
        if (m == "stress")
            EXPECT_NEAR(s.value, readings[s.column].value, 1e-9 * s.value);
        else if (m == "safety")
            EXPECT_NEAR(1.0 / s.value, readings[s.column].value, 1e-9 / s.value);
    }
}

TEST(DesignMeasures, ReactionsAndTheirBoundsHaveTheSignOfTheForce) {
    const Study study = study_from(
        crooked_block(""), with(strong, {"response.hold-side.min=-20", "case.bend.supports=[\"clamp\"]",
                                         "response.hold.active=false"}));
    const Model model = build_model(study);
    StaticAnalysis analysis(model, {});
    DesignMeasures measures(analysis);
    measures.analyse(std::vector<double>(model.mesh.elements(), 1.0), 3.0, {});
    const std::vector<Reading> readings = measures.readings();
    for (std::size_t c = 0; c < readings.size(); ++c) {
        if (study.responses[measures.columns()[c].response].name != "hold-side") continue;
        EXPECT_NEAR(readings[c].value, -14.0, 1e-8); // 0.7 times 20 N pulls the other way
        EXPECT_TRUE(readings[c].holds);
    }
}

TEST(DesignMeasures, BoundsHoldWithATolerance) {
    Reading r;
    r.max = 2.0;
    r.min = 1.0;
    const auto at = [&](double value) {
        r.value = value;
        judge(r);
        return r.holds;
    };
    EXPECT_TRUE(at(2.0019));
    EXPECT_FALSE(at(2.01));
    EXPECT_NEAR(r.excess, 0.005, 1e-12);
    EXPECT_FALSE(at(0.9));
    EXPECT_TRUE(at(1.5));
    EXPECT_LT(r.excess, 0.0);
}

TEST(DesignMeasures, SoftCellsCountLessForStress) {
    EXPECT_DOUBLE_EQ(stress_share(1.0), 1.0);
    EXPECT_LT(stress_share(0.003), 1e-5);
    for (const double d : {0.02, 0.1, 0.4, 0.9})
        EXPECT_NEAR(stress_share_slope(d), (stress_share(d + 1e-6) - stress_share(d - 1e-6)) / 2e-6, 1e-6);
}

namespace {

// The block with a modal case, and the frequency of its lowest mode with a key of its card.
std::string ringing(const std::string& key) {
    return test::block_study(R"(
[[case]]
name = "ring"
kind = "modal"
supports = "clamp"
modes = 4
[[response]]
name = "pitch"
measure = "frequency"
)" + key + "\n");
}

} // namespace

// Two modes of a square column share a frequency; a mode that is followed keeps its shape when they swap.
TEST(DesignMeasures, AFollowedModeKeepsItsShape) {
    const std::string text = ringing(R"(track = true)");
    const Study study = study_from(text, {"region.block.box=[[0, 0, 0], [12, 3, 4]]"});
    const Model model = build_model(study);
    StaticAnalysis analysis(model, {});
    DesignMeasures measures(analysis);
    const auto reading = [&](double outer) {
        // Softer sides in z bring the mode that bends along z below the one along y.
        std::vector<double> density(model.mesh.elements(), 1.0);
        for (std::size_t e = 0; e < density.size(); ++e)
            if (std::abs(model.mesh.center(e).z() - 2.0) > 1.0) density[e] = outer;
        measures.analyse(density, 3.0, {});
        const double value = measures.readings().back().value;
        measures.smooth(std::vector<bool>(measures.columns().size(), false), {false, true});
        return value;
    };
    reading(1.0); // follows the lowest one, which bends along y
    const double first = measures.state().modals()[0].modes[0].frequency;
    EXPECT_LT(first, measures.state().modals()[0].modes[1].frequency);
    double last = 0.0;
    for (const double outer : {0.9, 0.75, 0.6, 0.5, 0.4}) last = reading(outer);
    EXPECT_GT(last, 1.02 * measures.state().modals()[0].modes[0].frequency);
    EXPECT_NEAR(last, measures.state().modals()[0].modes[1].frequency, 1e-9 * last);
}

// The slopes of two modes of one frequency are those of the directions in which a step parts them:
// eigenvalues of the matrix that the modes and their mixtures give (Seyranian, Lund & Olhoff 1994), against
// differences.
TEST(DesignMeasures, MixturesTellHowARepeatedFrequencyParts) {
    const std::string text = ringing(R"(min = "1 Hz")");
    const Study study = study_from(text, {"region.block.box=[[0, 0, 0], [12, 4, 4]]"});
    const Model model = build_model(study);
    StaticAnalysis analysis(model, {});
    DesignMeasures measures(analysis);
    MeasureAccuracy exact;
    exact.modals.tolerance = 1e-7;
    std::vector<bool> wanted(measures.columns().size(), false);
    wanted.back() = true;
    const std::vector<double> even(model.mesh.elements(), 0.7);
    measures.analyse(even, 3.0, exact);
    const std::vector<Mode>& modes = measures.state().modals()[0].modes;
    ASSERT_NEAR(modes[0].frequency, modes[1].frequency, 1e-7 * modes[0].frequency);
    ASSERT_GT(modes[2].frequency, 1.1 * modes[1].frequency);
    SmoothWish wish;
    wish.gradients = true;
    EXPECT_EQ(measures.smooth(wanted, wish).size(), 3U);
    wish.mixtures = true;
    const std::vector<Smooth> found = measures.smooth(wanted, wish);
    ASSERT_EQ(found.size(), 5U); // three modes, and two mixtures of the pair
    for (const std::size_t k : {std::size_t{3}, std::size_t{4}})
        EXPECT_NEAR(found[k].value, modes[0].frequency, 1e-6 * modes[0].frequency);
    std::mt19937 random(3);
    for (int round = 0; round < 4; ++round) {
        std::vector<double> way(even.size());
        for (double& d : way) d = static_cast<double>(random()) / 2147483648.0 - 1.0;
        const auto along = [&](std::size_t k) {
            double sum = 0.0;
            for (std::size_t e = 0; e < way.size(); ++e) sum += found[k].gradient[e] * way[e];
            return sum;
        };
        const double own = along(0);
        const double other = along(1);
        const double cross = 0.5 * (along(3) - along(4));
        EXPECT_NEAR(along(3) + along(4), own + other, 1e-6 * (std::abs(own) + std::abs(other)));
        const double half = std::hypot(0.5 * (own - other), cross);
        const double parted[2] = {0.5 * (own + other) - half, 0.5 * (own + other) + half};
        const double h = 1e-4;
        double values[2][2];
        for (const int side : {0, 1}) {
            std::vector<double> at = even;
            for (std::size_t e = 0; e < at.size(); ++e) at[e] += (side == 0 ? h : -h) * way[e];
            measures.analyse(at, 3.0, exact);
            const std::vector<Mode>& there = measures.state().modals()[0].modes;
            for (const std::size_t m : {std::size_t{0}, std::size_t{1}}) values[side][m] = there[m].frequency;
        }
        // The lower one falls by the smaller slope forward and by the greater one backward.
        for (const std::size_t m : {std::size_t{0}, std::size_t{1}})
            EXPECT_NEAR((values[0][m] - values[1][1 - m]) / (2 * h), parted[m], 2e-4 * half) << round;
        EXPECT_GT(std::abs(cross), 0.01 * half); // what single modes do not see
    }
}

namespace {

std::string stressed(const std::string& more = {}) {
    return "[[response]]\nname = \"strong\"\nmeasure = \"stress\"\nexcept = \"root\"\nmax = 25\n"
           "[[response]]\nname = \"safe\"\nmeasure = \"safety\"\nmin = 9\n"
           "[[response]]\nname = \"share\"\nmeasure = \"stress\"\nmax = \"8 % of yield\"\n" +
           more;
}

} // namespace

TEST(DesignMeasures, TheStressOfEveryElementHasItsGradient) {
    const std::vector<std::string> yield{"material.steel.yield=300"};
    expect_gradients_match(study_from(test::block_study(stressed()), yield), 11, 1e-4, true);
    expect_gradients_match(study_from(flat_plate("plane-stress", stressed()), {}), 7, 1e-4, true);
    expect_gradients_match(study_from(flat_plate("shell", stressed()), {}), 7, 1e-4, true);
}

// What the goal is raised by, by hand: its multipliers, its price, and the share of stiffness that counts.
TEST(DesignMeasures, TheStressOfEveryElementIsRaisedByItsFormula) {
    const Model model = build_model(
        study_from(test::block_study("[[response]]\nname = \"strong\"\nmeasure = \"stress\"\nmax = 25\n")));
    StaticAnalysis analysis(model, {});
    DesignMeasures measures(analysis);
    const std::vector<double> density = test::random_densities(model);
    std::vector<bool> wanted(measures.columns().size(), false);
    std::size_t column = 0;
    for (std::size_t c = 0; c < wanted.size(); ++c)
        if (measures.columns()[c].name == "strong") wanted[column = c] = true;
    measures.analyse(density, 3.0, {});
    const std::vector<double> stress = analysis.von_mises_stress(measures.state().cases()[0].displacement);
    std::vector<double> lambda(stress.size(), 0.0);
    double mu = 50.0;
    for (int step = 1; step <= 12; ++step) {
        double expected = 0.0;
        std::vector<double> h(stress.size());
        for (std::size_t e = 0; e < stress.size(); ++e) {
            const double share = 1e-9 + std::pow(density[e], 3) * (1.0 - 1e-9);
            const double over = stress[e] / 25.0 - 1.0;
            // From ten times the limit on by the tangent there.
            const double cubic =
                over <= 9.0 ? over * (over * over + 1.0) : 9.0 * 82.0 + (3.0 * 81.0 + 1.0) * (over - 9.0);
            h[e] = std::max(share * cubic, -lambda[e] / mu);
            expected += (lambda[e] * h[e] + 0.5 * mu * h[e] * h[e]) / static_cast<double>(stress.size());
        }
        const std::vector<Smooth> found = measures.smooth(wanted, {false, true, true});
        ASSERT_EQ(found.size(), 1U);
        EXPECT_TRUE(found[0].of_goal);
        EXPECT_FALSE(found[0].max || found[0].min);
        EXPECT_NEAR(found[0].value, expected, 1e-6 * expected) << step;
        if (step % 5 != 0) continue;
        for (std::size_t e = 0; e < lambda.size(); ++e) lambda[e] += mu * std::min(h[e], 1.0);
        mu *= 1.3;
        EXPECT_GE(*std::min_element(lambda.begin(), lambda.end()), -1e-12);
    }
    // As an aggregate it is a bound again.
    EXPECT_FALSE(measures.smooth(wanted, {false, true, false})[0].of_goal);
}
