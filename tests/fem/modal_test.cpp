#include "fem/modal_analysis.hpp"

#include "base/angles.hpp"
#include "fem/matrices.hpp"
#include "fem/static_analysis.hpp"
#include "model/storage.hpp"
#include "solve/lanczos.hpp"
#include "support/studies.hpp"

#include <Eigen/Eigenvalues>
#include <cmath>

namespace upright {

using namespace test;

namespace {

std::string modal(const std::string& supports, const std::string& more) {
    return "[[case]]\nname = \"hum\"\nkind = \"modal\"\nsupports = [" + supports + "]\n" + more;
}

ModalResult modes_of(const Model& model) {
    const std::vector<double> full(model.mesh.elements(), 1.0);
    return ModalAnalysis(model, {}).solve(model.modal_cases.at(0), full, full);
}

} // namespace

TEST(Lanczos, FindsWhatADenseSolverFinds) {
    // A chain of springs and masses, some masses zero, with a pair of equal frequencies.
    const int n = 40;
    Eigen::MatrixXd K = Eigen::MatrixXd::Zero(2 * n, 2 * n);
    Eigen::VectorXd m = Eigen::VectorXd::Ones(2 * n);
    for (int block = 0; block < 2; ++block)
        for (int i = 0; i < n; ++i) {
            const int at = block * n + i;
            K(at, at) += 2.0;
            if (i + 1 < n) K(at, at + 1) = K(at + 1, at) = -1.0;
            if (i % 7 == 3) m[at] = 0.0;
        }
    EigenProblem problem;
    problem.mass = SparseMatrix(Eigen::MatrixXd(m.asDiagonal()).sparseView());
    const Eigen::LDLT<Eigen::MatrixXd> factor(K);
    problem.inverse = [&](const Eigen::MatrixXd& f) { return Eigen::MatrixXd(factor.solve(f)); };
    EigenWish wish;
    wish.count = 10;
    wish.most_columns = 24; // so that it restarts
    const EigenPairs found = lowest_modes(problem, wish);
    ASSERT_EQ(found.values.size(), 10);
    // K^-1 M has the inverses, and zeros for what has no mass.
    const Eigen::MatrixXd root = m.cwiseSqrt().asDiagonal();
    const Eigen::VectorXd inverse =
        Eigen::SelfAdjointEigenSolver<Eigen::MatrixXd>(root * factor.solve(root)).eigenvalues().reverse();
    for (int i = 0; i < 10; ++i) {
        EXPECT_NEAR(found.values[i] * inverse[i], 1.0, 1e-9);
        const Eigen::VectorXd v = found.vectors.col(i);
        EXPECT_LT((K * v - found.values[i] * m.cwiseProduct(v)).norm(), 1e-7);
    }
    EXPECT_LT((found.vectors.transpose() * m.asDiagonal() * found.vectors - Eigen::MatrixXd::Identity(10, 10))
                  .norm(),
              1e-9);
}

TEST(Lanczos, StopsWhereTheProblemEnds) {
    EigenProblem problem;
    Eigen::MatrixXd one = Eigen::MatrixXd::Identity(3, 3);
    problem.mass = one.sparseView();
    problem.inverse = [](const Eigen::MatrixXd& f) { return f; };
    EigenWish wish;
    wish.count = 10;
    EXPECT_EQ(lowest_modes(problem, wish).values.size(), 3);
}

TEST(Modal, AgreesWithADenseSolverOnTheWholeMatrices) {
    const Model model = build_model(study_from(block_study(modal("\"clamp\"", "modes = 8\n"))));
    ModelCase c;
    c.supports = model.modal_cases.at(0).supports;
    const Eigen::MatrixXd T = transform_matrix(model.transform(c));
    const Eigen::MatrixXd K = T.transpose() * stiffness_matrix(model) * T;
    const Eigen::MatrixXd M = T.transpose() * mass_matrix(model) * T;
    const Eigen::VectorXd exact =
        Eigen::GeneralizedSelfAdjointEigenSolver<Eigen::MatrixXd>(K, M).eigenvalues();
    const ModalResult found = modes_of(model);
    ASSERT_EQ(found.modes.size(), 8U);
    EXPECT_EQ(found.free_motions, 0);
    for (std::size_t i = 0; i < 8; ++i)
        EXPECT_NEAR(found.modes[i].frequency, std::sqrt(exact[static_cast<Eigen::Index>(i)]) / (2 * pi),
                    1e-7 * found.modes[i].frequency);
    // The block is square across: bending modes come in pairs.
    EXPECT_EQ(found.modes[0].cluster, found.modes[1].cluster);
}

TEST(Modal, AFreeBodyHasSixRigidModesSetApart) {
    const Model model = build_model(study_from(block_study(modal("", "modes = 4\n"))));
    const ModalResult found = modes_of(model);
    EXPECT_EQ(found.free_motions, 6);
    ASSERT_EQ(found.rigid.size(), 6U);
    ASSERT_EQ(found.modes.size(), 4U);
    EXPECT_LT(found.rigid.back().frequency, 1e-3 * found.modes.front().frequency);
    // Rigid modes move all of the mass, elastic ones of a free body none.
    double moved = 0.0;
    for (const Mode& m : found.rigid) moved += m.participation[0] * m.participation[0];
    EXPECT_NEAR(moved / found.mass, 1.0, 1e-6);
    for (const Mode& m : found.modes) EXPECT_LT(std::abs(m.participation[0]), 1e-4 * std::sqrt(found.mass));
}

TEST(Modal, EffectiveMassesAddUpToTheMassThatCanMove) {
    const Model model =
        build_model(study_from(block_study(modal("\"clamp\"", "up_to = 1e9\n")), {"mesh.size=2"}));
    const ModalResult found = modes_of(model);
    // Every mode there is: what they do not move is the share of the clamped nodes.
    double sum = 0.0;
    for (const Mode& m : found.modes) sum += m.participation[2] * m.participation[2];
    EXPECT_LT(sum, found.mass * (1 + 1e-9));
    EXPECT_GT(sum, 0.75 * found.mass);
    EXPECT_NEAR(found.mass, 8 * 4 * 4 * 7.85e-9, 1e-15);
    EXPECT_LT((found.center - Vec3(4, 2, 2)).norm(), 1e-9);
}

TEST(Modal, UpToAFrequencyIsThatManyModes) {
    const Study all = study_from(block_study(modal("\"clamp\"", "modes = 20\n")));
    const std::vector<Mode> modes = modes_of(build_model(all)).modes;
    const double limit = 0.5 * (modes[10].frequency + modes[11].frequency);
    const Study some = study_from(block_study(modal("\"clamp\"", "up_to = " + std::to_string(limit) + "\n")));
    EXPECT_EQ(modes_of(build_model(some)).modes.size(), 11U);
}

TEST(Modal, LumpedAndConsistentMassMeetOnFineMeshes) {
    const auto first = [](const std::string& mass, const std::string& size) {
        const Study study = study_from(
            block_study(modal("\"clamp\"", "modes = 1\nmass = \"" + mass + "\"\n")), {"mesh.size=" + size});
        return modes_of(build_model(study)).modes[0].frequency;
    };
    const double coarse = std::abs(first("lumped", "2") / first("consistent", "2") - 1);
    const double fine = std::abs(first("lumped", "1") / first("consistent", "1") - 1);
    EXPECT_LT(fine, 0.01);
    EXPECT_LT(fine, 0.5 * coarse);
}

// A slender cantilever: its lowest mode by beam theory, in second-order bricks.
TEST(Modal, ABeamMovesWhatBeamTheorySays) {
    const std::string study = R"(units = ["mm", "N", "s"]
[[region]]
name = "beam"
role = "design"
material = "structural steel S355"
box = [[0, 0, 0], [200, 4, 4]]
[[surface]]
name = "root"
of = "beam"
facing = [-1, 0, 0]
[[support]]
name = "clamp"
on = "root"
hold = ["x", "y", "z"]
[mesh]
size = "4 mm"
order = 2
)" + modal("\"clamp\"", "modes = 1\n");
    const Mode mode = modes_of(build_model(study_from(study))).modes.at(0);
    // The mode of a clamped and free beam, and its moments.
    const double kl = 1.8751040687;
    const double sigma = (std::cosh(kl) + std::cos(kl)) / (std::sinh(kl) + std::sin(kl));
    double second = 0.0;
    double fourth = 0.0;
    double place = 0.0;
    constexpr int steps = 20000;
    for (int i = 0; i < steps; ++i) {
        const double x = (i + 0.5) / steps;
        const double w =
            std::cosh(kl * x) - std::cos(kl * x) - sigma * (std::sinh(kl * x) - std::sin(kl * x));
        second += w * w / steps;
        fourth += w * w * w * w / steps;
        place += w * w * x / steps;
    }
    EXPECT_NEAR(mode.moved_share, second * second / fourth, 5e-3);
    EXPECT_NEAR(mode.moved_at.x(), 200.0 * place / second, 1.0);
    EXPECT_FALSE(mode.local());
}

