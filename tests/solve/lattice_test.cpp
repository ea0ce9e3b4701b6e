// The lattice multigrid against factorisations: on every element kind and constraint it has to take, and its
// pieces against dense algebra.
#include "solve/lattice_solver.hpp"

#include "fem/case_groups.hpp"
#include "fem/constrained_solver.hpp"
#include "fem/static_analysis.hpp"
#include "published.hpp"
#include "solve/lattice/carried.hpp"
#include "store/vtu.hpp"
#include "support/studies.hpp"

#include <Eigen/Eigenvalues>
#include <gtest/gtest.h>
#include <random>

using namespace upright;
using test::study_from;
using test::StudyText;

namespace {

std::vector<double> shares(const Model& model, const std::string& kind) {
    std::mt19937 random(5);
    std::uniform_real_distribution<double> any(0.0, 1.0);
    std::vector<double> out;
    for (const Vec3& at : model.mesh.element_centers()) {
        const double rho = any(random);
        if (kind == "random") out.push_back(1e-9 + rho * rho * rho);
        if (kind == "uniform") out.push_back(1.0);
        // A wall of void across the body but for two bars.
        if (kind == "bars")
            out.push_back(std::abs(at.x() - 10.0) < 4.0 && std::abs(at.y() - 3.0) > 1.6 &&
                                  std::abs(at.y() - 8.0) > 1.6
                              ? 1e-9
                              : 1.0);
    }
    return out;
}

struct Compared {
    double difference = 0.0;
    std::string method;
    int iterations = 0;
    std::vector<std::string> notes;
};

// The largest difference of a displacement in all cases, as a share of the largest displacement.
Compared compared(const Model& model, const std::vector<double>& share) {
    SolverOptions options;
    options.kind = SolverKind::Direct;
    StaticAnalysis direct(model, options);
    options.kind = SolverKind::LatticeMultigrid;
    StaticAnalysis lattice(model, options);
    const std::vector<CaseResult> one = direct.solve(share, share);
    const std::vector<CaseResult> two = lattice.solve(share, share);
    Compared out;
    for (std::size_t c = 0; c < one.size(); ++c) {
        out.difference =
            std::max(out.difference, (one[c].displacement - two[c].displacement).cwiseAbs().maxCoeff() /
                                         one[c].displacement.cwiseAbs().maxCoeff());
        EXPECT_NEAR(one[c].compliance, two[c].compliance, 1e-8 * std::abs(one[c].compliance));
    }
    out.method = lattice.cost().method;
    out.iterations = lattice.cost().iterations;
    out.notes = lattice.take_notes();
    return out;
}

StudyText body(const std::string& mesh) {
    StudyText out;
    out.steel()
        .region("block", "box = [[0, 0, 0], [24, 11, 9]]")
        .surface("root", "facing = [-1, 0, 0]")
        .surface("end", "facing = [1, 0, 0]")
        .surface("floor", "facing = [0, 0, -1]")
        .region("bore", "cylinder = { from = [17, -1, 5], to = [17, 12, 5], radius = 2 }", "void")
        .surface("wall", "")
        .support("clamp", "root", "[\"x\", \"y\", \"z\"]")
        .force("pull", "end", "[0, 300, -100]")
        .mesh(mesh);
    return out;
}

const char* const one_case = "[[case]]\nname = \"c\"\nsupports = [\"clamp\"]\nloads = [\"pull\"]\n";

} // namespace

TEST(LatticeMultigrid, GivesWhatTheFactorisationGivesOnEveryKindOfElement) {
    for (const char* mesh : {"kind = \"fitted\"\nsize = 3", "kind = \"fitted\"\nsize = 5\norder = 2",
                             "size = 1.5\n", "size = 3\norder = 2\n"})
        for (const char* kind : {"uniform", "random", "bars"}) {
            const Model model = build_model(study_from(body(mesh).add(one_case)));
            const Compared found = compared(model, shares(model, kind));
            EXPECT_EQ(found.method, "lattice multigrid") << mesh << kind;
            EXPECT_LT(found.difference, 1e-6) << mesh << kind;
            EXPECT_LT(found.iterations, std::string(kind) == "bars" ? 120 : 60) << mesh << kind;
        }
}

