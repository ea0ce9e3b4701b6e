// Flat shells of four and three nodes with six freedoms a node: membrane, bending, drilling.
//
// Membrane: quad4 with incompatible modes, tri3. Bending: MITC4 (Dvorkin & Bathe 1984) and MITC3 (Lee & Bathe
// 2004), shear correction 5/6. Drilling: the turn about the normal follows that of the membrane (Hughes &
// Brezzi 1989), a tenth of the shear modulus. A warped quadrilateral is taken in its mean plane, its nodes
// linked there rigidly, so that rigid motions stay free of strain.
#include "fem/element.hpp"

#include <Eigen/Dense>
#include <cmath>

namespace upright {

namespace {

constexpr double shear_correction = 5.0 / 6.0;
constexpr double drilling_share = 0.1;

// The local plane of an element.
struct Plane {
    Mat3 axes;           // columns: two in the plane, the normal
    Eigen::MatrixXd x;   // 2 x nodes
    Eigen::VectorXd off; // nodes above the plane
};

Plane plane_of(const Eigen::MatrixXd& places) {
    Plane out;
    Vec3 normal;
    if (places.cols() == 3)
        normal = Vec3(places.col(1) - places.col(0)).cross(Vec3(places.col(2) - places.col(0)));
    else
        normal = Vec3(places.col(2) - places.col(0)).cross(Vec3(places.col(3) - places.col(1)));
    out.axes.col(2) = normal.normalized();
    Vec3 u = places.col(1) - places.col(0);
    u -= out.axes.col(2) * u.dot(out.axes.col(2));
    out.axes.col(0) = u.normalized();
    out.axes.col(1) = out.axes.col(2).cross(out.axes.col(0));
    const Vec3 center = places.rowwise().mean();
    out.x.resize(2, places.cols());
    out.off.resize(places.cols());
    for (Eigen::Index i = 0; i < places.cols(); ++i) {
        const Vec3 local = out.axes.transpose() * (places.col(i) - center);
        out.x.col(i) = local.head<2>();
        out.off[i] = local.z();
    }
    return out;
}

class Shell : public Element {
  public:
    explicit Shell(ElementKind kind)
        : kind_(kind), flat_(kind == ElementKind::ShellTri3 ? ElementKind::Tri3 : ElementKind::Quad4),
          nodes_(traits(kind).nodes) {}

    Eigen::MatrixXd stiffness(const Eigen::MatrixXd& places, const Eigen::MatrixXd& D, double thickness,
                              Formulation formulation) const override {
        const Plane plane = plane_of(places);
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
        const Eigen::MatrixXd T = to_local(plane);
        const Eigen::MatrixXd out = T.transpose() * K * T;
        return 0.5 * (out + out.transpose());
    }

    Eigen::MatrixXd mass(const Eigen::MatrixXd& places, double thickness) const override {
        const Plane plane = plane_of(places);
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
        const Eigen::MatrixXd T = to_local(plane);
        return T.transpose() * M * T;
    }

    Eigen::VectorXd expansion(const Eigen::MatrixXd& places, const Eigen::MatrixXd& D,
                              const Eigen::VectorXd& strain0, double thickness) const override {
        const Plane plane = plane_of(places);
        const Eigen::VectorXd membrane =
            element_for(flat_).expansion(plane.x, D.topLeftCorner(3, 3), strain0, thickness);
        Eigen::VectorXd f = Eigen::VectorXd::Zero(6 * nodes_);
        for (int i = 0; i < nodes_; ++i) f.segment(6 * i, 2) = membrane.segment(2 * i, 2);
        return to_local(plane).transpose() * f;
    }