// A strap on a block, in bricks and in tetrahedra: its mode is found to be local, and the strap is where.
TEST(Modal, AStrapIsNamed) {
    for (const std::string kind : {"grid", "fitted"}) {
        const std::string study = R"(units = ["mm", "N", "s"]
[[region]]
name = "block"
role = "design"
material = "structural steel S355"
box = [[0, 0, 0], [12, 12, 12]]
[[region]]
name = "strap"
role = "keep"
material = "structural steel S355"
box = [[12, 0, 0], [22, 1, 1]]
[[surface]]
name = "root"
of = "block"
facing = [-1, 0, 0]
[[support]]
name = "clamp"
on = "root"
hold = ["x", "y", "z"]
[mesh]
kind = ")" + kind + "\"\nsize = \"1 mm\"\n" +
                                  modal("\"clamp\"", "modes = 2\n");
        const ModalResult found = modes_of(build_model(study_from(study)));
        for (const Mode& mode : found.modes) {
            EXPECT_TRUE(mode.local()) << kind;
            EXPECT_LT(mode.moved_share, 10.0 / (1728.0 + 10.0)) << kind;
            EXPECT_GT(mode.moved_share, 0.25 * 10.0 / (1728.0 + 10.0)) << kind;
            EXPECT_GT(mode.moved_at.x(), 18.0) << kind;
        }
    }
}