TEST(LatticeMultigrid, TakesCouplingsJointsBondsSkewSupportsAndSeveralCases) {
    struct Text {
        const char* name;
        std::string text;
    };
    const std::string fitted = "kind = \"fitted\"\nsize = 2";
    const std::string hub = "[[coupling]]\nname = \"hub\"\nsurface = \"wall\"\n";
    std::vector<Text> studies{
        {"a load through a coupling",
         body(fitted).add(hub).add("[[load]]\nname = \"twist\"\non = \"hub\"\nmoment = [0, 4000, 100]\n"
                                   "[[case]]\nname = \"c\"\nsupports = [\"clamp\"]\nloads = [\"twist\"]\n")},
        {"held at a coupling's point alone",
         body(fitted).add(hub).add("[[support]]\nname = \"pin\"\non = \"hub\"\nhold = [\"x\", \"y\", \"z\", "
                                   "\"rx\", \"ry\", \"rz\"]\n[[case]]\nname = \"c\"\nsupports = [\"pin\"]\n"
                                   "loads = [\"pull\"]\n")},
        {"a joint between two couplings",
         body(fitted)
             .add(hub)
             .add("[[coupling]]\nname = \"tip\"\nsurface = \"end\"\n[[joint]]\nname = \"spring\"\nbetween = "
                  "[\"hub\", \"tip\"]\nstiffness = { axial = 1e5, shear = 2e5, torsion = 1e6, bending = 2e6 "
                  "}\n")
             .add(one_case)},
        {"held along a skew direction",
         body(fitted).add(
             "[[frame]]\nname = \"tilted\"\nkind = \"cartesian\"\norigin = [0, 0, 0]\naxis = [1, 2, 3]\n"
             "start = [3, 0, -1]\n[[support]]\nname = \"slide\"\non = \"floor\"\nframe = "
             "\"tilted\"\nhold = [\"z\"]\n[[support]]\n"
             "name = \"side\"\non = \"root\"\nhold = [\"x\", \"y\"]\n[[case]]\nname = \"c\"\n"
             "supports = [\"slide\", \"side\"]\nloads = [\"pull\"]\n")},
        {"three cases, one of them enforced",
         body(fitted)
             .add("[[load]]\nname = \"weight\"\ngravity = [0, 0, -9810]\n[[support]]\nname = "
                  "\"moved\"\non = \"end\"\nhold = [\"z\"]\nmove = { z = 0.01 }\n")
             .add(one_case)
             .add("[[case]]\nname = \"w\"\nsupports = [\"clamp\"]\nloads = [\"weight\"]\n[[case]]\nname = "
                  "\"m\"\nsupports = [\"clamp\", \"moved\"]\nloads = [\"pull\"]\n")},
        {"a bond of unlike meshes",
         body(fitted).add(
             "[[region]]\nname = \"pad\"\nrole = \"keep\"\nmaterial = \"steel\"\nbox = [[25, 1, 1], [30, "
             "10, 8]]\n[[surface]]\nname = \"near\"\nof = \"pad\"\nfacing = [-1, 0, 0]\n[[surface]]\nname "
             "= \"far\"\nof = \"pad\"\nfacing = [1, 0, 0]\n[[bond]]\nname = \"glue\"\nbetween = "
             "[\"near\", \"end\"]\ngap = 1.5\n[[load]]\nname = \"push\"\non = \"far\"\nforce = [50, 0, 70]\n"
             "[[case]]\nname = \"c\"\nsupports = [\"clamp\"]\nloads = [\"push\"]\n")},
    };
    for (const Text& t : studies) {
        Model model;
        ASSERT_NO_THROW(model = build_model(study_from(t.text))) << t.name;
        const Compared found = compared(model, shares(model, "random"));
        EXPECT_EQ(found.method, "lattice multigrid") << t.name;
        EXPECT_LT(found.difference, 1e-6) << t.name;
        EXPECT_LT(found.iterations, 90) << t.name;
        EXPECT_TRUE(found.notes.empty()) << t.name;
    }
}

TEST(LatticeMultigrid, StartsWarmAndGivesTheSameWithAnyNumberOfThreads) {
    const Model model = build_model(study_from(body("kind = \"fitted\"\nsize = 2").add(one_case)));
    const std::vector<double> share = shares(model, "random");
    std::vector<double> later = share;
    for (double& s : later) s *= 1.02;
    std::vector<Eigen::VectorXd> found;
    for (const int threads : {1, 2, 3}) {
        SolverOptions options;
        options.kind = SolverKind::LatticeMultigrid;
        options.threads = threads;
        StaticAnalysis analysis(model, options);
        analysis.solve(share, share, {1e-12, false});
        const int cold = analysis.cost().iterations;
        found.push_back(analysis.solve(later, later, {1e-12, true})[0].displacement);
        EXPECT_LT(analysis.cost().iterations, cold / 2);
    }
    for (const Eigen::VectorXd& u : found) EXPECT_EQ((u - found[0]).cwiseAbs().maxCoeff(), 0.0);
}

