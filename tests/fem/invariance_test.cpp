// What no formula is needed for: twice the load moves twice as far, loads add up, units do not matter, nor
// does the way a body lies in space or is cut at its symmetry plane. On every family of mesh.
#include "response/case_report.hpp"
#include "support/bodies.hpp"
#include "support/other_units.hpp"
#include "support/studies.hpp"

namespace upright {
namespace {

using test::Body;
using test::study_from;

AnalysisReport analysed(const std::string& text, const std::vector<std::string>& settings = {}) {
    return analyze(build_model(study_from(text, settings)), {});
}

using test::replaced;

class Invariance : public testing::TestWithParam<Body> {};

} // namespace

TEST_P(Invariance, TwiceTheLoadMovesTwiceAsFar) {
    const std::string twice = replaced(GetParam().text, "{ pull = 1 }", "{ pull = [1, 2, -3] }");
    const AnalysisReport report = analysed(twice);
    ASSERT_EQ(report.statics.size(), 3U);
    const StaticReport& one = report.statics[0];
    for (const auto& [at, factor] : {std::pair<std::size_t, double>{1, 2.0}, {2, -3.0}}) {
        const StaticReport& other = report.statics[at];
        EXPECT_LT((other.displacement - factor * one.displacement).norm(), 1e-9 * other.displacement.norm());
        EXPECT_NEAR(other.compliance, factor * factor * one.compliance, 1e-9 * std::abs(other.compliance));
        EXPECT_NEAR(other.stress_peak.value, std::abs(factor) * one.stress_peak.value,
                    1e-8 * other.stress_peak.value);
        EXPECT_NEAR(other.error.relative, one.error.relative, 1e-7);
    }
}

TEST_P(Invariance, LoadsAddUp) {
    const bool solid = GetParam().text.find("box = [[0, 0], ") == std::string::npos;
    const bool shell = GetParam().text.find("\"shell\"") != std::string::npos;
    const std::string more =
        "[[load]]\nname = \"push\"\non = \"tip\"\nforce = " +
        std::string(solid || shell ? "[7, -3, 11]" : "[7, -3]") +
        "\n[[case]]\nname = \"other\"\nsupports = \"clamp\"\nloads = { push = 1 }\n"
        "[[case]]\nname = \"both\"\nsupports = \"clamp\"\nloads = { pull = 2, push = -1 }\n";
    const AnalysisReport report = analysed(GetParam().text + more);
    const auto& a = report.statics.at(0).displacement;
    const auto& b = report.statics.at(1).displacement;
    const auto& c = report.statics.at(2).displacement;
    EXPECT_LT((c - (2.0 * a - b)).norm(), 1e-9 * c.norm());
    // Betti: the work of one load on the other's displacement is the same both ways; here by the sum's
    // compliance.
    const double mixed =
        0.5 *
        (4.0 * report.statics[0].compliance + report.statics[1].compliance - report.statics[2].compliance) /
        2.0;
    EXPECT_LE(std::abs(mixed),
              std::sqrt(report.statics[0].compliance * report.statics[1].compliance) * (1 + 1e-9));
}

TEST_P(Invariance, StiffnessActsAsAFactor) {
    const StaticReport soft = analysed(GetParam().text).statics.at(0);
    const StaticReport stiff = analysed(GetParam().text, {"material.steel.E=420000"}).statics.at(0);
    EXPECT_LT((soft.displacement - 2.0 * stiff.displacement).norm(), 1e-9 * soft.displacement.norm());
    EXPECT_NEAR(soft.stress_peak.value, stiff.stress_peak.value, 1e-8 * soft.stress_peak.value);
    EXPECT_NEAR(soft.compliance, 2.0 * stiff.compliance, 1e-9 * soft.compliance);
}

// Millimetres and newtons, or metres and kilonewtons: numbers change, the part does not.
TEST_P(Invariance, UnitsDoNotMatter) {
    const std::string text =
        GetParam().text + "[[case]]\nname = \"hum\"\nkind = \"modal\"\nsupports = \"clamp\"\nmodes = 2\n";
    const AnalysisReport a = analysed(text);
    const AnalysisReport b = analysed(test::in_other_units(text));
    ASSERT_EQ(a.nodes.node.size(), b.nodes.node.size());
    const double force = 1e-3; // kN a newton
    const double length = 0.1; // cm a millimetre
    const StaticReport& one = a.statics.at(0);
    const StaticReport& two = b.statics.at(0);
    EXPECT_NEAR(two.compliance, one.compliance * force * length, 1e-6 * two.compliance);
    EXPECT_NEAR(two.displacement_peak.value, one.displacement_peak.value * length,
                1e-6 * two.displacement_peak.value);
    EXPECT_NEAR(two.stress_peak.value, one.stress_peak.value * force / (length * length),
                1e-6 * two.stress_peak.value);
    EXPECT_NEAR(two.error.relative, one.error.relative, 1e-6);
    // Mass in kN ms2 / cm: a tonne is N s2 / mm.
    EXPECT_NEAR(b.mass, a.mass * force * 1e6 / length, 1e-6 * b.mass);
    ASSERT_EQ(a.modals.size(), 1U);
    for (std::size_t m = 0; m < 2; ++m) // kilohertz
        EXPECT_NEAR(b.modals[0].modes[m].frequency, a.modals[0].modes[m].frequency * 1e-3,
                    1e-6 * b.modals[0].modes[m].frequency);
}

// A frequency grows with the root of stiffness over mass.
TEST_P(Invariance, FrequenciesGoWithTheRootOfStiffnessOverMass) {
    const std::string text =
        GetParam().text + "[[case]]\nname = \"hum\"\nkind = \"modal\"\nsupports = \"clamp\"\nmodes = 3\n";
    const ModalResult one = analysed(text).modals.at(0);
    const ModalResult two =
        analysed(text, {"material.steel.E=840000", "material.steel.density=1.5e-8"}).modals.at(0);
    ASSERT_EQ(one.modes.size(), 3U);
    for (std::size_t m = 0; m < 3; ++m)
        EXPECT_NEAR(two.modes[m].frequency, one.modes[m].frequency * std::sqrt(4.0 * 7.85e-9 / 1.5e-8),
                    1e-6 * two.modes[m].frequency);
}

// A body that is warmed and free to grow has no stress, and grows by what it is warmed.
TEST_P(Invariance, FreeGrowthIsFreeOfStress) {
    std::string text =
        replaced(GetParam().text, "density = 7.85e-9", "density = 7.85e-9\nexpansion = 1.2e-5");
    text += "[[load]]\nname = \"warm\"\nheat = 50\n[[case]]\nname = \"grow\"\nsupports = \"clamp\"\nloads = "
            "{ warm = 1 }\n"
            "[[case]]\nname = \"cool\"\nsupports = \"clamp\"\nloads = { warm = -1 }\n";
    const AnalysisReport report = analysed(text);
    const StaticReport& grow = report.statics.at(1);
    const StaticReport& cool = report.statics.at(2);
    EXPECT_LT((grow.displacement + cool.displacement).norm(), 1e-9 * grow.displacement.norm());
    // Held at the root alone: nothing is larger than E alpha dT / (1 - 2 nu) allows, and the far end has
    // moved by about what it grows.
    EXPECT_LT(grow.stress_peak.value, 4.0 * 210000 * 1.2e-5 * 50);
    EXPECT_GT(grow.displacement_peak.value, 0.5 * 1.2e-5 * 50 * 4);
    // Supports that hold nothing but heat hold no force together.
    Vec3 sum = Vec3::Zero();
    for (const Reaction& r : grow.reactions) sum += r.force;
    double size = 0.0;
    for (const Reaction& r : grow.reactions) size += r.force.norm();
    EXPECT_LT(sum.norm(), 1e-6 * (size + grow.at_work));
}

INSTANTIATE_TEST_SUITE_P(All, Invariance, testing::ValuesIn(test::bodies()), test::name_of);

// The same block along x, y and z, by boxes and by a frame: nothing knows which axis it lies along.
TEST(Orientation, DoesNotMatter) {
    const auto block = [](int axis, const std::string& mesh) {
        const auto list = [&](double along, double across, double third) {
            std::array<double, 3> v{};
            v[static_cast<std::size_t>(axis)] = along;
            v[static_cast<std::size_t>((axis + 1) % 3)] = across;
            v[static_cast<std::size_t>((axis + 2) % 3)] = third;
            return "[" + std::to_string(v[0]) + ", " + std::to_string(v[1]) + ", " + std::to_string(v[2]) +
                   "]";
        };
        return std::string(test::StudyText()
                               .steel()
                               .region("body", "box = [" + list(0, 0, 0) + ", " + list(12, 4, 3) + "]")
                               .surface("root", "facing = " + list(-1, 0, 0))
                               .surface("tip", "facing = " + list(1, 0, 0))
                               .support("clamp", "root", R"(["x", "y", "z"])")
                               .force("pull", "tip", list(30, -100, 50))
                               .load_case("bend", R"(["clamp"])", "{ pull = 1 }")
                               .card("case", "hum", "kind = \"modal\"\nsupports = \"clamp\"\nmodes = 4\n")
                               .mesh(mesh));
    };
    for (const char* mesh : {"size = 1\n", "size = 1.5\norder = 2\n"}) {
        const AnalysisReport x = analysed(block(0, mesh));
        for (const int axis : {1, 2}) {
            const AnalysisReport other = analysed(block(axis, mesh));
            EXPECT_NEAR(other.statics[0].compliance, x.statics[0].compliance, 1e-8 * x.statics[0].compliance)
                << axis << mesh;
            EXPECT_NEAR(other.statics[0].stress_peak.value, x.statics[0].stress_peak.value,
                        1e-7 * x.statics[0].stress_peak.value);
            for (std::size_t m = 0; m < 4; ++m)
                EXPECT_NEAR(other.modals[0].modes[m].frequency, x.modals[0].modes[m].frequency,
                            1e-6 * x.modals[0].modes[m].frequency);
        }
    }
}

// Half a body at a symmetry plane, for loads that mirror: half the compliance, the same stress, on either
// side and across every axis.
TEST(Symmetry, HalvesTheCompliance) {
    const auto block = [](int axis, const std::string& mesh) {
        const auto list = [&](double along, double across, double third) {
            std::array<double, 3> v{};
            v[static_cast<std::size_t>((axis + 1) % 3)] = along;
            v[static_cast<std::size_t>(axis)] = across;
            v[static_cast<std::size_t>((axis + 2) % 3)] = third;
            return "[" + std::to_string(v[0]) + ", " + std::to_string(v[1]) + ", " + std::to_string(v[2]) +
                   "]";
        };
        return std::string(
            test::StudyText()
                .steel()
                .region("body", "box = [" + list(0, 0, 0) + ", " + list(8, 4, 4) + "]")
                .surface("root", "facing = " + list(-1, 0, 0))
                .surface("tip", "facing = " + list(1, 0, 0))
                .support("clamp", "root", R"(["x", "y", "z"])")
                .card("load", "pull", "on = \"tip\"\nforce = " + list(30, 0, -100) + "\ncovers = \"whole\"\n")
                .load_case("bend", R"(["clamp"])", "{ pull = 1 }")
                .mesh(mesh));
    };
    for (int axis = 0; axis < 3; ++axis)
        for (const char* mesh : {"size = 1\n", "size = 2\norder = 2\n"}) {
            const std::string text = block(axis, mesh);
            const StaticReport whole = analysed(replaced(text, "covers = \"whole\"\n", "")).statics.at(0);
            const StaticReport half =
                analysed(text + "[symmetry]\nplanes = [\"" + std::string(1, "xyz"[axis]) + " = 2\"]\n")
                    .statics.at(0);
            EXPECT_NEAR(2.0 * half.compliance, whole.compliance, 1e-7 * whole.compliance) << axis << mesh;
            // Nodes on the plane average one side alone, whose shear across the plane does not cancel.
            EXPECT_NEAR(half.stress_peak.value, whole.stress_peak.value, 1e-3 * whole.stress_peak.value)
                << axis << mesh;
            EXPECT_NEAR(half.displacement_peak.value, whole.displacement_peak.value,
                        1e-6 * whole.displacement_peak.value);
        }
}

} // namespace upright
