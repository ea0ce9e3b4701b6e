// Orthotropic materials against closed forms.
#include "fem/elasticity.hpp"

#include "base/angles.hpp"
#include "response/case_report.hpp"
#include "support/studies.hpp"

#include <Eigen/Dense>
#include <cmath>

namespace upright {

using namespace test;

namespace {

const char* ply = R"(
[[material]]
name = "steel"
E = [140000, 10000, 8000]
nu = [0.3, 0.4, 0.02]
G = [5000, 3500, 4500]
expansion = ["1e-6 1/K", "30e-6 1/K", "25e-6 1/K"]
density = 1.6e-9
)";

// A block pulled along x; the grain is turned about z by an angle in degrees.
std::string pulled(const std::string& material, const std::string& grain, const std::string& mesh) {
    return std::string("units = [\"mm\", \"N\", \"s\"]\n") + material +
           (grain.empty() ? ""
                          : "frame = \"grain\"\n[[frame]]\nname = \"grain\"\nkind = \"cartesian\"\norigin = "
                            "[0, 0, 0]\n" +
                                grain) +
           R"(
[[region]]
name = "block"
role = "design"
material = "steel"
box = [[0, 0, 0], [8, 4, 2]]
[[surface]]
name = "low"
of = "block"
facing = [-1, 0, 0]
[[surface]]
name = "high"
of = "block"
facing = [1, 0, 0]
[[point]]
name = "corner"
at = [0, 0, 0]
[[point]]
name = "side"
at = [0, 4, 0]
[[point]]
name = "far"
at = [8, 0, 0]
[[support]]
name = "a"
on = "low"
hold = ["x"]
[[support]]
name = "b"
on = "corner"
hold = ["y", "z"]
[[support]]
name = "c"
on = "side"
hold = ["z"]
[[load]]
name = "pull"
on = "high"
force = [800, 0, 0]
[[case]]
name = "pull"
supports = ["a", "b", "c"]
loads = { pull = 1 }
[mesh]
size = 1
)" + mesh;
}

Elastic6 turned(const Material& m, double degrees) {
    const double a = degrees * pi / 180;
    Mat3 axes;
    axes << std::cos(a), -std::sin(a), 0, std::sin(a), std::cos(a), 0, 0, 0, 1;
    return elastic_in_space(m, axes);
}

Material test_ply() {
    return study_from(pulled(ply, "", "")).materials.front();
}

} // namespace

TEST(Orthotropic, AlongTheAxesTheComplianceIsThatWritten) {
    const Elastic6 S = elastic_in_space(test_ply(), Mat3::Identity()).inverse();
    EXPECT_NEAR(S(0, 0), 1.0 / 140000, 1e-12);
    EXPECT_NEAR(S(0, 1), -0.3 / 140000, 1e-12);
    EXPECT_NEAR(S(1, 2), -0.4 / 10000, 1e-12);
    EXPECT_NEAR(S(2, 0), -0.02 / 8000, 1e-12);
    EXPECT_NEAR(S(4, 4), 1.0 / 3500, 1e-12);
    EXPECT_NEAR(S(5, 5), 1.0 / 4500, 1e-12);
}

// Jones (1975): 1/E = cos^4/E1 + (1/G12 - 2 nu12/E1) cos^2 sin^2 + sin^4/E2.
TEST(Orthotropic, OffAxisModulusIsThatOfTheLiterature) {
    const Material m = test_ply();
    for (const double degrees : {0.0, 20.0, 45.0, 70.0, 90.0}) {
        const double c = std::cos(degrees * pi / 180);
        const double s = std::sin(degrees * pi / 180);
        const double expected =
            c * c * c * c / 140000 + (1.0 / 5000 - 2 * 0.3 / 140000) * c * c * s * s + s * s * s * s / 10000;
        EXPECT_NEAR(turned(m, degrees).inverse()(0, 0), expected, 1e-12);
    }
}

TEST(Orthotropic, ABlockStretchesAsItsGrainLies) {
    for (const auto& [grain, E] :
         {std::pair{"", 140000.0}, std::pair{"axis = [0, 0, 1]\nstart = [0, 1, 0]\n", 10000.0},
          std::pair{"axis = [1, 0, 0]\nstart = [0, 0, 1]\n", 8000.0}}) {
        // Stress 100 over 8 mm.
        const Study study = study_from(pulled(ply, grain, ""));
        const Model model = build_model(study);
        const AnalysisReport report = analyze(model, {});
        const Vec3 u = displacement_at(model, report.statics[0].displacement, model.points[2].node);
        EXPECT_NEAR(u.x(), 100.0 / E * 8, 1e-9) << grain;
        EXPECT_NEAR(report.statics[0].stress_peak.value, 100.0, 1e-6);
        EXPECT_LT(report.statics[0].error.relative, 1e-6);
    }
}

