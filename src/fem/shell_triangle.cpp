// The flat shell of three nodes with six freedoms a node.
//
// Membrane with turns about the normal: the optimal triangle of assumed natural deviatoric strains (Felippa
// 2003, "A study of optimal membrane triangles with drilling freedoms", CMAME 192): a basic part that passes
// the patch test, and a part of higher order that bends exactly in the plane; names of matrices as there.
// Where the facets of a curved thin shell meet, that part ties turns about one facet's normal to the bending
// of the next and locks; it is therefore weighed by thickness over size where that is small, as bending is
// (found on the hemisphere and the roof of docs/verification.md; in the plane two elements over a depth still
// bend to one per cent). Bending: the discrete Kirchhoff triangle (Batoz, Bathe & Ho 1980), for thin shells;
// transverse shear adds no flexibility.
#include "fem/element.hpp"
#include "fem/shell_plane.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <array>
#include <cmath>

namespace upright {

namespace {

using Mat9x3 = Eigen::Matrix<double, 9, 3>;
using Mat3x9 = Eigen::Matrix<double, 3, 9>;

constexpr double basic_turns = 1.5; // alpha_b

// The membrane of a triangle with freedoms u, v and the turn about the normal at each node.
class Membrane {
  public:
    Membrane(const ShellPlane& plane, double thickness) {
        const auto x = [&](int i, int j) { return plane.x(0, i - 1) - plane.x(0, j - 1); };
        const auto y = [&](int i, int j) { return plane.x(1, i - 1) - plane.x(1, j - 1); };
        area_ = 0.5 * (x(2, 1) * y(3, 1) - x(3, 1) * y(2, 1));
        const std::array<double, 3> square{x(2, 1) * x(2, 1) + y(2, 1) * y(2, 1),
                                           x(3, 2) * x(3, 2) + y(3, 2) * y(3, 2),
                                           x(1, 3) * x(1, 3) + y(1, 3) * y(1, 3)};
        weight_ = std::clamp(2.0 * thickness / std::sqrt(2.0 * area_), 0.05, 1.0);
        // Forces of a constant stress, of unit thickness.
        const auto corner = [&](int row, int i, int j, int k) {
            const double a = basic_turns / 6.0;
            lumping_.row(row) << y(j, k), 0.0, x(k, j);
            lumping_.row(row + 1) << 0.0, x(k, j), y(j, k);
            lumping_.row(row + 2) << a * y(j, k) * (y(i, k) - y(j, i)), a * x(k, j) * (x(k, i) - x(i, j)),
                2.0 * a * (x(k, i) * y(i, k) - x(i, j) * y(j, i));
        };
        corner(0, 1, 2, 3);
        corner(3, 2, 3, 1);
        corner(6, 3, 1, 2);
        lumping_ *= 0.5;
        // Turns less that of the constant strain.
        for (int i = 0; i < 3; ++i) {
            turns_.row(i) << x(3, 2), y(3, 2), 0.0, x(1, 3), y(1, 3), 0.0, x(2, 1), y(2, 1), 0.0;
            turns_.row(i) /= 4.0 * area_;
            turns_(i, 3 * i + 2) = 1.0;
        }
        // From natural strains along the sides 21, 32, 13 to Cartesian ones.
        Mat3 T;
        T.row(0) << y(2, 3) * y(1, 3) * square[0], y(3, 1) * y(2, 1) * square[1],
            y(1, 2) * y(3, 2) * square[2];
        T.row(1) << x(2, 3) * x(1, 3) * square[0], x(3, 1) * x(2, 1) * square[1],
            x(1, 2) * x(3, 2) * square[2];
        T.row(2) << (y(2, 3) * x(3, 1) + x(3, 2) * y(1, 3)) * square[0],
            (y(3, 1) * x(1, 2) + x(1, 3) * y(2, 1)) * square[1],
            (y(1, 2) * x(2, 3) + x(2, 1) * y(3, 2)) * square[2];
        T /= 4.0 * area_ * area_;
        // beta 1 to 9 at the first corner, and the same seen from the others.
        const std::array<Mat3, 3> beta{(Mat3() << 1, 2, 1, 0, 1, -1, -1, -1, -2).finished(),
                                       (Mat3() << -2, -1, -1, 1, 1, 2, -1, 0, 1).finished(),
                                       (Mat3() << 1, -1, 0, -1, -2, -1, 2, 1, 1).finished()};
        for (std::size_t c = 0; c < 3; ++c) {
            Mat3 Q = 2.0 * area_ / 3.0 * beta[c];
            for (int side = 0; side < 3; ++side) Q.row(side) /= square[static_cast<std::size_t>(side)];
            higher_[c] = T * Q * turns_;
        }
    }

