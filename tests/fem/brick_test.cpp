#include "fem/elasticity.hpp"
#include "fem/element.hpp"

#include <Eigen/Dense>
#include <cmath>
#include <gtest/gtest.h>

using namespace upright;

namespace {

Eigen::MatrixXd unit_corners(int dimension) {
    Eigen::MatrixXd out(dimension, 1 << dimension);
    const int ring[4][2] = {{0, 0}, {1, 0}, {1, 1}, {0, 1}};
    for (int c = 0; c < out.cols(); ++c) {
        out(0, c) = ring[c % 4][0];
        out(1, c) = ring[c % 4][1];
        if (dimension == 3) out(2, c) = c < 4 ? 0 : 1;
    }
    return out;
}

// A cell with every corner out of place.
Eigen::MatrixXd distorted(int dimension) {
    Eigen::MatrixXd out = unit_corners(dimension);
    for (Eigen::Index c = 0; c < out.cols(); ++c)
        for (Eigen::Index a = 0; a < dimension; ++a)
            out(a, c) += 0.17 * std::sin(3.0 * static_cast<double>(c) + 5.0 * static_cast<double>(a));
    return out;
}

struct Kind {
    ElementKind kind;
    Formulation formulation;
};

class Bricks : public ::testing::TestWithParam<Kind> {
  protected:
    int dimension() const { return GetParam().kind == ElementKind::Quad4 ? 2 : 3; }
    Eigen::MatrixXd D() const {
        return 100.0 *
               elastic_matrix(dimension() == 2 ? ElementFamily::PlaneStress : ElementFamily::Solid, 0.3);
    }
    Eigen::MatrixXd stiffness(const Eigen::MatrixXd& corners) const {
        return element_for(GetParam().kind).stiffness(corners, D(), 1.0, GetParam().formulation);
    }
};

} // namespace

TEST_P(Bricks, HaveExactlyTheRigidBodyModes) {
    const Eigen::MatrixXd K = stiffness(distorted(dimension()));
    EXPECT_LT((K - K.transpose()).norm(), 1e-10);
    const Eigen::VectorXd values = Eigen::SelfAdjointEigenSolver<Eigen::MatrixXd>(K).eigenvalues();
    const int rigid = dimension() == 2 ? 3 : 6;
    for (int i = 0; i < values.size(); ++i) {
        if (i < rigid)
            EXPECT_LT(std::abs(values[i]), 1e-10 * values.maxCoeff()) << i;
        else
            EXPECT_GT(values[i], 1e-4 * values.maxCoeff()) << i;
    }
}