TEST(Orthotropic, PlaneStressIsTheSpaceWithNothingAcross) {
    const Study study = study_from(R"(units = ["mm", "N", "s"]
[[material]]
name = "steel"
E = [140000, 10000, 8000]
nu = [0.3, 0.4, 0.02]
G = [5000, 3500, 4500]
density = 1.6e-9
frame = "grain"
[[frame]]
name = "grain"
kind = "cartesian"
origin = [0, 0]
start = [0.8, 0.6]
[[region]]
name = "plate"
role = "design"
material = "steel"
box = [[0, 0], [4, 4]]
[mesh]
size = 1
element = "plane-stress"
thickness = 2
)");
    const Model model = build_model(study);
    const Eigen::MatrixXd D = elasticity(model, ElementId{0});
    Mat3 axes;
    axes << 0.8, -0.6, 0, 0.6, 0.8, 0, 0, 0, 1;
    const Elastic6 S = elastic_in_space(study.materials[0], axes).inverse();
    const Eigen::Vector3d strain = D.inverse() * Eigen::Vector3d(1, 0, 0);
    EXPECT_NEAR(strain[0], S(0, 0), 1e-12);
    EXPECT_NEAR(strain[1], S(1, 0), 1e-12);
    EXPECT_NEAR(strain[2], S(3, 0), 1e-12);
}

// A cylindrical frame turns the grain with the place: a ring that is stiff along its hoops.
TEST(Orthotropic, ACylindricalGrainFollowsTheRing) {
    Material m = test_ply();
    m.orthotropic->frame.cylindrical = true;
    const Mat3 at_x = m.orthotropic->frame.at(Vec3(5, 0, 0));
    const Mat3 at_y = m.orthotropic->frame.at(Vec3(0, 5, 0));
    EXPECT_NEAR(elastic_in_space(m, at_x).inverse()(0, 0), 1.0 / 140000, 1e-12);
    EXPECT_NEAR(elastic_in_space(m, at_y).inverse()(1, 1), 1.0 / 140000, 1e-12);
    EXPECT_FALSE(same_everywhere(m));
}

TEST(Orthotropic, FreeExpansionIsFreeOfStress) {
    std::string text = pulled(ply, "axis = [0, 0, 1]\nstart = [0.6, 0.8, 0]\n", "");
    text.replace(text.find("force = [800, 0, 0]"), 19, "heat = \"50 K\"");
    text.replace(text.find("on = \"high\"\n", text.find("[[load]]")), 12, "");
    // Held at three points alone, so that the sheared block moves as it likes.
    text.replace(text.find("on = \"low\""), 10, "on = \"corner\"");
    text.replace(text.find("hold = [\"z\"]"), 12, "hold = [\"x\", \"z\"]");
    text +=
        "[[point]]\nname = \"p\"\nat = [8, 0, 0]\n[[support]]\nname = \"d\"\non = \"p\"\nhold = [\"z\"]\n";
    text.replace(text.find("supports = [\"a\", \"b\", \"c\"]"), 26,
                 "supports = [\"a\", \"b\", \"c\", \"d\"]");
    const Model model = build_model(study_from(text));
    const AnalysisReport report = analyze(model, {});
    EXPECT_GT(report.statics[0].displacement_peak.value, 1e-3);
    EXPECT_LT(report.statics[0].stress_peak.value, 1e-6);
}

TEST(Orthotropic, ImpossibleRatiosAreRefused) {
    std::string text = pulled(ply, "", "");
    text.replace(text.find("nu = [0.3, 0.4, 0.02]"), 21, "nu = [5.0, 0.4, 0.02]");
    EXPECT_NE(error_of(text).find("no material has these ratios"), std::string::npos);
    std::string half = pulled(ply, "", "");
    half.replace(half.find("G = [5000, 3500, 4500]"), 22, "");
    EXPECT_NE(error_of(half).find("needs E, nu and G"), std::string::npos);
}

} // namespace upright
