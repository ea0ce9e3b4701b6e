// Modes by the block eigensolver on multigrid against shift-invert Lanczos.
#include "design/interpolation.hpp"
#include "fem/modal_analysis.hpp"
#include "support/studies.hpp"

#include <gtest/gtest.h>

using namespace upright;
using test::study_from;

namespace {

// A square bar: its bending modes come in pairs.
std::string bar(const std::string& supports, const std::string& mesh = "[mesh]\nsize = 1\n",
                const std::string& extra = {}) {
    return std::string("units = [\"mm\", \"N\", \"s\"]\n") + test::steel + R"(
[[region]]
name = "bar"
role = "design"
material = "steel"
box = [[0, 0, 0], [21, 5, 5]]
[[surface]]
name = "root"
of = "bar"
facing = [-1, 0, 0]
[[surface]]
name = "tip"
of = "bar"
facing = [1, 0, 0]
[[support]]
name = "clamp"
on = "root"
hold = ["x", "y", "z"]
[[support]]
name = "rail"
on = "root"
hold = ["y", "z"]
[[case]]
name = "ringing"
kind = "modal"
)" + supports +
           "modes = 6\n" + mesh + extra;
}

std::vector<double> half_made(const Model& model) {
    // Solid, fading to nothing at one side.
    std::vector<double> out;
    for (const Vec3& at : model.mesh.element_centers()) out.push_back(std::clamp(4.0 - at.y(), 1e-3, 1.0));
    return out;
}

void compare(const Model& model, SolverKind kind, const std::vector<double>& density) {
    std::vector<double> stiffness;
    for (const double d : density) stiffness.push_back(1e-9 + d * d * d);
    const std::vector<double> mass = modal_mass_share(density);
    SolverOptions direct;
    direct.kind = SolverKind::Direct;
    const ModalResult exact = ModalAnalysis(model, direct).solve(model.modal_cases.at(0), stiffness, mass);
    SolverOptions options;
    options.kind = kind;
    const ModalResult other = ModalAnalysis(model, options).solve(model.modal_cases.at(0), stiffness, mass);
    EXPECT_NE(other.method, exact.method);
    EXPECT_TRUE(other.notes.empty());
    EXPECT_EQ(other.rigid.size(), exact.rigid.size());
    ASSERT_EQ(other.modes.size(), exact.modes.size());
    for (std::size_t m = 0; m < exact.modes.size(); ++m) {
        EXPECT_NEAR(other.modes[m].frequency, exact.modes[m].frequency, 1e-6 * exact.modes[m].frequency);
        EXPECT_EQ(other.modes[m].cluster, exact.modes[m].cluster);
    }
}

} // namespace

TEST(ModalMultigrid, FindsTheModesOfAClampedBarPairsIncluded) {
    const Model model = build_model(study_from(bar("supports = [\"clamp\"]\n")));
    const std::vector<double> full(model.mesh.elements(), 1.0);
    compare(model, SolverKind::GridMultigrid, full);
    compare(model, SolverKind::Aggregation, full);
}

TEST(ModalMultigrid, FindsTheModesOfFreeAndHalfFreeBodies) {
    for (const char* supports : {"supports = []\n", "supports = [\"rail\"]\n"}) {
        const Model model = build_model(study_from(bar(supports)));
        const std::vector<double> full(model.mesh.elements(), 1.0);
        compare(model, SolverKind::GridMultigrid, full);
        compare(model, SolverKind::Aggregation, full);
        const Model fitted =
            build_model(study_from(bar(supports, "[mesh]\nkind = \"fitted\"\nsize = 2\norder = 2\n")));
        compare(fitted, SolverKind::LatticeMultigrid, half_made(fitted));
    }
}

TEST(ModalMultigrid, KeepsSoftCellsOut) {
    const Model model = build_model(study_from(bar("supports = [\"clamp\"]\n")));
    const std::vector<double> density = half_made(model);
    compare(model, SolverKind::GridMultigrid, density);
    // The lowest mode is one of the whole: with mass and no stiffness the soft side would ring far below it.
    std::vector<double> stiffness;
    for (const double d : density) stiffness.push_back(1e-9 + d * d * d);
    SolverOptions options;
    options.kind = SolverKind::GridMultigrid;
    ModalAnalysis analysis(model, options);
    const double kept =
        analysis.solve(model.modal_cases.at(0), stiffness, modal_mass_share(density)).modes[0].frequency;
    const double soft = analysis.solve(model.modal_cases.at(0), stiffness, density).modes[0].frequency;
    EXPECT_LT(soft, 0.8 * kept);
}

TEST(ModalMultigrid, ServesCouplingsWithMassesAndPlaneAndFittedMeshes) {
    const std::string rider = "[[coupling]]\nname = \"head\"\nsurface = \"tip\"\n[[mass]]\nname = "
                              "\"rider\"\non = \"head\"\nvalue = 1e-6\ninertia = [1e-5, 2e-5, 3e-5]\n";
    const Model coupled =
        build_model(study_from(bar("supports = [\"clamp\"]\n", "[mesh]\nsize = 1\n", rider)));
    compare(coupled, SolverKind::GridMultigrid, std::vector<double>(coupled.mesh.elements(), 1.0));
    compare(coupled, SolverKind::Aggregation, std::vector<double>(coupled.mesh.elements(), 1.0));
    compare(coupled, SolverKind::LatticeMultigrid, std::vector<double>(coupled.mesh.elements(), 1.0));
    const Model fitted =
        build_model(study_from(bar("supports = [\"clamp\"]\n", "[mesh]\nkind = \"fitted\"\nsize = 2\n")));
    compare(fitted, SolverKind::Aggregation, std::vector<double>(fitted.mesh.elements(), 1.0));
    compare(fitted, SolverKind::LatticeMultigrid, std::vector<double>(fitted.mesh.elements(), 1.0));
}