// Patch test: a cube cut into 2 x 2 (x 2) cells with the middle node out of place; its boundary follows a
// linear field, and the middle node must find its place on it by itself, with the same stress everywhere.
TEST_P(Bricks, PassThePatchTest) {
    const int d = dimension();
    const Element& element = element_for(GetParam().kind);
    const int side = 3;
    const int nodes = d == 2 ? 9 : 27;
    const auto number = [&](int i, int j, int k) { return (k * side + j) * side + i; };
    Eigen::MatrixXd place(d, nodes);
    for (int k = 0; k < (d == 2 ? 1 : 3); ++k)
        for (int j = 0; j < 3; ++j)
            for (int i = 0; i < 3; ++i) {
                place(0, number(i, j, k)) = i;
                place(1, number(i, j, k)) = j;
                if (d == 3) place(2, number(i, j, k)) = k;
            }
    const int middle = d == 2 ? number(1, 1, 0) : number(1, 1, 1);
    place.col(middle) += d == 2 ? Eigen::VectorXd(Eigen::Vector2d(0.21, -0.14))
                                : Eigen::VectorXd(Eigen::Vector3d(0.21, -0.14, 0.17));
    Eigen::MatrixXd field = Eigen::MatrixXd::Zero(d, d);
    for (int a = 0; a < d; ++a)
        for (int b = 0; b < d; ++b) field(a, b) = 0.01 * (1 + a) - 0.007 * b;
    Eigen::MatrixXd K = Eigen::MatrixXd::Zero(d * nodes, d * nodes);
    std::vector<std::vector<int>> cells;
    const Eigen::MatrixXd unit = unit_corners(d);
    for (int k = 0; k < (d == 2 ? 1 : 2); ++k)
        for (int j = 0; j < 2; ++j)
            for (int i = 0; i < 2; ++i) {
                std::vector<int> cell;
                for (Eigen::Index c = 0; c < unit.cols(); ++c)
                    cell.push_back(number(i + static_cast<int>(unit(0, c)), j + static_cast<int>(unit(1, c)),
                                          d == 2 ? 0 : k + static_cast<int>(unit(2, c))));
                cells.push_back(cell);
            }
    for (const auto& cell : cells) {
        Eigen::MatrixXd corners(d, unit.cols());
        for (Eigen::Index c = 0; c < unit.cols(); ++c)
            corners.col(c) = place.col(cell[static_cast<std::size_t>(c)]);
        const Eigen::MatrixXd k = stiffness(corners);
        for (std::size_t a = 0; a < cell.size(); ++a)
            for (std::size_t b = 0; b < cell.size(); ++b)
                K.block(d * cell[a], d * cell[b], d, d) +=
                    k.block(d * static_cast<Eigen::Index>(a), d * static_cast<Eigen::Index>(b), d, d);
    }
    Eigen::VectorXd u(d * nodes);
    for (int n = 0; n < nodes; ++n) u.segment(d * n, d) = field * place.col(n);
    const Eigen::VectorXd exact = u.segment(d * middle, d);
    // Solve for the middle node with all others prescribed.
    Eigen::VectorXd others = u;
    others.segment(d * middle, d).setZero();
    const Eigen::VectorXd load = -(K * others).segment(d * middle, d);
    const Eigen::VectorXd found = K.block(d * middle, d * middle, d, d).ldlt().solve(load);
    EXPECT_LT((found - exact).norm(), 1e-13);
    for (const auto& cell : cells) {
        Eigen::MatrixXd corners(d, unit.cols());
        Eigen::VectorXd ue(d * unit.cols());
        for (Eigen::Index c = 0; c < unit.cols(); ++c) {
            corners.col(c) = place.col(cell[static_cast<std::size_t>(c)]);
            ue.segment(d * c, d) = u.segment(d * cell[static_cast<std::size_t>(c)], d);
        }
        const Eigen::VectorXd strain =
            element.stress(corners, Eigen::MatrixXd::Identity(d == 2 ? 3 : 6, d == 2 ? 3 : 6), 1.0,
                           GetParam().formulation, Vec3::Zero()) *
            ue;
        for (int a = 0; a < d; ++a) EXPECT_NEAR(strain[a], field(a, a), 1e-13);
        EXPECT_NEAR(strain[d], field(0, 1) + field(1, 0), 1e-13);
    }
}

INSTANTIATE_TEST_SUITE_P(All, Bricks,
                         ::testing::Values(Kind{ElementKind::Quad4, Formulation::Plain},
                                           Kind{ElementKind::Quad4, Formulation::Enhanced},
                                           Kind{ElementKind::Hex8, Formulation::Plain},
                                           Kind{ElementKind::Hex8, Formulation::Enhanced}));

TEST(Quad4, MatchesThePublishedMatrix) {
    // First row of the unit square's stiffness in plane stress, as the optimisation literature prints it.
    const double nu = 0.3;
    const double k[8] = {
        1.0 / 2 - nu / 6,  1.0 / 8 + nu / 8, -1.0 / 4 - nu / 12,  -1.0 / 8 + 3 * nu / 8, -1.0 / 4 + nu / 12,
        -1.0 / 8 - nu / 8, nu / 6,           1.0 / 8 - 3 * nu / 8};
    const Eigen::MatrixXd K = element_for(ElementKind::Quad4)
                                  .stiffness(unit_corners(2), elastic_matrix(ElementFamily::PlaneStress, nu),
                                             1.0, Formulation::Plain);
    for (int i = 0; i < 8; ++i) EXPECT_NEAR(K(0, i), k[i] / (1 - nu * nu), 1e-14) << i;
}

TEST(VonMises, KnowsTensionShearAndPressure) {
    Eigen::VectorXd s(6);
    s << 100, 0, 0, 0, 0, 0;
    EXPECT_NEAR(plane_von_mises(s), 100, 1e-12);
    s << 50, 50, 50, 0, 0, 0;
    EXPECT_NEAR(plane_von_mises(s), 0, 1e-12);
    s << 0, 0, 0, 10, 0, 0;
    EXPECT_NEAR(plane_von_mises(s), 10 * std::sqrt(3.0), 1e-12);
    Eigen::VectorXd p(3);
    p << 100, 0, 0;
    EXPECT_NEAR(plane_von_mises(p), 100, 1e-12);
}
