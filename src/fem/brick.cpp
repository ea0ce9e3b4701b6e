// The tensor-product elements quad4 and hex8: one formulation in two and three dimensions.
#include "fem/element.hpp"

#include <Eigen/Dense>
#include <cmath>

namespace upright {

namespace {

template <int Dim> class Brick : public Element {
    static constexpr int corners_count = 1 << Dim;
    static constexpr int strains = Dim == 2 ? 3 : 6;
    static constexpr int dofs = Dim * corners_count;
    using Point = Eigen::Matrix<double, Dim, 1>;
    using Gradient = Eigen::Matrix<double, Dim, Eigen::Dynamic>;
    using Jacobian = Eigen::Matrix<double, Dim, Dim>;

  public:
    int nodes() const override { return corners_count; }
    int dimension() const override { return Dim; }

    Eigen::MatrixXd stiffness(const Eigen::MatrixXd& corners, const Eigen::MatrixXd& D, double thickness,
                              Formulation formulation) const override {
        const bool enhanced = formulation == Formulation::Enhanced;
        const int extra = enhanced ? Dim * Dim : 0;
        Eigen::MatrixXd K = Eigen::MatrixXd::Zero(dofs + extra, dofs + extra);
        const Jacobian middle = corners * shape_gradient(Point::Zero()).transpose();
        const double gauss = 1.0 / std::sqrt(3.0);
        for (int g = 0; g < corners_count; ++g) {
            const Point xi = gauss * corner_sign(g);
            const Gradient local = shape_gradient(xi);
            const Jacobian J = corners * local.transpose();
            const double det = J.determinant();
            Eigen::MatrixXd B(strains, dofs + extra);
            B.leftCols(dofs) = strain_matrix(J.inverse().transpose() * local);
            if (enhanced) {
                // Modes 1 - xi_a^2, with the Jacobian of the middle so that constant stress does no work on
                // them.
                Gradient modes = Gradient::Zero(Dim, Dim);
                for (int a = 0; a < Dim; ++a) modes(a, a) = -2.0 * xi[a];
                const Gradient global = (middle.determinant() / det) * middle.inverse().transpose() * modes;
                B.rightCols(extra) = strain_matrix(global);
            }
            K += B.transpose() * D * B * (det * thickness);
        }
        if (!enhanced) return K;
        const Eigen::MatrixXd Kaa = K.bottomRightCorner(extra, extra);
        const Eigen::MatrixXd Kau = K.bottomLeftCorner(extra, dofs);
        Eigen::MatrixXd condensed = K.topLeftCorner(dofs, dofs) - Kau.transpose() * Kaa.ldlt().solve(Kau);
        return 0.5 * (condensed + condensed.transpose());
    }

    Eigen::MatrixXd center_strain(const Eigen::MatrixXd& corners) const override {
        const Gradient local = shape_gradient(Point::Zero());
        const Jacobian J = corners * local.transpose();
        return strain_matrix(J.inverse().transpose() * local);
    }

  private:
    // Counter-clockwise in each layer, the lower layer first.
    static Point corner_sign(int corner) {
        static constexpr int ring[4][2] = {{-1, -1}, {1, -1}, {1, 1}, {-1, 1}};
        Point out;
        out[0] = ring[corner % 4][0];
        out[1] = ring[corner % 4][1];
        if constexpr (Dim == 3) out[2] = corner < 4 ? -1 : 1;
        return out;
    }

    static Gradient shape_gradient(const Point& xi) {
        Gradient out(Dim, corners_count);
        for (int c = 0; c < corners_count; ++c) {
            const Point sign = corner_sign(c);
            for (int a = 0; a < Dim; ++a) {
                double value = sign[a];
                for (int b = 0; b < Dim; ++b)
                    if (b != a) value *= 1.0 + sign[b] * xi[b];
                out(a, c) = value / corners_count;
            }
        }
        return out;
    }

    static Eigen::MatrixXd strain_matrix(const Gradient& g) {
        Eigen::MatrixXd B = Eigen::MatrixXd::Zero(strains, Dim * g.cols());
        for (Eigen::Index c = 0; c < g.cols(); ++c) {
            const Eigen::Index at = Dim * c;
            for (int a = 0; a < Dim; ++a) B(a, at + a) = g(a, c);
            if constexpr (Dim == 2) {
                B(2, at) = g(1, c);
                B(2, at + 1) = g(0, c);
            } else {
                B(3, at) = g(1, c);
                B(3, at + 1) = g(0, c);
                B(4, at + 1) = g(2, c);
                B(4, at + 2) = g(1, c);
                B(5, at) = g(2, c);
                B(5, at + 2) = g(0, c);
            }
        }
        return B;
    }
};

} // namespace

const Element& element_for(ElementKind kind) {
    static const Brick<2> quad4;
    static const Brick<3> hex8;
    if (kind == ElementKind::Quad4) return quad4;
    return hex8;
}

Eigen::MatrixXd elastic_matrix(ElementFamily family, double nu) {
    if (family == ElementFamily::PlaneStress) {
        Eigen::MatrixXd D = Eigen::MatrixXd::Zero(3, 3);
        D << 1, nu, 0, nu, 1, 0, 0, 0, 0.5 * (1 - nu);
        return D / (1 - nu * nu);
    }
    const double lambda = nu / ((1 + nu) * (1 - 2 * nu));
    const double mu = 0.5 / (1 + nu);
    const int normal = family == ElementFamily::Solid ? 3 : 2;
    const int shear = family == ElementFamily::Solid ? 3 : 1;
    Eigen::MatrixXd D = Eigen::MatrixXd::Zero(normal + shear, normal + shear);
    D.topLeftCorner(normal, normal).setConstant(lambda);
    for (int i = 0; i < normal; ++i) D(i, i) += 2 * mu;
    for (int i = normal; i < normal + shear; ++i) D(i, i) = mu;
    return D;
}

double von_mises(const Eigen::VectorXd& s, double across_plane) {
    const double xx = s[0];
    const double yy = s[1];
    const double zz = s.size() == 6 ? s[2] : across_plane;
    const double shear = s.size() == 6 ? s.tail<3>().squaredNorm() : s[2] * s[2];
    const double normal = (xx - yy) * (xx - yy) + (yy - zz) * (yy - zz) + (zz - xx) * (zz - xx);
    return std::sqrt(0.5 * normal + 3.0 * shear);
}

Eigen::MatrixXd corners_of(const Mesh& mesh, ElementId element) {
    Eigen::MatrixXd out(mesh.dimension(), mesh.nodes_per_element());
    for (int c = 0; c < mesh.nodes_per_element(); ++c)
        out.col(c) = mesh.nodes[index(mesh.node(element, c))].head(mesh.dimension());
    return out;
}

} // namespace upright
