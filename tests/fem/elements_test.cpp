// Every kind of element and of mesh: rigid-body modes, patch tests, mass.
#include "fem/elasticity.hpp"
#include "fem/element.hpp"
#include "fem/matrices.hpp"
#include "fem/static_analysis.hpp"
#include "mesh/generators.hpp"
#include "mesh/quality.hpp"
#include "support/studies.hpp"

#include <Eigen/Dense>
#include <gtest/gtest.h>

using namespace upright;

namespace {

// The corners of a slightly distorted cell of a kind, middles of edges straight.
Mesh one_element(ElementKind kind) {
    Mesh mesh;
    const std::vector<std::vector<Vec3>> corners{
        {{0, 0, 0}, {1.1, 0.1, 0}, {0.2, 0.9, 0}},
        {{0, 0, 0}, {1.1, 0.1, 0}, {1.2, 1.0, 0}, {-0.1, 0.9, 0}},
        {{0, 0, 0}, {1.1, 0.1, 0}, {0.2, 0.9, 0}, {0.3, 0.2, 1.0}},
        {{0, 0, 0}, {1.1, 0.1, 0}, {0.2, 0.9, 0}, {0.1, 0, 1}, {1.0, 0.1, 1.2}, {0.2, 1.0, 0.9}},
        {{0, 0, 0},
         {1.1, 0.1, 0},
         {1.2, 1.0, 0.1},
         {-0.1, 0.9, 0},
         {0, 0.1, 1},
         {1, 0, 1.1},
         {1.1, 1.1, 0.9},
         {0, 1, 1}}};
    const auto pick = [&]() -> const std::vector<Vec3>& {
        switch (traits(kind).corners) {
        case 3:
            return corners[0];
        case 4:
            return traits(kind).dimension == 2 ? corners[1] : corners[2];
        case 6:
            return corners[3];
        default:
            return corners[4];
        }
    };
    mesh.nodes = pick();
    if (kind == ElementKind::ShellQuad4) mesh.nodes[2].z() = 0.15; // warped
    ElementKind first = kind;
    if (kind == ElementKind::Tri6) first = ElementKind::Tri3;
    if (kind == ElementKind::Quad8) first = ElementKind::Quad4;
    if (kind == ElementKind::Tet10) first = ElementKind::Tet4;
    if (kind == ElementKind::Hex20) first = ElementKind::Hex8;
    std::vector<NodeId> ids;
    for (std::size_t i = 0; i < mesh.nodes.size(); ++i) ids.push_back(static_cast<NodeId>(i));
    mesh.add(first, ids, static_cast<RegionId>(0));
    if (traits(kind).dimension == 2) mesh.thickness = {0.3};
    if (first != kind) raise_order(mesh);
    mesh.finish();
    return mesh;
}

class Elements : public ::testing::TestWithParam<int> {
  protected:
    ElementKind kind() const { return static_cast<ElementKind>(GetParam()); }
    Eigen::MatrixXd D() const {
        const ElementFamily family = traits(kind()).shell            ? ElementFamily::Shell
                                     : traits(kind()).dimension == 2 ? ElementFamily::PlaneStress
                                                                     : ElementFamily::Solid;
        return 100.0 * elastic_matrix(family, 0.3);
    }
};

} // namespace

TEST_P(Elements, NodesHaveTheFreedomsOfTheirTraits) {
    EXPECT_EQ(freedoms_of_node(kind()), traits(kind()).freedoms);
}

TEST_P(Elements, HaveExactlyTheRigidBodyModes) {
    const Mesh mesh = one_element(kind());
    const Eigen::MatrixXd K =
        element_for(kind()).stiffness(places_of(mesh, ElementId{0}), D(), 0.3, Formulation::Enhanced);
    const Eigen::VectorXd values = Eigen::SelfAdjointEigenSolver<Eigen::MatrixXd>(K).eigenvalues();
    const int rigid = traits(kind()).space == 2 ? 3 : 6;
    for (int i = 0; i < values.size(); ++i) {
        if (i < rigid)
            EXPECT_LT(std::abs(values[i]), 1e-9 * values.maxCoeff()) << i;
        else
            EXPECT_GT(values[i], 1e-6 * values.maxCoeff()) << i;
    }
}

