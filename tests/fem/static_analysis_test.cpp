#include "fem/static_analysis.hpp"

#include "support/studies.hpp"

#include <gtest/gtest.h>

using namespace upright;
using test::block_study;
using test::study_from;

namespace {

// A slender cantilever: 1 element through the depth where `size` is 1.
std::string slender(const std::string& formulation) {
    std::string text = block_study("", "formulation = \"" + formulation + "\"\n");
    const std::string box = "[[0, 0, 0], [8, 4, 4]]";
    text.replace(text.find(box), box.size(), "[[0, 0, 0], [40, 1, 1]]");
    return text;
}

double tip_deflection(const Study& study) {
    const Model model = build_model(study);
    StaticAnalysis analysis(model, {});
    const std::vector<double> full(model.mesh.elements(), 1.0);
    const CaseResult result = analysis.solve(full, full)[0];
    double mean = 0.0;
    const ModelSurface& tip = model.surfaces[1];
    for (const NodeId n : tip.nodes)
        mean += result.displacement[3 * static_cast<Eigen::Index>(index(n)) + 2] /
                static_cast<double>(tip.nodes.size());
    return mean;
}

} // namespace

TEST(StaticAnalysis, CantileverMatchesBeamTheory) {
    // F L^3 / 3 E I + F L / (5/6 G A), one element through the depth.
    const double bending = 100.0 * 64000.0 / (3 * 210000.0 / 12.0);
    const double shear = 100.0 * 40.0 / (5.0 / 6.0 * 210000.0 / 2.6);
    EXPECT_NEAR(tip_deflection(study_from(slender("enhanced"))), -(bending + shear), 0.02 * bending);
}

TEST(StaticAnalysis, PlainCellsAreTooStiffInBending) {
    EXPECT_LT(std::abs(tip_deflection(study_from(slender("plain")))),
              0.8 * std::abs(tip_deflection(study_from(slender("enhanced")))));
}

// Cells along rows at once, cells whose material does not lie along them, and plane ones.
TEST(StaticAnalysis, UnitEnergiesAreThoseOfTheElementMatrices) {
    const std::string along = "E = [\"200 GPa\", \"90 GPa\", \"60 GPa\"]\nnu = [0.3, 0.2, 0.1]\n"
                              "G = [\"50 GPa\", \"30 GPa\", \"20 GPa\"]\n";
    const std::string turned = along + "frame = \"grain\"\n";
    const std::string grain =
        "[[frame]]\nname = \"grain\"\nkind = \"cartesian\"\norigin = [0, 0, 0]\naxis = [0, 0, 1]\n"
        "start = [1, 1, 0]\n";
    const std::string hole = "[[region]]\nname = \"hole\"\nrole = \"void\"\nbox = [[1, 1, 1], [3, 3, 3]]\n";
    std::vector<std::string> studies{block_study(hole, "formulation = \"plain\"\n"),
                                     block_study(hole, "formulation = \"enhanced\"\n"),
                                     test::half_beam(21, 5, false)};
    for (const std::string& material : {along, turned}) {
        std::string text = block_study(hole + grain);
        const std::size_t first = text.find("E = ");
        const std::size_t last = text.find("density", first);
        studies.push_back(text.replace(first, last - first, material));
    }
    for (const std::string& text : studies) {
        const Model model = build_model(study_from(text));
        const StaticAnalysis analysis(model, {});
        Eigen::VectorXd u(static_cast<Eigen::Index>(model.freedoms()));
        Eigen::VectorXd v = u;
        for (Eigen::Index i = 0; i < u.size(); ++i) {
            u[i] = std::sin(1.3 * static_cast<double>(i * i % 91));
            v[i] = std::cos(0.7 * static_cast<double>(i * i % 77));
        }
        const std::vector<double> one = analysis.unit_energy(u);
        const std::vector<double> two = analysis.unit_energy(u, &v);
        for (std::size_t e = 0; e < one.size(); ++e) {
            const auto id = static_cast<ElementId>(e);
            const Eigen::MatrixXd K = analysis.stiffness_by_class().copy_of(analysis.classes().of[e]);
            const Eigen::VectorXd a = analysis.element_displacement(u, id);
            const Eigen::VectorXd b = analysis.element_displacement(v, id);
            ASSERT_NEAR(one[e], a.dot(K * a), 1e-11 * K.norm()) << e;
            ASSERT_NEAR(two[e], b.dot(K * a), 1e-11 * K.norm()) << e;
        }
    }
}