TEST(LatticeMultigrid, SaysThatABodyIsNotHeld) {
    const Model model = build_model(study_from(
        body("kind = \"fitted\"\nsize = 2")
            .add("[[support]]\nname = \"rail\"\non = \"root\"\nhold = [\"y\", \"z\"]\n[[case]]\nname = "
                 "\"c\"\nsupports = [\"rail\"]\nloads = [\"pull\"]\n")));
    SolverOptions options;
    options.kind = SolverKind::LatticeMultigrid;
    const ModelCase& c = model.cases[static_cast<CaseId>(0)];
    const Transform t = model.transform(c);
    const ShapeClasses classes = shape_classes(model);
    const ClassMatrices stiffness(model, classes, ClassMatrices::What::Stiffness);
    const std::vector<double> full(model.mesh.elements(), 1.0);
    // A load along the free direction has no answer: an error, or one that is no number near sense.
    ConstrainedSolver solver(model, t, classes, stiffness, 1, options);
    Eigen::VectorXd force = Eigen::VectorXd::Zero(static_cast<Eigen::Index>(model.freedoms()));
    force[0] = 1.0;
    try {
        solver.update(full);
        const Eigen::MatrixXd loads = t.gather(force);
        Eigen::MatrixXd answer;
        solver.solve(Loads(loads), SolveWish{}, answer);
        EXPECT_GT(answer.cwiseAbs().maxCoeff(), 1.0); // held elsewhere it would move by 1e-5
    } catch (const Error&) {                          // as rounding has it
    }
}

TEST(LatticePieces, CarryEveryLinearFieldAndEveryMotionBeyond) {
    std::mt19937 random(3);
    std::uniform_real_distribution<double> any(0.3, 6.7);
    std::vector<Vec3> at;
    for (int i = 0; i < 500; ++i) at.emplace_back(any(random), any(random), any(random));
    std::vector<std::uint8_t> beyond(at.size(), 0);
    beyond[17] = beyond[400] = 1;
    lattices::Carrying made = lattices::carry(at, beyond);
    const std::size_t coarse = made.lattice.size();
    std::vector<std::int32_t> same(coarse);
    for (std::size_t c = 0; c < coarse; ++c) same[c] = static_cast<std::int32_t>(c);
    made.carried.number(same, coarse);
    std::vector<float> from(3 * coarse);
    const auto linear = [](const Vec3& p, int d) {
        return 1.0 + d + 0.5 * p.x() - 0.25 * (d + 1) * p.y() + 2.0 * p.z();
    };
    for (std::size_t c = 0; c < coarse; ++c)
        for (int d = 0; d < 3; ++d)
            from[3 * c + static_cast<std::size_t>(d)] =
                made.beyond[c] != 0 ? 7.0F : static_cast<float>(linear(made.lattice[c], d));
    std::vector<float> to(3 * at.size(), 0.0F);
    lattices::prolong_from(made.carried, from.data(), to.data(), 2);
    for (std::size_t i = 0; i < at.size(); ++i) {
        const auto old = static_cast<std::size_t>(made.order[i]);
        for (int d = 0; d < 3; ++d)
            EXPECT_NEAR(to[3 * i + static_cast<std::size_t>(d)], beyond[old] != 0 ? 7.0 : linear(at[old], d),
                        1e-5);
    }
    // The restriction is its transpose.
    std::vector<float> back(3 * coarse);
    lattices::restrict_to(made.carried, to.data(), back.data(), 2);
    double one = 0.0;
    double two = 0.0;
    for (std::size_t i = 0; i < to.size(); ++i) one += static_cast<double>(to[i]) * to[i];
    for (std::size_t i = 0; i < from.size(); ++i) two += static_cast<double>(from[i]) * back[i];
    EXPECT_NEAR(one, two, 1e-5 * one);
}