TEST_P(Elements, MassMovesAsAWhole) {
    const Mesh mesh = one_element(kind());
    const Eigen::MatrixXd M =
        element_for(kind()).mass(places_of(mesh, ElementId{0}), mesh.depth(ElementId{0}));
    Eigen::VectorXd along = Eigen::VectorXd::Zero(M.rows());
    for (Eigen::Index i = 1; i < M.rows(); i += traits(kind()).freedoms) along[i] = 1.0;
    EXPECT_NEAR(along.dot(M * along), mesh.volume(0),
                1e-10 * mesh.volume(0) + (traits(kind()).shell ? 0.01 * mesh.volume(0) : 0.0));
    double sum = 0.0;
    for (const double v : mesh.node_volumes) sum += v;
    EXPECT_NEAR(sum, mesh.volume(0), 1e-12);
}

TEST_P(Elements, ConstantStressComesBack) {
    if (traits(kind()).shell) return;
    const Mesh mesh = one_element(kind());
    const Eigen::MatrixXd x = places_of(mesh, ElementId{0});
    Eigen::MatrixXd field = Eigen::MatrixXd::Zero(x.rows(), x.rows());
    for (Eigen::Index i = 0; i < field.size(); ++i)
        field.data()[i] = 1e-3 * std::sin(1.0 + static_cast<double>(i));
    const Eigen::MatrixXd moved = field * x;
    const Eigen::VectorXd u = Eigen::Map<const Eigen::VectorXd>(moved.data(), moved.size());
    const Eigen::VectorXd stress =
        element_for(kind()).stress(x, D(), 0.3, Formulation::Enhanced, natural_center(kind())) * u;
    Eigen::VectorXd strain(D().rows());
    const auto d = x.rows();
    for (Eigen::Index a = 0; a < d; ++a) strain[a] = field(a, a);
    strain[d] = field(0, 1) + field(1, 0);
    if (d == 3) {
        strain[4] = field(1, 2) + field(2, 1);
        strain[5] = field(0, 2) + field(2, 0);
    }
    EXPECT_LT((stress - D() * strain).norm(), 1e-12 * (1 + stress.norm()));
    // The energy of the field is volume / 2 strain D strain.
    const Eigen::MatrixXd K =
        element_for(kind()).stiffness(x, D(), mesh.depth(ElementId{0}), Formulation::Enhanced);
    EXPECT_NEAR(u.dot(K * u), mesh.volume(0) * strain.dot(D() * strain), 1e-9 * u.dot(K * u));
}

INSTANTIATE_TEST_SUITE_P(All, Elements, ::testing::Range(0, element_kinds), [](const auto& info) {
    std::string name = traits(static_cast<ElementKind>(info.param)).name;
    std::replace(name.begin(), name.end(), ' ', '_');
    return name;
});

namespace {

struct MeshKindCase {
    const char* name;
    const char* mesh;
    bool flat;
    int rigid;
};

std::string free_study(const MeshKindCase& c) {
    std::string out = std::string("units = [\"mm\", \"N\", \"s\"]\n") + test::steel +
                      "[[frame]]\nname = \"axle\"\nkind = \"cylindrical\"\norigin = " +
                      (c.flat ? "[0, 0]\n" : "[0, 0, 0]\naxis = [0, 0, 1]\n");
    out += std::string("[[region]]\nname = \"body\"\nrole = \"design\"\nmaterial = \"steel\"\n") +
           (c.flat ? "disk = { center = [0, 0], radius = 10 }\n"
                   : "cylinder = { from = [0, 0, 0], to = [0, 0, 6], radius = 10 }\n");
    return out + "[mesh]\n" + c.mesh;
}

class MeshKinds : public ::testing::TestWithParam<MeshKindCase> {};

} // namespace