// A mass of its own on a block that hangs on a soft spring: f = sqrt(k / m) / 2 pi.
TEST(Modal, APointMassOnASpring) {
    const Study study = study_from(block_study(R"(
[[coupling]]
name = "foot"
surface = "root"
[[joint]]
name = "spring"
between = ["foot", "ground"]
axis = [1, 0, 0]
stiffness = { axial = "5 N/mm", shear = "1e9 N/mm", bending = 1e12, torsion = 1e12 }
[[mass]]
name = "rider"
on = "foot"
value = 2e-6
)" + modal("", "modes = 1\n")));
    const Model model = build_model(study);
    const ModalResult found = modes_of(model);
    const double mass = 2e-6 + 8 * 4 * 4 * 7.85e-9;
    EXPECT_EQ(found.free_motions, 0);
    EXPECT_NEAR(found.mass, mass, 1e-12);
    EXPECT_NEAR(found.modes[0].frequency, std::sqrt(5.0 / mass) / (2 * pi), 1e-3 * found.modes[0].frequency);
    EXPECT_NEAR(found.modes[0].participation[0] * found.modes[0].participation[0] / found.mass, 1.0, 1e-3);
    EXPECT_NEAR(found.modes[0].moved_share, 1.0, 1e-3); // block and rider move as one
    EXPECT_FALSE(found.modes[0].local());
}

TEST(Modal, AStoredModelGivesTheSameModes) {
    const test::TemporaryFolder folder;
    const Study study = study_from(block_study(modal("\"clamp\"", "modes = 3\n")));
    const Model model = build_model(study);
    save_model(folder.path() / "model.h5", model, study.resolved);
    const Model back = load_model(folder.path() / "model.h5").model;
    EXPECT_EQ(modes_of(model).modes[2].frequency, modes_of(back).modes[2].frequency);
}

// The block of the bell yoke in two meshes.
TEST(Modal, FittedTetrahedraAndGridHexahedraAgree) {
    const auto run = [](const std::string& mesh) {
        return study_from(R"(units = ["mm", "N", "s"]
[[region]]
name = "block"
role = "design"
material = "structural steel S355"
box = [[-300, -60, -90], [300, 60, 120]]
[[surface]]
name = "left"
of = "block"
facing = [-1, 0, 0]
[[surface]]
name = "right"
of = "block"
facing = [1, 0, 0]
[[surface]]
name = "below"
of = "block"
facing = [0, 0, -1]
[[support]]
name = "ends"
on = ["left", "right"]
hold = ["x", "y", "z"]
[[load]]
name = "bell"
on = "below"
force = [0, "1 kN", "-6 kN"]
[[case]]
name = "hang"
supports = "ends"
loads = { bell = 1 }
[[case]]
name = "ring"
kind = "modal"
supports = "ends"
modes = 6
[mesh]
)" + mesh);
    };
    const Model tets = build_model(run("kind = \"fitted\"\nsize = 30\norder = 2\n"));
    const Model cells = build_model(run("size = 12\n"));
    const std::vector<double> full_tets(tets.mesh.elements(), 1.0);
    const std::vector<double> full_cells(cells.mesh.elements(), 1.0);
    StaticAnalysis a(tets, {});
    StaticAnalysis b(cells, {});
    const double stiff = a.solve(full_tets, full_tets)[0].compliance;
    EXPECT_NEAR(b.solve(full_cells, full_cells)[0].compliance, stiff, 0.01 * stiff);
    const ModalResult f = modes_of(tets);
    const ModalResult g = modes_of(cells);
    for (std::size_t i = 0; i < 6; ++i)
        EXPECT_NEAR(g.modes[i].frequency, f.modes[i].frequency, 0.01 * f.modes[i].frequency) << i;
}

} // namespace upright
