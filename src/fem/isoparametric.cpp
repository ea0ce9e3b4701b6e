// Isoparametric elements of every kind in the plane and in space, integrated by the rule of the kind
// (Zienkiewicz & Taylor 2000, chapters 8 and 9).
#include "fem/element.hpp"

#include <Eigen/Dense>

namespace upright {

namespace {

class Isoparametric : public Element {
  public:
    explicit Isoparametric(ElementKind kind)
        : kind_(kind), dim_(traits(kind).dimension), nodes_(traits(kind).nodes) {
        for (const RulePoint& p : integration_rule(kind)) points_.push_back(at(p.at, p.weight));
    }

    Eigen::MatrixXd stiffness(const Eigen::MatrixXd& x, const Eigen::MatrixXd& D, double thickness,
                              Formulation /*formulation*/) const override {
        if (dim_ == 3) return solid_stiffness(x, D);
        Eigen::MatrixXd K = Eigen::MatrixXd::Zero(dim_ * nodes_, dim_ * nodes_);
        for (const Point& p : points_) {
            double det = 0.0;
            const Eigen::MatrixXd B = strain(x, p, det);
            K.noalias() += B.transpose() * (D * B) * (p.weight * det * thickness);
        }
        return 0.5 * (K + K.transpose());
    }

    Eigen::MatrixXd mass(const Eigen::MatrixXd& x, double thickness) const override {
        Eigen::MatrixXd M = Eigen::MatrixXd::Zero(dim_ * nodes_, dim_ * nodes_);
        for (const Point& p : points_) {
            const double det = (x * p.gradient.transpose()).determinant();
            const Eigen::MatrixXd part = p.values * p.values.transpose() * (p.weight * det * thickness);
            for (int i = 0; i < nodes_; ++i)
                for (int j = 0; j < nodes_; ++j)
                    for (int a = 0; a < dim_; ++a) M(dim_ * i + a, dim_ * j + a) += part(i, j);
        }
        return M;
    }

    Eigen::VectorXd expansion(const Eigen::MatrixXd& x, const Eigen::MatrixXd& D,
                              const Eigen::VectorXd& strain0, double thickness) const override {
        Eigen::VectorXd f = Eigen::VectorXd::Zero(dim_ * nodes_);
        for (const Point& p : points_) {
            double det = 0.0;
            const Eigen::MatrixXd B = strain(x, p, det);
            f += B.transpose() * (D * strain0) * (p.weight * det * thickness);
        }
        return f;
    }

    Eigen::MatrixXd stress(const Eigen::MatrixXd& x, const Eigen::MatrixXd& D, double /*thickness*/,
                           Formulation /*formulation*/, const Vec3& where) const override {
        double det = 0.0;
        return D * strain(x, at(where, 0.0), det);
    }

    Eigen::VectorXd stress_of(const Eigen::MatrixXd& x, const Eigen::MatrixXd& D, double thickness,
                              Formulation formulation, const Vec3& where,
                              const Eigen::VectorXd& u) const override {
        if (dim_ != 3) return Element::stress_of(x, D, thickness, formulation, where, u);
        const Point p = at(where, 0.0);
        const Eigen::Map<const Eigen::Matrix<double, 3, Eigen::Dynamic>> shift(u.data(), 3, nodes_);
        const Gradient place = x;
        const Gradient natural = p.gradient;
        const Eigen::Matrix3d J = place.lazyProduct(natural.transpose());
        // Rows: components of the displacement; columns: the directions of its change.
        const Eigen::Matrix3d by_natural = shift.lazyProduct(natural.transpose());
        const Eigen::Matrix3d H = by_natural * J.inverse();
        Eigen::Matrix<double, 6, 1> strain;
        strain << H(0, 0), H(1, 1), H(2, 2), H(0, 1) + H(1, 0), H(1, 2) + H(2, 1), H(2, 0) + H(0, 2);
        return D * strain;
    }

  private:
    static constexpr int most_nodes = 20;
    using Gradient = Eigen::Matrix<double, 3, Eigen::Dynamic, 0, 3, most_nodes>;

    struct Point {
        Eigen::VectorXd values;
        Eigen::MatrixXd gradient;
        double weight = 0.0;
    };

    Point at(const Vec3& natural, double weight) const {
        Point out;
        interpolate(kind_, natural, out.values, out.gradient);
        out.weight = weight;
        return out;
    }