TEST_P(MeshKinds, FreeBodiesHaveExactlyTheRigidBodyModes) {
    const Model model = build_model(test::study_from(free_study(GetParam())));
    EXPECT_GT(mesh_quality(model.mesh).scaled_jacobian, 0.01);
    const Eigen::MatrixXd K(stiffness_matrix(model));
    const Eigen::VectorXd values =
        Eigen::SelfAdjointEigenSolver<Eigen::MatrixXd>(K, Eigen::EigenvaluesOnly).eigenvalues();
    int zero = 0;
    while (zero < values.size() && std::abs(values[zero]) < 1e-9 * values.maxCoeff()) ++zero;
    EXPECT_EQ(zero, GetParam().rigid) << values.head(10).transpose();
}

INSTANTIATE_TEST_SUITE_P(
    All, MeshKinds,
    ::testing::Values(
        MeshKindCase{"grid", "size = 4\n", false, 6},
        MeshKindCase{"grid2", "size = 5\norder = 2\n", false, 6},
        MeshKindCase{"polar", "kind = \"polar\"\nframe = \"axle\"\nsize = 5\n", false, 6},
        MeshKindCase{"fitted", "kind = \"fitted\"\nsize = 6\n", false, 6},
        MeshKindCase{"fitted2", "kind = \"fitted\"\nsize = 12\norder = 2\n", false, 6},
        MeshKindCase{"plane", "size = 3\nelement = \"plane-stress\"\nthickness = 1\n", true, 3},
        MeshKindCase{"plane2", "size = 4\norder = 2\nelement = \"plane-strain\"\nthickness = 1\n", true, 3},
        MeshKindCase{"shell", "size = 4\nelement = \"shell\"\nthickness = 1\n", true, 6},
        MeshKindCase{"polarshell",
                     "kind = \"polar\"\nframe = \"axle\"\nsize = 4\nelement = \"shell\"\nthickness = 1\n",
                     true, 6}),
    [](const auto& info) { return info.param.name; });

TEST(Shell, BendsLikeABeam) {
    // A strip of 100 x 10 x 2, clamped at one end, loaded across its plane at the other; nu = 0.
    const Model model = build_model(test::study_from(
        std::string("units = [\"mm\", \"N\", \"s\"]\n") +
        "[[material]]\nname = \"m\"\nE = 200000\nnu = 0\ndensity = 1e-9\n"
        "[[region]]\nname = \"strip\"\nrole = \"design\"\nmaterial = \"m\"\nbox = [[0, 0], [100, 10]]\n"
        "[[surface]]\nname = \"root\"\nof = \"strip\"\nfacing = [-1, 0]\n[[surface]]\nname = \"tip\"\nof = "
        "\"strip\"\nfacing = [1, 0]\n"
        "[[support]]\nname = \"clamp\"\non = \"root\"\nhold = [\"x\", \"y\", \"z\", \"rx\", \"ry\", \"rz\"]\n"
        "[[load]]\nname = \"push\"\non = \"tip\"\nforce = [0, 0, -5]\n[[case]]\nname = \"c\"\nsupports = "
        "\"clamp\"\nloads = \"push\"\n"
        "[mesh]\nsize = 5\nelement = \"shell\"\nthickness = 2\n"));
    StaticAnalysis analysis(model, {});
    const std::vector<double> full(model.mesh.elements(), 1.0);
    const CaseResult r = analysis.solve(full, full)[0];
    const double exact = 5.0 * 1e6 / (3.0 * 200000 * 10 * 8 / 12.0);
    EXPECT_NEAR(r.displacement.minCoeff(), -exact, 0.01 * exact);
    // Bending stress at the root: M c / I, read in the middle of the first cell.
    EXPECT_NEAR(analysis.von_mises_stress(r.displacement)[0], 5.0 * 97.5 * 1 / (10 * 8 / 12.0), 0.02 * 75);
}