TEST(StaticAnalysis, ReactionsBalanceLoads) {
    const Model model = build_model(
        study_from(block_study("[[load]]\nname = \"weight\"\ngravity = [1e8, 0, -1e9]\n[[case]]\nname = "
                               "\"w\"\nsupports = \"clamp\"\nloads = { weight = 1, pull = -0.5 }\n")));
    StaticAnalysis analysis(model, {});
    std::vector<double> density(model.mesh.elements());
    for (std::size_t e = 0; e < density.size(); ++e)
        density[e] = 0.2 + 0.7 * std::abs(std::sin(static_cast<double>(e)));
    const auto results = analysis.solve(density, density);
    for (std::size_t c = 0; c < results.size(); ++c) {
        const Eigen::VectorXd reaction = analysis.reactions(results[c], model.cases.at(c), density, density);
        const Eigen::VectorXd load = model.forces(model.cases.at(c), density);
        Vec3 sum = Vec3::Zero();
        Vec3 moment = Vec3::Zero();
        for (std::size_t n = 0; n < model.mesh.nodes.size(); ++n) {
            const Vec3 f = (reaction + load).segment<3>(3 * static_cast<Eigen::Index>(n));
            sum += f;
            moment += model.mesh.nodes[n].cross(f);
        }
        EXPECT_LT(sum.norm(), 1e-8 * load.norm()) << c;
        EXPECT_LT(moment.norm(), 1e-8 * 10 * load.norm()) << c;
    }
}

TEST(StaticAnalysis, ConstantStressUnderTension) {
    // Held so that it can shrink sideways: the stress is force over area everywhere.
    const Model model = build_model(study_from(
        block_study(
            "[[point]]\nname = \"o\"\nat = [0, 0, 0]\n[[point]]\nname = \"a\"\nat = [0, 4, 0]\n"
            "[[support]]\nname = \"pin\"\non = \"o\"\nhold = [\"y\", \"z\"]\n[[support]]\nname = "
            "\"guide\"\non = \"a\"\nhold = [\"z\"]\n"
            "[[case]]\nname = \"pull\"\nsupports = [\"clamp\", \"pin\", \"guide\"]\nloads = { pull = 1 }\n"),
        {"support.clamp.hold=[\"x\"]", "load.pull.force=[1600, 0, 0]",
         "case.bend.supports=[\"clamp\", \"pin\", \"guide\"]"}));
    StaticAnalysis analysis(model, {});
    const std::vector<double> full(model.mesh.elements(), 1.0);
    const CaseResult result = analysis.solve(full, full)[0];
    for (const double s : analysis.von_mises_stress(result.displacement)) EXPECT_NEAR(s, 100.0, 1e-7);
    EXPECT_NEAR(result.compliance, 1600.0 * 100.0 / 210000.0 * 8.0, 1e-8);
}

TEST(StaticAnalysis, SymmetryGivesTheHalfOfTheWhole) {
    const Model whole = build_model(study_from(block_study()));
    const Model half = build_model(
        study_from(block_study("[symmetry]\nplanes = [\"y = 2\"]\n"), {"load.pull.force=[0, 0, -50]"}));
    StaticAnalysis a(whole, {});
    StaticAnalysis b(half, {});
    const std::vector<double> ones(whole.mesh.elements(), 1.0);
    const std::vector<double> half_ones(half.mesh.elements(), 1.0);
    EXPECT_NEAR(a.solve(ones, ones)[0].compliance, 2.0 * b.solve(half_ones, half_ones)[0].compliance, 1e-10);
}

TEST(StaticAnalysis, CasesWithDifferentSupportsAreKeptApart) {
    const Model model = build_model(study_from(
        block_study("[[surface]]\nname = \"floor\"\nof = \"block\"\nfacing = [0, 0, -1]\n[[support]]\nname = "
                    "\"glued\"\non = \"floor\"\nhold = [\"x\", \"y\", \"z\"]\n"
                    "[[case]]\nname = \"other\"\nsupports = \"glued\"\nloads = { pull = 1 }\n")));
    StaticAnalysis analysis(model, {});
    const std::vector<double> full(model.mesh.elements(), 1.0);
    const auto results = analysis.solve(full, full);
    EXPECT_LT(results[1].compliance, 0.5 * results[0].compliance);
}

TEST(StaticAnalysis, SingularStructuresAreNamed) {
    const Model model = build_model(study_from(block_study(), {"support.clamp.hold=[\"x\", \"y\"]"}));
    StaticAnalysis analysis(model, {});
    const std::vector<double> full(model.mesh.elements(), 1.0);
    try {
        analysis.solve(full, full);
        // Rounding may hide the null pivot; the displacement then is absurd.
    } catch (const Error& bad) {
        EXPECT_EQ(bad.code(), ExitCode::Numerics);
    }
    EXPECT_THROW(StaticAnalysis(model, {0, 1000.0}), Error); // a thousand bytes are not enough
}
