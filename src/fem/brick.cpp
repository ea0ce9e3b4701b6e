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
        const Eigen::Index dofs = x.size();
        const Eigen::MatrixXd K = with_modes(x, D, thickness);
        const Eigen::Index extra = K.rows() - dofs;
        const Eigen::MatrixXd Kau = K.bottomLeftCorner(extra, dofs);
        const Eigen::MatrixXd condensed =
            K.topLeftCorner(dofs, dofs) -
            Kau.transpose() * K.bottomRightCorner(extra, extra).ldlt().solve(Kau);
        return 0.5 * (condensed + condensed.transpose());
    }

    Eigen::MatrixXd mass(const Eigen::MatrixXd& x, double thickness) const override {
        return plain_.mass(x, thickness);
    }
    Eigen::VectorXd expansion(const Eigen::MatrixXd& x, const Eigen::MatrixXd& D,
                              const Eigen::VectorXd& strain0, double thickness) const override {
        return plain_.expansion(x, D, strain0, thickness);
    }
    // The modes follow the freedoms: free of force, they take a = -Kaa^-1 Kau u.
    Eigen::MatrixXd stress(const Eigen::MatrixXd& x, const Eigen::MatrixXd& D, double thickness,
                           Formulation formulation, const Vec3& at) const override {
        if (formulation == Formulation::Plain) return plain_.stress(x, D, thickness, formulation, at);
        const Eigen::Index dofs = x.size();
        const Eigen::MatrixXd K = with_modes(x, D, thickness);
        const Eigen::Index extra = K.rows() - dofs;
        double det = 0.0;
        const Eigen::MatrixXd B = strains(x, middle(x), at, det);
        const Eigen::MatrixXd modes =
            K.bottomRightCorner(extra, extra).ldlt().solve(K.bottomLeftCorner(extra, dofs));
        return D * (B.leftCols(dofs) - B.rightCols(extra) * modes);
    }

  private:
    Eigen::MatrixXd middle(const Eigen::MatrixXd& x) const {
        Eigen::VectorXd N;
        Eigen::MatrixXd local;
        interpolate(kind_, Vec3::Zero(), N, local);
        return x * local.transpose();
    }

    // Strains of the freedoms and then of the modes 1 - xi_a^2, which have the Jacobian of the middle so that
    // constant stress does no work on them.
    Eigen::MatrixXd strains(const Eigen::MatrixXd& x, const Eigen::MatrixXd& middle, const Vec3& at,
                            double& det) const {
        const auto dim = x.rows();
        Eigen::VectorXd N;
        Eigen::MatrixXd local;
        interpolate(kind_, at, N, local);
        const Eigen::MatrixXd J = x * local.transpose();
        det = J.determinant();
        Eigen::MatrixXd B(dim == 2 ? 3 : 6, x.size() + dim * dim);
        B.leftCols(x.size()) = strain_matrix(J.inverse().transpose() * local);
        Eigen::MatrixXd modes = Eigen::MatrixXd::Zero(dim, dim);
        for (Eigen::Index a = 0; a < dim; ++a) modes(a, a) = -2.0 * at[a];
        B.rightCols(dim * dim) =
            strain_matrix((middle.determinant() / det) * middle.inverse().transpose() * modes);
        return B;
    }

    // Stiffness on the freedoms and the modes.
    Eigen::MatrixXd with_modes(const Eigen::MatrixXd& x, const Eigen::MatrixXd& D, double thickness) const {
        const Eigen::Index all = x.size() + x.rows() * x.rows();
        Eigen::MatrixXd K = Eigen::MatrixXd::Zero(all, all);
        const Eigen::MatrixXd center = middle(x);
        for (const RulePoint& p : integration_rule(kind_)) {
            double det = 0.0;
            const Eigen::MatrixXd B = strains(x, center, p.at, det);
            K += B.transpose() * D * B * (p.weight * det * thickness);
        }
        return K;
    }

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
