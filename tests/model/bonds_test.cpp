// Bonds: the patch test across matching and other meshes, the side that follows, rigid motions across a gap.
#include "fem/static_analysis.hpp"
#include "kinds/kinds.hpp"
#include "model/rigid_freedom.hpp"
#include "response/case_report.hpp"
#include "support/studies.hpp"
#include "support/two_boxes.hpp"

namespace upright {

namespace {

using test::study_from;

// Two boxes of 10 mm, E 1000, pulled by 1000 N over 100 mm2: stress 10, compliance 1000 * 0.2.
std::string pulled(const std::string& regions, const std::string& mesh, const std::string& between,
                   double gap) {
    return "units = [\"mm\", \"N\", \"s\"]\n[[material]]\nname = \"m\"\nE = 1000\nnu = 0.3\ndensity = "
           "1e-9\n" +
           regions + R"(
[[surface]]
name = "sa"
of = "one"
facing = [1, 0, 0]
[[surface]]
name = "sb"
of = "two"
facing = [-1, 0, 0]
[[surface]]
name = "left"
of = "one"
facing = [-1, 0, 0]
[[surface]]
name = "right"
of = "two"
facing = [1, 0, 0]
[[surface]]
name = "bottom"
of = ["one", "two"]
facing = [0, 0, -1]
[[surface]]
name = "front"
of = ["one", "two"]
facing = [0, -1, 0]
[[bond]]
name = "glue"
between = )" +
           between + "\ngap = " + std::to_string(gap) + R"(
[[support]]
name = "x"
on = "left"
hold = ["x"]
[[support]]
name = "z"
on = "bottom"
hold = ["z"]
[[support]]
name = "y"
on = "front"
hold = ["y"]
[[load]]
name = "f"
on = "right"
force = [1000, 0, 0]
[[case]]
name = "pull"
supports = ["x", "y", "z"]
loads = { f = 1 }
[[case]]
name = "free"
kind = "modal"
supports = []
modes = 1
[mesh]
)" + mesh + "\n";
}

std::string two_shapes(double from) {
    return "[[region]]\nname = \"one\"\nrole = \"design\"\nmaterial = \"m\"\nbox = [[0, 0, 0], [10, 10, "
           "10]]\n"
           "[[region]]\nname = \"two\"\nrole = \"design\"\nmaterial = \"m\"\nbox = [[" +
           std::to_string(from) + ", 0, 0], [" + std::to_string(from + 10) + ", 10, 10]]\n";
}

const char* two_zones = "[[region]]\nname = \"one\"\nrole = \"design\"\nmaterial = \"m\"\ncells = { array = "
                        "\"zone\", value = 1 }\n"
                        "[[region]]\nname = \"two\"\nrole = \"design\"\nmaterial = \"m\"\ncells = { array = "
                        "\"zone\", value = 2 }\n";

// The model of two boxes from a file.
Model from_file(const std::array<std::array<int, 2>, 2>& cells, int order, const std::string& between,
                double gap = 0.0, bool tetrahedra = false) {
    const test::TemporaryFolder folder;
    test::write_two_boxes(folder.path() / "boxes.vtu", cells, order, gap, tetrahedra);
    const auto file = folder.write(
        "study.toml", pulled(two_zones, "kind = \"file\"\nfile = \"boxes.vtu\"", between, gap + 0.1));
    return build_model(load_study(file));
}

StaticReport analysed(const Model& model) {
    return analyze(model, {}).statics.at(0);
}

} // namespace

TEST(Bonds, MatchingMeshesPassThePatchTest) {
    for (const char* between : {"[\"sa\", \"sb\"]", "[\"sb\", \"sa\"]"}) {
        for (const int order : {1, 2}) {
            const StaticReport file = analysed(from_file({{{2, 2}, {2, 2}}}, order, between));
            EXPECT_NEAR(file.compliance, 200.0, 200.0 * 1e-8) << between << order;
            EXPECT_NEAR(file.stress_peak.value, 10.0, 1e-7);
            const StaticReport tets = analysed(from_file({{{2, 2}, {3, 2}}}, order, between, 0.0, true));
            EXPECT_NEAR(tets.compliance, 200.0, 200.0 * 1e-8) << between << order;
            EXPECT_NEAR(tets.stress_peak.value, 10.0, 1e-7);
            // A grid, with a gap of 5 between the boxes.
            const StaticReport grid = analysed(build_model(study_from(
                pulled(two_shapes(15.0), "size = 5\norder = " + std::to_string(order), between, 6.0))));
            EXPECT_NEAR(grid.compliance, 200.0, 200.0 * 1e-8) << between << order;
            EXPECT_NEAR(grid.stress_peak.value, 10.0, 1e-7);
        }
    }
}

TEST(Bonds, OtherMeshesComeWithinOnePercent) {
    for (const char* between : {"[\"sa\", \"sb\"]", "[\"sb\", \"sa\"]"}) {
        for (const int order : {1, 2}) {
            const Model model = from_file({{{2, 2}, {3, 5}}}, order, between);
            EXPECT_EQ(model.bonds[0].between[0], "sb"); // the finer side follows, however it is written
            EXPECT_NEAR(analysed(model).compliance, 200.0, 2.0) << between << order;
        }
        const StaticReport fitted = analysed(build_model(
            study_from(pulled(two_shapes(15.0), "kind = \"fitted\"\nsize = 5\norder = 2", between, 6.0))));
        EXPECT_NEAR(fitted.compliance, 200.0, 2.0) << between;
        EXPECT_LT(fitted.balance, 1e-10);
    }
}

// A bond that bridges a gap must not hold the bodies in space: six motions stay free, and a rigid motion of
// one side is that of the other.
TEST(Bonds, AGapDoesNotHoldRigidMotions) {
    for (const int order : {1, 2}) {
        const Model model = from_file({{{2, 2}, {3, 4}}}, order, "[\"sa\", \"sb\"]", 3.0);
        EXPECT_NEAR(model.bonds[0].widest, 3.0, 1e-9);
        const Vec3 turn(0.3, -0.7, 0.5);
        for (const Equation& e : model.bonds[0].equations) {
            double sum = 0.0;
            for (const Term& t : e.terms) {
                const Model::Spot spot = model.spot(t.freedom);
                sum += t.factor * (Vec3(1, 2, 3) + turn.cross(spot.at))[spot.component];
            }
            EXPECT_NEAR(sum, 0.0, 1e-10);
        }
        const AnalysisReport report = analyze(model, {});
        EXPECT_EQ(report.modals.at(0).rigid.size(), 6U);
    }
}

} // namespace upright