    // Of unit thickness.
    Eigen::Matrix<double, 9, 9> stiffness(const Mat3& D) const {
        Eigen::Matrix<double, 9, 9> K = lumping_ * D * lumping_.transpose() / area_;
        // The strain of higher order is linear: the middles of the sides integrate its square.
        for (std::size_t c = 0; c < 3; ++c) {
            const Mat3x9 B = 0.5 * (higher_[c] + higher_[(c + 1) % 3]);
            K += 0.75 * share(D) * area_ * B.transpose() * D * B;
        }
        return K;
    }
    // Forces of a constant stress of unit thickness.
    const Mat9x3& lumping() const { return lumping_; }
    // Strain at a place in triangle coordinates.
    Mat3x9 strain(const Mat3& D, const Vec3& at) const {
        const double scale = 1.5 * std::sqrt(share(D));
        return lumping_.transpose() / area_ +
               scale * ((1.0 - at.x() - at.y()) * higher_[0] + at.x() * higher_[1] + at.y() * higher_[2]);
    }

  private:
    // beta_0, the share of the part of higher order that makes bending in the plane exact.
    double share(const Mat3& D) const {
        return weight_ * std::max(0.5 * (1.0 - 4.0 * D(0, 1) * D(0, 1) / (D(0, 0) * D(1, 1))), 0.01);
    }

    double area_ = 0.0, weight_ = 1.0;
    Mat9x3 lumping_;
    Mat3x9 turns_;
    std::array<Mat3x9, 3> higher_; // strain of the higher part at each corner
};

class ShellTriangle : public Element {
  public:
    Eigen::MatrixXd stiffness(const Eigen::MatrixXd& places, const Eigen::MatrixXd& D, double thickness,
                              Formulation /*formulation*/) const override {
        const ShellPlane plane(places);
        const Mat3 in_plane = D.topLeftCorner(3, 3);
        Eigen::MatrixXd K = Eigen::MatrixXd::Zero(18, 18);
        const Eigen::Matrix<double, 9, 9> membrane =
            thickness * Membrane(plane, thickness).stiffness(in_plane);
        for (int i = 0; i < 9; ++i)
            for (int j = 0; j < 9; ++j) K(of_membrane(i), of_membrane(j)) += membrane(i, j);
        const double bend = thickness * thickness * thickness / 12.0;
        for (const RulePoint& p : integration_rule(ElementKind::Tri3)) {
            double det = 0.0;
            const Eigen::MatrixXd B = curvature(plane, p.at, det);
            K += B.transpose() * in_plane * B * (p.weight * det * bend);
        }
        const Eigen::MatrixXd T = plane.to_local();
        const Eigen::MatrixXd out = T.transpose() * K * T;
        return 0.5 * (out + out.transpose());
    }

    // Of linear interpolation.
    Eigen::MatrixXd mass(const Eigen::MatrixXd& places, double thickness) const override {
        const ShellPlane plane(places);
        Eigen::MatrixXd M = Eigen::MatrixXd::Zero(18, 18);
        Eigen::VectorXd N;
        Eigen::MatrixXd G;
        for (const RulePoint& p : integration_rule(ElementKind::Tri3)) {
            interpolate(ElementKind::Tri3, p.at, N, G);
            const double w = p.weight * (plane.x * G.transpose()).determinant() * thickness;
            for (int i = 0; i < 3; ++i)
                for (int j = 0; j < 3; ++j)
                    for (int a = 0; a < 6; ++a)
                        M(6 * i + a, 6 * j + a) +=
                            w * N[i] * N[j] * (a < 3 ? 1.0 : thickness * thickness / 12.0);
        }
        const Eigen::MatrixXd T = plane.to_local();
        return T.transpose() * M * T;
    }

