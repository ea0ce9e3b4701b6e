// The flat shell of four nodes with six freedoms a node: membrane, bending, drilling.
//
// Membrane: quad4 with incompatible modes. Bending: MITC4 (Dvorkin & Bathe 1984), shear correction 5/6.
// Drilling: the turn about the normal follows that of the membrane (Hughes & Brezzi 1989), a tenth of the
// shear modulus. A warped quadrilateral is taken in its mean plane, its nodes linked there rigidly, so that
// rigid motions stay free of strain.
#include "fem/element.hpp"
#include "fem/shell_plane.hpp"

#include <Eigen/Dense>
#include <cmath>

namespace upright {

namespace {

constexpr double shear_correction = 5.0 / 6.0;
constexpr double drilling_share = 0.1;

class ShellQuad : public Element {
  public:
    Eigen::MatrixXd stiffness(const Eigen::MatrixXd& places, const Eigen::MatrixXd& D, double thickness,
                              Formulation formulation) const override {
        const ShellPlane plane(places);
        Eigen::MatrixXd K = Eigen::MatrixXd::Zero(6 * nodes_, 6 * nodes_);
        const Eigen::MatrixXd membrane =
            element_for(flat_).stiffness(plane.x, D.topLeftCorner(3, 3), thickness, formulation);
        for (int i = 0; i < nodes_; ++i)
            for (int j = 0; j < nodes_; ++j)
                K.block(6 * i, 6 * j, 2, 2) += membrane.block(2 * i, 2 * j, 2, 2);
        const double G = D(2, 2);
        for (const RulePoint& p : integration_rule(flat_)) {
            double det = 0.0;
            const Eigen::MatrixXd bending = curvature(plane, p.at, det);
            const double w = p.weight * det;
            K += bending.transpose() * D.topLeftCorner(3, 3) * bending *
                 (w * thickness * thickness * thickness / 12.0);
            const Eigen::MatrixXd shear = transverse_shear(plane, p.at);
            K += shear.transpose() * D.bottomRightCorner(2, 2) * shear * (w * shear_correction * thickness);
            const Eigen::RowVectorXd turn = drilling(plane, p.at);
            K += turn.transpose() * turn * (w * drilling_share * G * thickness);
        }
        const Eigen::MatrixXd T = plane.to_local();
        const Eigen::MatrixXd out = T.transpose() * K * T;
        return 0.5 * (out + out.transpose());
    }

    Eigen::MatrixXd mass(const Eigen::MatrixXd& places, double thickness) const override {
        const ShellPlane plane(places);
        Eigen::MatrixXd M = Eigen::MatrixXd::Zero(6 * nodes_, 6 * nodes_);
        Eigen::VectorXd N;
        Eigen::MatrixXd G;
        for (const RulePoint& p : integration_rule(flat_)) {
            interpolate(flat_, p.at, N, G);
            const double w = p.weight * (plane.x * G.transpose()).determinant() * thickness;
            for (int i = 0; i < nodes_; ++i)
                for (int j = 0; j < nodes_; ++j) {
                    const double share = w * N[i] * N[j];
                    for (int a = 0; a < 3; ++a) M(6 * i + a, 6 * j + a) += share;
                    for (int a = 3; a < 6; ++a)
                        M(6 * i + a, 6 * j + a) += share * thickness * thickness / 12.0;
                }
        }
        const Eigen::MatrixXd T = plane.to_local();
        return T.transpose() * M * T;
    }

    Eigen::VectorXd expansion(const Eigen::MatrixXd& places, const Eigen::MatrixXd& D,
                              const Eigen::VectorXd& strain0, double thickness) const override {
        const ShellPlane plane(places);
        const Eigen::VectorXd membrane =
            element_for(flat_).expansion(plane.x, D.topLeftCorner(3, 3), strain0, thickness);
        Eigen::VectorXd f = Eigen::VectorXd::Zero(6 * nodes_);
        for (int i = 0; i < nodes_; ++i) f.segment(6 * i, 2) = membrane.segment(2 * i, 2);
        return plane.to_local().transpose() * f;
    }

    Eigen::MatrixXd stress(const Eigen::MatrixXd& places, const Eigen::MatrixXd& D, double thickness,
                           Formulation formulation, const Vec3& at) const override {
        const ShellPlane plane(places);
        const Eigen::MatrixXd flat =
            element_for(flat_).stress(plane.x, D.topLeftCorner(3, 3), thickness, formulation, at);
        Eigen::MatrixXd membrane = Eigen::MatrixXd::Zero(3, 6 * nodes_);
        for (int i = 0; i < nodes_; ++i) membrane.block(0, 6 * i, 3, 2) = flat.block(0, 2 * i, 3, 2);
        double det = 0.0;
        const Eigen::MatrixXd bending = 0.5 * thickness * D.topLeftCorner(3, 3) * curvature(plane, at, det);
        Eigen::MatrixXd out(6, 6 * nodes_);
        out.topRows(3) = membrane + bending;
        out.bottomRows(3) = membrane - bending;
        return out * plane.to_local();
    }