TEST(LatticePieces, CoarseMatricesAreThoseOfDenseAlgebra) {
    // A chain of nodes at random places, each coupled with the five after it by blocks of any kind.
    std::mt19937 random(11);
    std::uniform_real_distribution<double> any(-1.0, 1.0);
    constexpr std::size_t n = 90;
    std::vector<Vec3> at;
    for (std::size_t i = 0; i < n; ++i)
        at.emplace_back(3.0 + 2.9 * any(random), 2.0 + 1.9 * any(random), 1.5 + 1.4 * any(random));
    std::vector<std::uint8_t> beyond(n, 0);
    beyond[40] = 1;
    lattices::Carrying made = lattices::carry(at, beyond);
    const std::size_t coarse = made.lattice.size();
    std::vector<std::int32_t> turned(coarse); // any numbering
    for (std::size_t c = 0; c < coarse; ++c) turned[c] = static_cast<std::int32_t>(coarse - 1 - c);
    made.carried.number(turned, coarse);
    lattices::BlockPattern fine;
    for (std::size_t i = 0; i < n; ++i) {
        for (std::size_t j = i < 5 ? 0 : i - 5; j < std::min(n, i + 6); ++j)
            fine.at.push_back(static_cast<std::int32_t>(j));
        fine.starts.push_back(fine.at.size());
    }
    Strip<double> blocks(9 * fine.blocks());
    for (std::size_t i = 0; i < blocks.size(); ++i) blocks[i] = any(random);
    Eigen::MatrixXd A = Eigen::MatrixXd::Zero(3 * n, 3 * n);
    for (std::size_t i = 0; i < n; ++i)
        for (std::size_t k = fine.starts[i]; k < fine.starts[i + 1]; ++k)
            A.block<3, 3>(3 * static_cast<Eigen::Index>(i), 3 * fine.at[k]) =
                Eigen::Map<const Eigen::Matrix3d>(blocks.data() + 9 * k);
    Eigen::MatrixXd P = Eigen::MatrixXd::Zero(3 * n, 3 * static_cast<Eigen::Index>(coarse));
    for (std::size_t c = 0; c < coarse; ++c)
        for (std::size_t k = made.carried.starts[c]; k < made.carried.starts[c + 1]; ++k)
            for (int d = 0; d < 3; ++d)
                P(3 * made.carried.fine[k] + d, 3 * static_cast<Eigen::Index>(c) + d) =
                    made.carried.weight[k];
    const Eigen::MatrixXd expected = P.transpose() * A * P;
    for (const int threads : {1, 2}) {
        const lattices::BlockPattern pattern = lattices::coarse_pattern(fine, made.carried, threads);
        ASSERT_EQ(pattern.nodes(), coarse);
        Strip<double> out(9 * pattern.blocks());
        lattices::coarse_blocks(fine, blocks.data(), made.carried, pattern, out.data(), threads);
        Eigen::MatrixXd found = Eigen::MatrixXd::Zero(expected.rows(), expected.cols());
        for (std::size_t i = 0; i < coarse; ++i)
            for (std::size_t k = pattern.starts[i]; k < pattern.starts[i + 1]; ++k)
                found.block<3, 3>(3 * static_cast<Eigen::Index>(i), 3 * pattern.at[k]) =
                    Eigen::Map<const Eigen::Matrix3d>(out.data() + 9 * k);
        EXPECT_LT((found - expected).cwiseAbs().maxCoeff(), 1e-12 * expected.cwiseAbs().maxCoeff());
        // Products of single and double precision with it.
        Eigen::VectorXd x(expected.cols());
        for (double& v : x) v = any(random);
        Eigen::VectorXd y(x.size());
        lattices::multiply(pattern, out.data(), x.data(), y.data(), threads);
        EXPECT_LT((y - expected * x).norm(), 1e-12 * y.norm());
        Strip<float> single(out.size());
        for (std::size_t i = 0; i < out.size(); ++i) single[i] = static_cast<float>(out[i]);
        std::array<Eigen::VectorXf, 4> xs;
        std::array<Eigen::VectorXf, 4> ys;
        std::array<const float*, 4> from{};
        std::array<float*, 4> to{};
        for (std::size_t s = 0; s < 4; ++s) {
            xs[s] = (static_cast<double>(s + 1) * x).cast<float>();
            ys[s] = Eigen::VectorXf::Zero(x.size());
            from[s] = xs[s].data();
            to[s] = ys[s].data();
        }
        for (const int count : {1, 2, 3, 4}) {
            for (Eigen::VectorXf& v : ys) v.setZero();
            lattices::subtract_product(pattern, single.data(), from.data(), to.data(), count, threads);
            for (std::size_t s = 0; s < 4; ++s) {
                const double by = s < static_cast<std::size_t>(count) ? static_cast<double>(s + 1) : 0.0;
                EXPECT_LT((ys[s].cast<double>() + by * (expected * x)).norm(), 1e-5 * 4.0 * y.norm());
            }
        }
    }
}