    // The same in space, without memory from the heap: there are many elements, each of its own shape.
    Eigen::MatrixXd solid_stiffness(const Eigen::MatrixXd& x, const Eigen::MatrixXd& D) const {
        using Strains = Eigen::Matrix<double, 6, Eigen::Dynamic, 0, 6, 3 * most_nodes>;
        const Eigen::Matrix<double, 6, 6> C = D;
        const Gradient place = x;
        Eigen::MatrixXd K = Eigen::MatrixXd::Zero(3 * nodes_, 3 * nodes_);
        Strains B = Strains::Zero(6, 3 * nodes_);
        Strains CB(6, 3 * nodes_);
        for (const Point& p : points_) {
            const Gradient natural = p.gradient;
            const Eigen::Matrix3d J = place * natural.transpose();
            const Gradient g = J.inverse().transpose() * natural;
            for (Eigen::Index c = 0; c < nodes_; ++c) {
                const Eigen::Index at = 3 * c;
                B(0, at) = B(3, at + 1) = B(5, at + 2) = g(0, c);
                B(1, at + 1) = B(3, at) = B(4, at + 2) = g(1, c);
                B(2, at + 2) = B(4, at + 1) = B(5, at) = g(2, c);
            }
            CB.noalias() = (p.weight * J.determinant()) * (C * B);
            K.noalias() += B.transpose().lazyProduct(CB);
        }
        return 0.5 * (K + K.transpose());
    }

    static Eigen::MatrixXd strain(const Eigen::MatrixXd& x, const Point& p, double& det) {
        const Eigen::MatrixXd J = x * p.gradient.transpose();
        det = J.determinant();
        return strain_matrix(J.inverse().transpose() * p.gradient);
    }

    ElementKind kind_;
    int dim_, nodes_;
    std::vector<Point> points_;
};

} // namespace

Eigen::MatrixXd strain_matrix(const Eigen::MatrixXd& g) {
    const auto dim = g.rows();
    Eigen::MatrixXd B = Eigen::MatrixXd::Zero(dim == 2 ? 3 : 6, dim * g.cols());
    for (Eigen::Index c = 0; c < g.cols(); ++c) {
        const Eigen::Index at = dim * c;
        for (Eigen::Index a = 0; a < dim; ++a) B(a, at + a) = g(a, c);
        if (dim == 2) {
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

const Element& isoparametric_element(ElementKind kind) {
    static const Isoparametric tri3(ElementKind::Tri3);
    static const Isoparametric tri6(ElementKind::Tri6);
    static const Isoparametric quad4(ElementKind::Quad4);
    static const Isoparametric quad8(ElementKind::Quad8);
    static const Isoparametric tet4(ElementKind::Tet4);
    static const Isoparametric tet10(ElementKind::Tet10);
    static const Isoparametric wedge6(ElementKind::Wedge6);
    static const Isoparametric hex8(ElementKind::Hex8);
    static const Isoparametric hex20(ElementKind::Hex20);
    switch (kind) {
    case ElementKind::Tri3:
        return tri3;
    case ElementKind::Tri6:
        return tri6;
    case ElementKind::Quad4:
        return quad4;
    case ElementKind::Quad8:
        return quad8;
    case ElementKind::Tet4:
        return tet4;
    case ElementKind::Tet10:
        return tet10;
    case ElementKind::Wedge6:
        return wedge6;
    case ElementKind::Hex20:
        return hex20;
    default:
        return hex8;
    }
}

const Element& element_for(ElementKind kind) {
    if (kind == ElementKind::ShellTri3) return shell_triangle();
    if (kind == ElementKind::ShellQuad4) return shell_quad();
    if (kind == ElementKind::Quad4 || kind == ElementKind::Hex8) return brick_element(kind);
    return isoparametric_element(kind);
}

Eigen::MatrixXd lumped(const Eigen::MatrixXd& consistent, int freedoms) {
    Eigen::VectorXd diagonal = consistent.diagonal();
    const int translations = std::min(freedoms, 3);
    // Turns are scaled as the translations are: they have no total of their own.
    const Eigen::Index n = consistent.rows() / freedoms;
    double mass = 0.0;
    double sum = 0.0;
    for (Eigen::Index i = 0; i < n; ++i)
        for (int a = 0; a < translations; ++a) {
            sum += diagonal[i * freedoms + a];
            for (Eigen::Index j = 0; j < n; ++j) mass += consistent(i * freedoms + a, j * freedoms + a);
        }
    return Eigen::MatrixXd((diagonal * (mass / sum)).asDiagonal());
}

double plane_von_mises(const Eigen::VectorXd& s, double across_plane) {
    const double xx = s[0];
    const double yy = s[1];
    const double zz = s.size() == 6 ? s[2] : across_plane;
    const double shear = s.size() == 6 ? s.tail<3>().squaredNorm() : s[2] * s[2];
    const double normal = (xx - yy) * (xx - yy) + (yy - zz) * (yy - zz) + (zz - xx) * (zz - xx);
    return std::sqrt(0.5 * normal + 3.0 * shear);
}

Eigen::MatrixXd places_of(const Mesh& mesh, ElementId element) {
    const NodeRange ids = mesh.nodes_of(element);
    Eigen::MatrixXd out(mesh.dimension(), static_cast<Eigen::Index>(ids.size()));
    for (std::size_t i = 0; i < ids.size(); ++i)
        out.col(static_cast<Eigen::Index>(i)) = mesh.nodes[index(ids[i])].head(mesh.dimension());
    return out;
}

} // namespace upright