    Eigen::MatrixXd stress(const Eigen::MatrixXd& places, const Eigen::MatrixXd& D, double thickness,
                           Formulation formulation, const Vec3& at) const override {
        const Plane plane = plane_of(places);
        const Eigen::MatrixXd flat =
            element_for(flat_).stress(plane.x, D.topLeftCorner(3, 3), thickness, formulation, at);
        Eigen::MatrixXd membrane = Eigen::MatrixXd::Zero(3, 6 * nodes_);
        for (int i = 0; i < nodes_; ++i) membrane.block(0, 6 * i, 3, 2) = flat.block(0, 2 * i, 3, 2);
        double det = 0.0;
        const Eigen::MatrixXd bending = 0.5 * thickness * D.topLeftCorner(3, 3) * curvature(plane, at, det);
        Eigen::MatrixXd out(6, 6 * nodes_);
        out.topRows(3) = membrane + bending;
        out.bottomRows(3) = membrane - bending;
        return out * to_local(plane);
    }

  private:
    // Curvatures from the local freedoms (u v w, turns about x y z): fibres tilt by (turn_y, -turn_x).
    Eigen::MatrixXd curvature(const Plane& plane, const Vec3& at, double& det) const {
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
    Eigen::RowVectorXd covariant(const Plane& plane, const Vec3& at, int k) const {
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

    Eigen::MatrixXd transverse_shear(const Plane& plane, const Vec3& at) const {
        Eigen::MatrixXd natural(2, 6 * nodes_);
        if (flat_ == ElementKind::Quad4) {
            natural.row(0) = 0.5 * (1 - at.y()) * covariant(plane, Vec3(0, -1, 0), 0) +
                             0.5 * (1 + at.y()) * covariant(plane, Vec3(0, 1, 0), 0);
            natural.row(1) = 0.5 * (1 - at.x()) * covariant(plane, Vec3(-1, 0, 0), 1) +
                             0.5 * (1 + at.x()) * covariant(plane, Vec3(1, 0, 0), 1);
        } else {
            const Eigen::RowVectorXd r1 = covariant(plane, Vec3(0.5, 0, 0), 0);
            const Eigen::RowVectorXd s2 = covariant(plane, Vec3(0, 0.5, 0), 1);
            const Vec3 third(0.5, 0.5, 0);
            const Eigen::RowVectorXd c = s2 - r1 - covariant(plane, third, 1) + covariant(plane, third, 0);
            natural.row(0) = r1 + c * at.y();
            natural.row(1) = s2 - c * at.x();
        }
        Eigen::VectorXd N;
        Eigen::MatrixXd G;
        interpolate(flat_, at, N, G);
        const Eigen::Matrix2d J = plane.x * G.transpose();
        return J.inverse().transpose() * natural;
    }

    // The turn about the normal less that of the membrane.
    Eigen::RowVectorXd drilling(const Plane& plane, const Vec3& at) const {
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

    // From global freedoms to those of the mean plane's points, in local axes.
    Eigen::MatrixXd to_local(const Plane& plane) const {
        Eigen::MatrixXd out = Eigen::MatrixXd::Zero(6 * nodes_, 6 * nodes_);
        const Mat3 R = plane.axes.transpose();
        for (int i = 0; i < nodes_; ++i) {
            out.block(6 * i, 6 * i, 3, 3) = R;
            out.block(6 * i + 3, 6 * i + 3, 3, 3) = R;
            // u_plane = u + turn x (-off n), in local axes.
            Mat3 arm = Mat3::Zero();
            arm(0, 1) = -plane.off[i];
            arm(1, 0) = plane.off[i];
            out.block(6 * i, 6 * i + 3, 3, 3) += arm * R;
        }
        return out;
    }

    ElementKind kind_, flat_;
    int nodes_;
};

} // namespace

Mat3 shell_axes(const Eigen::MatrixXd& places) {
    return plane_of(places).axes;
}

const Element& shell_element(ElementKind kind) {
    static const Shell tri(ElementKind::ShellTri3);
    static const Shell quad(ElementKind::ShellQuad4);
    return kind == ElementKind::ShellTri3 ? tri : quad;
}

} // namespace upright