// Against Eigen: blocks of a few bodies of springs, one of them far stiffer, which is found as well.
TEST(LatticePieces, TheLargestEigenvalueOfAScaledMatrix) {
    const int n = 300;
    lattices::BlockPattern pattern;
    for (int i = 0; i < n; ++i) {
        for (int j = std::max(0, i - 2); j <= std::min(n - 1, i + 2); ++j) pattern.at.push_back(j);
        pattern.starts.push_back(pattern.at.size());
    }
    std::mt19937 random(11);
    std::uniform_real_distribution<double> any(-1.0, 1.0);
    Eigen::MatrixXd a = 1e-3 * Eigen::MatrixXd::Identity(3 * n, 3 * n);
    for (int i = 0; i < n; ++i)
        for (int j = i + 1; j <= std::min(n - 1, i + 2); ++j) {
            const Eigen::Vector3d way = Eigen::Vector3d(any(random), any(random), any(random)).normalized();
            const Eigen::Matrix3d k = (i > 150 && i < 160 ? 1e4 : 1.0) *
                                      (way * way.transpose() + 0.2 * Eigen::Matrix3d::Identity());
            a.block<3, 3>(3 * i, 3 * i) += k;
            a.block<3, 3>(3 * j, 3 * j) += k;
            a.block<3, 3>(3 * i, 3 * j) -= k;
            a.block<3, 3>(3 * j, 3 * i) -= k;
        }
    Strip<double> blocks(9 * pattern.blocks());
    Strip<float> single(9 * pattern.blocks());
    for (std::size_t i = 0; i < pattern.nodes(); ++i)
        for (std::size_t k = pattern.starts[i]; k < pattern.starts[i + 1]; ++k) {
            const Eigen::Matrix3d block =
                a.block<3, 3>(3 * static_cast<Eigen::Index>(i), 3 * static_cast<Eigen::Index>(pattern.at[k]));
            Eigen::Map<Eigen::Matrix3d>(blocks.data() + 9 * k) = block;
            Eigen::Map<Eigen::Matrix3f>(single.data() + 9 * k) = block.cast<float>();
        }
    Strip<float> inverse;
    lattices::invert_diagonal(pattern, blocks.data(), inverse, 2);
    Eigen::MatrixXd D = Eigen::MatrixXd::Zero(3 * n, 3 * n);
    for (int i = 0; i < n; ++i) D.block<3, 3>(3 * i, 3 * i) = a.block<3, 3>(3 * i, 3 * i);
    const double exact =
        Eigen::GeneralizedSelfAdjointEigenSolver<Eigen::MatrixXd>(a, D, Eigen::EigenvaluesOnly)
            .eigenvalues()
            .maxCoeff();
    const double few = lattices::largest_eigenvalue(pattern, single.data(), inverse.data(), 8, 2);
    const double many = lattices::largest_eigenvalue(pattern, single.data(), inverse.data(), 60, 2);
    EXPECT_LE(few, exact * (1.0 + 1e-4));
    EXPECT_GE(few, 0.9 * exact);
    EXPECT_NEAR(many, exact, 1e-2 * exact);
}

// Elements that shrink to a hundredth towards an edge, and are flat there: smoothers have to stand it.
TEST(LatticeMultigrid, StronglyGradedTetrahedra) {
    const test::TemporaryFolder folder;
    Mesh mesh = published::unit_mesh(ElementKind::Tet4, {9, 6, 4});
    std::vector<double> root;
    std::vector<double> end;
    for (Vec3& p : mesh.nodes) {
        root.push_back(p.x() < 1e-9 ? 1.0 : 0.0);
        end.push_back(p.x() > 1.0 - 1e-9 ? 1.0 : 0.0);
        p = Vec3(24.0 * std::pow(p.x(), 3.0), 11.0 * p.y() * p.y(), 9.0 * p.z());
    }
    mesh.finish();
    write_vtu(folder.path() / "graded.vtu", mesh, {{"root", 1, root}, {"end", 1, end}},
              {{"zone", 1, std::vector<double>(mesh.elements(), 1.0)}});
    StudyText study;
    study.steel()
        .region("block", "cells = { array = \"zone\", value = 1 }")
        .surface("root", "set = \"root\"")
        .surface("end", "set = \"end\"")
        .support("clamp", "root", "[\"x\", \"y\", \"z\"]")
        .force("pull", "end", "[0, 300, -100]")
        .load_case("pull", "[\"clamp\"]", "{ pull = 1 }")
        .mesh("kind = \"file\"\nfile = \"graded.vtu\"");
    const Model model = build_model(load_study(folder.write("graded.toml", study.str())));
    const Compared c = compared(model, std::vector<double>(model.mesh.elements(), 1.0));
    EXPECT_EQ(c.method, "lattice multigrid");
    EXPECT_LT(c.difference, 1e-6);
}