  private:
    // Curvatures from the local freedoms (u v w, turns about x y z): fibres tilt by (turn_y, -turn_x).
    Eigen::MatrixXd curvature(const ShellPlane& plane, const Vec3& at, double& det) const {
        Eigen::VectorXd N;
        Eigen::MatrixXd G;
        interpolate(flat_, at, N, G);
        const Eigen::MatrixXd J = plane.x * G.transpose();
        det = J.determinant();
        const Eigen::MatrixXd g = J.inverse().transpose() * G;
        Eigen::MatrixXd B = Eigen::MatrixXd::Zero(3, 6 * nodes_);
        for (int i = 0; i < nodes_; ++i) {
            B(0, 6 * i + 4) = g(0, i);
            B(1, 6 * i + 3) = -g(1, i);
            B(2, 6 * i + 4) = g(1, i);
            B(2, 6 * i + 3) = -g(0, i);
        }
        return B;
    }

    // Covariant transverse shear along natural direction `k` at a place.
    Eigen::RowVectorXd covariant(const ShellPlane& plane, const Vec3& at, int k) const {
        Eigen::VectorXd N;
        Eigen::MatrixXd G;
        interpolate(flat_, at, N, G);
        const Eigen::MatrixXd J = plane.x * G.transpose();
        Eigen::RowVectorXd out = Eigen::RowVectorXd::Zero(6 * nodes_);
        for (int i = 0; i < nodes_; ++i) {
            out[6 * i + 2] = G(k, i);
            out[6 * i + 4] = J(0, k) * N[i];
            out[6 * i + 3] = -J(1, k) * N[i];
        }
        return out;
    }

    Eigen::MatrixXd transverse_shear(const ShellPlane& plane, const Vec3& at) const {
        Eigen::MatrixXd natural(2, 6 * nodes_);
        natural.row(0) = 0.5 * (1 - at.y()) * covariant(plane, Vec3(0, -1, 0), 0) +
                         0.5 * (1 + at.y()) * covariant(plane, Vec3(0, 1, 0), 0);
        natural.row(1) = 0.5 * (1 - at.x()) * covariant(plane, Vec3(-1, 0, 0), 1) +
                         0.5 * (1 + at.x()) * covariant(plane, Vec3(1, 0, 0), 1);
        Eigen::VectorXd N;
        Eigen::MatrixXd G;
        interpolate(flat_, at, N, G);
        const Eigen::Matrix2d J = plane.x * G.transpose();
        return J.inverse().transpose() * natural;
    }

    // The turn about the normal less that of the membrane.
    Eigen::RowVectorXd drilling(const ShellPlane& plane, const Vec3& at) const {
        Eigen::VectorXd N;
        Eigen::MatrixXd G;
        interpolate(flat_, at, N, G);
        const Eigen::MatrixXd J = plane.x * G.transpose();
        const Eigen::MatrixXd g = J.inverse().transpose() * G;
        Eigen::RowVectorXd out = Eigen::RowVectorXd::Zero(6 * nodes_);
        for (int i = 0; i < nodes_; ++i) {
            out[6 * i + 5] = N[i];
            out[6 * i] = 0.5 * g(1, i);
            out[6 * i + 1] = -0.5 * g(0, i);
        }
        return out;
    }

    static constexpr ElementKind flat_ = ElementKind::Quad4;
    static constexpr int nodes_ = 4;
};

} // namespace

ShellPlane::ShellPlane(const Eigen::MatrixXd& places) {
    Vec3 normal;
    if (places.cols() == 3)
        normal = Vec3(places.col(1) - places.col(0)).cross(Vec3(places.col(2) - places.col(0)));
    else
        normal = Vec3(places.col(2) - places.col(0)).cross(Vec3(places.col(3) - places.col(1)));
    axes.col(2) = normal.normalized();
    Vec3 u = places.col(1) - places.col(0);
    u -= axes.col(2) * u.dot(axes.col(2));
    axes.col(0) = u.normalized();
    axes.col(1) = axes.col(2).cross(axes.col(0));
    const Vec3 center = places.rowwise().mean();
    x.resize(2, places.cols());
    off.resize(places.cols());
    for (Eigen::Index i = 0; i < places.cols(); ++i) {
        const Vec3 local = axes.transpose() * (places.col(i) - center);
        x.col(i) = local.head<2>();
        off[i] = local.z();
    }
}

Eigen::MatrixXd ShellPlane::to_local() const {
    const Eigen::Index nodes = x.cols();
    Eigen::MatrixXd out = Eigen::MatrixXd::Zero(6 * nodes, 6 * nodes);
    const Mat3 R = axes.transpose();
    for (Eigen::Index i = 0; i < nodes; ++i) {
        out.block(6 * i, 6 * i, 3, 3) = R;
        out.block(6 * i + 3, 6 * i + 3, 3, 3) = R;
        // u_plane = u + turn x (-off n), in local axes.
        Mat3 arm = Mat3::Zero();
        arm(0, 1) = -off[i];
        arm(1, 0) = off[i];
        out.block(6 * i, 6 * i + 3, 3, 3) += arm * R;
    }
    return out;
}

Mat3 shell_axes(const Eigen::MatrixXd& places) {
    return ShellPlane(places).axes;
}

const Element& shell_quad() {
    static const ShellQuad quad;
    return quad;
}

} // namespace upright
