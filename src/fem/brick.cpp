// quad4 and hex8 with incompatible modes: one formulation in two and three dimensions. All but the modes is
// that of the isoparametric elements.
#include "fem/element.hpp"

#include <Eigen/Dense>
#include <cmath>

namespace upright {

namespace {

class Brick : public Element {
  public:
    explicit Brick(ElementKind kind) : kind_(kind), plain_(isoparametric_element(kind)) {}

    Eigen::MatrixXd stiffness(const Eigen::MatrixXd& x, const Eigen::MatrixXd& D, double thickness,
                              Formulation formulation) const override {
        if (formulation == Formulation::Plain) return plain_.stiffness(x, D, thickness, formulation);
        const auto dim = x.rows();
        const Eigen::Index dofs = dim * x.cols();
        const Eigen::Index extra = dim * dim;
        Eigen::MatrixXd K = Eigen::MatrixXd::Zero(dofs + extra, dofs + extra);
        Eigen::VectorXd N;
        Eigen::MatrixXd local;
        interpolate(kind_, Vec3::Zero(), N, local);
        const Eigen::MatrixXd middle = x * local.transpose();
        for (const RulePoint& p : integration_rule(kind_)) {
            interpolate(kind_, p.at, N, local);
            const Eigen::MatrixXd J = x * local.transpose();
            const double det = J.determinant();
            Eigen::MatrixXd B(D.rows(), dofs + extra);
            B.leftCols(dofs) = strain_matrix(J.inverse().transpose() * local);
            // Modes 1 - xi_a^2, with the Jacobian of the middle so that constant stress does no work on them.
            Eigen::MatrixXd modes = Eigen::MatrixXd::Zero(dim, dim);
            for (Eigen::Index a = 0; a < dim; ++a) modes(a, a) = -2.0 * p.at[a];
            B.rightCols(extra) =
                strain_matrix((middle.determinant() / det) * middle.inverse().transpose() * modes);
            K += B.transpose() * D * B * (p.weight * det * thickness);
        }
        const Eigen::MatrixXd Kaa = K.bottomRightCorner(extra, extra);
        const Eigen::MatrixXd Kau = K.bottomLeftCorner(extra, dofs);
        const Eigen::MatrixXd condensed =
            K.topLeftCorner(dofs, dofs) - Kau.transpose() * Kaa.ldlt().solve(Kau);
        return 0.5 * (condensed + condensed.transpose());
    }

    Eigen::MatrixXd mass(const Eigen::MatrixXd& x, double thickness) const override {
        return plain_.mass(x, thickness);
    }
    Eigen::VectorXd expansion(const Eigen::MatrixXd& x, const Eigen::MatrixXd& D,
                              const Eigen::VectorXd& strain0, double thickness) const override {
        return plain_.expansion(x, D, strain0, thickness);
    }
    Eigen::MatrixXd center_stress(const Eigen::MatrixXd& x, const Eigen::MatrixXd& D,
                                  double thickness) const override {
        return plain_.center_stress(x, D, thickness);
    }

  private:
    ElementKind kind_;
    const Element& plain_;
};

} // namespace

const Element& brick_element(ElementKind kind) {
    static const Brick quad4(ElementKind::Quad4);
    static const Brick hex8(ElementKind::Hex8);
    return kind == ElementKind::Quad4 ? quad4 : hex8;
}

} // namespace upright
