#include "fem/elasticity.hpp"

#include "fem/element.hpp"

#include <Eigen/Dense>

namespace upright {

namespace {

constexpr std::array<std::array<int, 2>, 6> pairs{{{0, 0}, {1, 1}, {2, 2}, {0, 1}, {1, 2}, {2, 0}}};

// strain in the axes = T * strain in the frame that the axes are written in.
Elastic6 strain_turn(const Mat3& axes) {
    Elastic6 out;
    for (int k = 0; k < 6; ++k) {
        const auto [a, b] = pairs[static_cast<std::size_t>(k)];
        Mat3 strain = Mat3::Zero();
        strain(a, b) = strain(b, a) = a == b ? 1.0 : 0.5;
        const Mat3 turned = axes.transpose() * strain * axes;
        for (int r = 0; r < 6; ++r) {
            const auto [c, d] = pairs[static_cast<std::size_t>(r)];
            out(r, k) = turned(c, d) * (c == d ? 1.0 : 2.0);
        }
    }
    return out;
}

constexpr std::array<int, 3> in_plane{0, 1, 3};

Eigen::Matrix3d sub(const Elastic6& D) {
    Eigen::Matrix3d out;
    for (int r = 0; r < 3; ++r)
        for (int c = 0; c < 3; ++c)
            out(r, c) = D(in_plane[static_cast<std::size_t>(r)], in_plane[static_cast<std::size_t>(c)]);
    return out;
}

// The axes of the material at an element, written in the element's.
Mat3 material_axes(const Model& model, const Material& material, ElementId e) {
    if (!material.orthotropic) return Mat3::Identity();
    const Mat3 axes = material.orthotropic->frame.at(model.mesh.center(e));
    return model.mesh.shell() ? Mat3(shell_axes(places_of(model.mesh, e)).transpose() * axes) : axes;
}

Eigen::MatrixXd of_family(ElementFamily family, const Elastic6& D) {
    if (family == ElementFamily::Solid) return D;
    if (family == ElementFamily::PlaneStrain) return sub(D);
    const Elastic6 S = D.inverse();
    const Eigen::Matrix3d flat = sub(S).inverse();
    if (family == ElementFamily::PlaneStress) return flat;
    Eigen::MatrixXd out = Eigen::MatrixXd::Zero(5, 5);
    out.topLeftCorner(3, 3) = flat;
    Eigen::Matrix2d shear;
    shear << S(5, 5), S(5, 4), S(4, 5), S(4, 4);
    out.bottomRightCorner(2, 2) = shear.inverse();
    return out;
}

// Free strain for each kelvin in space, in the element's axes.
Voigt free_strain_in_space(const Model& model, ElementId e) {
    const Material& m = model.material(e);
    Vec3 along = Vec3::Constant(m.expansion.value_or(0.0));
    if (m.orthotropic && m.orthotropic->expansion) along = *m.orthotropic->expansion;
    const Mat3 axes = material_axes(model, m, e);
    const Mat3 strain = axes * along.asDiagonal() * axes.transpose();
    Voigt out = stress_voigt(strain);
    out.tail(3) *= 2.0;
    return out;
}

} // namespace

Eigen::MatrixXd elastic_matrix(ElementFamily family, double nu) {
    const double mu = 0.5 / (1 + nu);
    if (family == ElementFamily::PlaneStress || family == ElementFamily::Shell) {
        const int rows = family == ElementFamily::Shell ? 5 : 3;
        Eigen::MatrixXd D = Eigen::MatrixXd::Zero(rows, rows);
        D.topLeftCorner(2, 2) << 1, nu, nu, 1;
        D.topLeftCorner(2, 2) /= 1 - nu * nu;
        for (int i = 2; i < rows; ++i) D(i, i) = mu;
        return D;
    }
    const double lambda = nu / ((1 + nu) * (1 - 2 * nu));
    const int normal = family == ElementFamily::Solid ? 3 : 2;
    const int shear = family == ElementFamily::Solid ? 3 : 1;
    Eigen::MatrixXd D = Eigen::MatrixXd::Zero(normal + shear, normal + shear);
    D.topLeftCorner(normal, normal).setConstant(lambda);
    for (int i = 0; i < normal; ++i) D(i, i) += 2 * mu;
    for (int i = normal; i < normal + shear; ++i) D(i, i) = mu;
    return D;
}

Elastic6 elastic_in_space(const Material& material, const Mat3& axes) {
    if (!material.orthotropic) return material.E * elastic_matrix(ElementFamily::Solid, material.nu);
    const Orthotropic& o = *material.orthotropic;
    Elastic6 S = Elastic6::Zero();
    for (int a = 0; a < 3; ++a) {
        const int b = (a + 1) % 3;
        S(a, a) = 1.0 / o.E[a];
        S(a, b) = S(b, a) = -o.nu[a] / o.E[a];
        S(3 + a, 3 + a) = 1.0 / o.G[a];
    }
    const Elastic6 T = strain_turn(axes);
    return T.transpose() * S.inverse() * T;
}

Eigen::MatrixXd elasticity(const Model& model, ElementId e) {
    const Material& m = model.material(e);
    if (!m.orthotropic) return m.E * elastic_matrix(model.family, m.nu);
    return of_family(model.family, elastic_in_space(m, material_axes(model, m, e)));
}

Eigen::VectorXd free_strain(const Model& model, ElementId e) {
    const Voigt all = free_strain_in_space(model, e);
    if (model.family == ElementFamily::Solid) return all;
    Eigen::Vector3d out(all[0], all[1], all[3]);
    if (model.family == ElementFamily::PlaneStrain) {
        // The expansion across the plane is held, and squeezes out into it.
        const Material& m = model.material(e);
        const Elastic6 D = elastic_in_space(m, material_axes(model, m, e));
        out += sub(D).inverse() * Eigen::Vector3d(D(0, 2), D(1, 2), D(3, 2)) * all[2];
    }
    return out;
}

double stress_across_plane(const Model& model, ElementId e, const Eigen::VectorXd& in_plane_stress,
                           double rise) {
    const Material& m = model.material(e);
    if (!m.orthotropic)
        return m.nu * (in_plane_stress[0] + in_plane_stress[1]) - m.E * m.expansion.value_or(0.0) * rise;
    const Elastic6 D = elastic_in_space(m, material_axes(model, m, e));
    const Eigen::Vector3d strain =
        sub(D).inverse() * in_plane_stress.head(3) + rise * free_strain(model, e).head(3);
    const Voigt free = rise * free_strain_in_space(model, e);
    return D(2, 0) * strain[0] + D(2, 1) * strain[1] + D(2, 3) * strain[2] - D.row(2).dot(free);
}

Elastic6 compliance_in_space(const Model& model, ElementId e) {
    const Material& m = model.material(e);
    const Mat3 axes = m.orthotropic ? m.orthotropic->frame.at(model.mesh.center(e)) : Mat3::Identity();
    return elastic_in_space(m, axes).inverse();
}

bool same_everywhere(const Material& material) {
    return !material.orthotropic || !material.orthotropic->frame.cylindrical;
}

Mat3 stress_tensor(const Voigt& s) {
    Mat3 out;
    out << s[0], s[3], s[5], s[3], s[1], s[4], s[5], s[4], s[2];
    return out;
}

Voigt stress_voigt(const Mat3& s) {
    Voigt out;
    out << s(0, 0), s(1, 1), s(2, 2), s(0, 1), s(1, 2), s(2, 0);
    return out;
}

} // namespace upright