    Eigen::VectorXd expansion(const Eigen::MatrixXd& places, const Eigen::MatrixXd& D,
                              const Eigen::VectorXd& strain0, double thickness) const override {
        const ShellPlane plane(places);
        const Eigen::VectorXd membrane =
            thickness * Membrane(plane, thickness).lumping() * (D.topLeftCorner(3, 3) * strain0.head(3));
        Eigen::VectorXd f = Eigen::VectorXd::Zero(18);
        for (int i = 0; i < 9; ++i) f[of_membrane(i)] = membrane[i];
        return plane.to_local().transpose() * f;
    }

    Eigen::MatrixXd stress(const Eigen::MatrixXd& places, const Eigen::MatrixXd& D, double thickness,
                           Formulation /*formulation*/, const Vec3& at) const override {
        const ShellPlane plane(places);
        const Mat3 in_plane = D.topLeftCorner(3, 3);
        const Mat3x9 strain = Membrane(plane, thickness).strain(in_plane, at);
        Eigen::MatrixXd membrane = Eigen::MatrixXd::Zero(3, 18);
        for (int i = 0; i < 9; ++i) membrane.col(of_membrane(i)) = in_plane * strain.col(i);
        double det = 0.0;
        const Eigen::MatrixXd bending = 0.5 * thickness * in_plane * curvature(plane, at, det);
        Eigen::MatrixXd out(6, 18);
        out.topRows(3) = membrane + bending;
        out.bottomRows(3) = membrane - bending;
        return out * plane.to_local();
    }

  private:
    // Where u, v and the turn about the normal stand among six freedoms a node.
    static int of_membrane(int i) { return 6 * (i / 3) + (i % 3 == 2 ? 5 : i % 3); }

    // Curvatures from the local freedoms. The tilt of fibres (turn_y, -turn_x) is quadratic: at the middle of
    // a side its part along the side is minus the slope of the cubic deflection there, its part across the
    // mean of the ends.
    static Eigen::MatrixXd curvature(const ShellPlane& plane, const Vec3& at, double& det) {
        Eigen::MatrixXd tilt = Eigen::MatrixXd::Zero(12, 18); // two of each corner, then of each middle
        for (int i = 0; i < 3; ++i) {
            tilt(2 * i, 6 * i + 4) = 1.0;
            tilt(2 * i + 1, 6 * i + 3) = -1.0;
        }
        for (int side = 0; side < 3; ++side) {
            const int i = side;
            const int j = (side + 1) % 3;
            const Vec2 edge = plane.x.col(j) - plane.x.col(i);
            const double length = edge.norm();
            const Vec2 s = edge / length;
            const Vec2 n(-s.y(), s.x());
            // Tilt at the middle: n n' (a + b) / 2 + s (3 (w_i - w_j) / 2 l - s' (a + b) / 4).
            const Eigen::Matrix2d of_ends = 0.5 * n * n.transpose() - 0.25 * s * s.transpose();
            const int row = 6 + 2 * side;
            tilt.middleRows(row, 2) = of_ends * (tilt.middleRows(2 * i, 2) + tilt.middleRows(2 * j, 2));
            tilt.block(row, 6 * i + 2, 2, 1) += 1.5 / length * s;
            tilt.block(row, 6 * j + 2, 2, 1) -= 1.5 / length * s;
        }
        Eigen::VectorXd N;
        Eigen::MatrixXd G;
        interpolate(ElementKind::Tri3, at, N, G);
        const Eigen::Matrix2d J = plane.x * G.transpose();
        det = J.determinant();
        interpolate(ElementKind::Tri6, at, N, G);
        const Eigen::MatrixXd g = J.inverse().transpose() * G;
        Eigen::MatrixXd B = Eigen::MatrixXd::Zero(3, 12);
        for (int i = 0; i < 6; ++i) {
            B(0, 2 * i) = g(0, i);
            B(1, 2 * i + 1) = g(1, i);
            B(2, 2 * i) = g(1, i);
            B(2, 2 * i + 1) = g(0, i);
        }
        return B * tilt;
    }
};

} // namespace

const Element& shell_triangle() {
    static const ShellTriangle triangle;
    return triangle;
}

} // namespace upright
