#include "mesh/quality.hpp"

#include "base/angles.hpp"
#include "base/reduction.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <numeric>

namespace upright {

namespace {

constexpr double degrees = 180.0 / pi;

// The edges that leave each corner of a cell, by the right hand, and the scaled Jacobian of the ideal cell.
struct CornerEdges {
    std::vector<std::array<int, 4>> corners; // corner, then its neighbours (the last -1 in the plane)
    double ideal = 1.0;
};

const CornerEdges& corner_edges(ElementKind kind) {
    static const CornerEdges tri{{{0, 1, 2, -1}, {1, 2, 0, -1}, {2, 0, 1, -1}}, std::sqrt(3.0) / 2};
    static const CornerEdges quad{{{0, 1, 3, -1}, {1, 2, 0, -1}, {2, 3, 1, -1}, {3, 0, 2, -1}}, 1.0};
    static const CornerEdges tet{{{0, 1, 2, 3}, {1, 2, 0, 3}, {2, 0, 1, 3}, {3, 0, 2, 1}}, std::sqrt(0.5)};
    static const CornerEdges wedge{
        {{0, 1, 2, 3}, {1, 2, 0, 4}, {2, 0, 1, 5}, {3, 5, 4, 0}, {4, 3, 5, 1}, {5, 4, 3, 2}},
        std::sqrt(3.0) / 2};
    static const CornerEdges hex{{{0, 1, 3, 4},
                                  {1, 2, 0, 5},
                                  {2, 3, 1, 6},
                                  {3, 0, 2, 7},
                                  {4, 7, 5, 0},
                                  {5, 4, 6, 1},
                                  {6, 5, 7, 2},
                                  {7, 6, 4, 3}},
                                 1.0};
    switch (kind) {
    case ElementKind::Tri3:
    case ElementKind::Tri6:
    case ElementKind::ShellTri3:
        return tri;
    case ElementKind::Quad4:
    case ElementKind::Quad8:
    case ElementKind::ShellQuad4:
        return quad;
    case ElementKind::Tet4:
    case ElementKind::Tet10:
        return tet;
    case ElementKind::Wedge6:
        return wedge;
    default:
        return hex;
    }
}

double scaled_jacobian(const Mesh& mesh, ElementId e) {
    const NodeRange ids = mesh.nodes_of(e);
    const CornerEdges& edges = corner_edges(mesh.kind(e));
    const auto at = [&](int i) -> const Vec3& { return mesh.nodes[index(ids[static_cast<std::size_t>(i)])]; };
    const Vec3 normal = traits(mesh.kind(e)).dimension == 2 ? mesh.element_normal(e) : Vec3(Vec3::Zero());
    double least = 1e300;
    for (const auto& c : edges.corners) {
        const Vec3 a = (at(c[1]) - at(c[0])).normalized();
        const Vec3 b = (at(c[2]) - at(c[0])).normalized();
        const double value =
            c[3] < 0 ? a.cross(b).dot(normal) : a.cross(b).dot(Vec3(at(c[3]) - at(c[0])).normalized());
        least = std::min(least, value / edges.ideal);
    }
    return least;
}

} // namespace

std::array<double, 6> dihedral_angles(const std::array<Vec3, 4>& p) {
    std::array<double, 6> out{};
    for (std::size_t k = 0; k < 6; ++k) {
        const auto& e = dihedral_edges[k];
        const Vec3 along = (p[e[1]] - p[e[0]]).normalized();
        Vec3 u = p[e[2]] - p[e[0]];
        Vec3 v = p[e[3]] - p[e[0]];
        u -= along * u.dot(along);
        v -= along * v.dot(along);
        out[k] = std::atan2(u.cross(v).norm(), u.dot(v)) * degrees;
    }
    return out;
}

std::vector<double> scaled_jacobians(const Mesh& mesh) {
    std::vector<double> out(mesh.elements());
    for (std::size_t e = 0; e < out.size(); ++e) out[e] = scaled_jacobian(mesh, static_cast<ElementId>(e));
    return out;
}

MeshQuality mesh_quality(const Mesh& mesh) {
    MeshQuality out;
    const std::vector<double> values = scaled_jacobians(mesh);
    std::vector<std::size_t> order(values.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    const std::size_t count = std::min<std::size_t>(10, order.size());
    std::partial_sort(order.begin(), order.begin() + static_cast<std::ptrdiff_t>(count), order.end(),
                      [&](std::size_t a, std::size_t b) { return values[a] < values[b]; });
    for (std::size_t i = 0; i < count; ++i)
        out.worst.push_back({static_cast<ElementId>(order[i]), values[order[i]]});
    if (values.empty()) return out;
    out.scaled_jacobian = out.worst.front().scaled_jacobian;
    out.mean_scaled_jacobian = sum_of(values) / static_cast<double>(values.size());
    for (std::size_t e = 0; e < mesh.elements(); ++e) {
        const auto id = static_cast<ElementId>(e);
        const NodeRange ids = mesh.nodes_of(id);
        double shortest = 1e300;
        double longest = 0.0;
        for (const auto& c : corner_edges(mesh.kinds[e]).corners)
            for (std::size_t k = 1; k < 4; ++k) {
                if (c[k] < 0) continue;
                const double l = (mesh.nodes[index(ids[static_cast<std::size_t>(c[k])])] -
                                  mesh.nodes[index(ids[static_cast<std::size_t>(c[0])])])
                                     .norm();
                shortest = std::min(shortest, l);
                longest = std::max(longest, l);
            }
        out.aspect = std::max(out.aspect, longest / shortest);
        if (mesh.kinds[e] != ElementKind::Tet4 && mesh.kinds[e] != ElementKind::Tet10) continue;
        std::array<Vec3, 4> p;
        for (std::size_t i = 0; i < 4; ++i) p[i] = mesh.nodes[index(ids[i])];
        for (const double angle : dihedral_angles(p)) {
            out.smallest_dihedral = std::min(out.smallest_dihedral.value_or(180.0), angle);
            out.largest_dihedral = std::max(out.largest_dihedral.value_or(0.0), angle);
        }
    }
    return out;
}

double least_sine(const std::array<Vec3, 4>& p) {
    const Vec3 a = p[1] - p[0];
    const Vec3 b = p[2] - p[0];
    const Vec3 c = p[3] - p[0];
    const Vec3 bc = p[3] - p[2];
    const Vec3 bd = p[1] - p[2];
    const double six = a.cross(b).dot(c);
    // Twice the areas of the faces opposite to each node.
    const double s0 = bd.cross(bc).norm();
    const double s1 = b.cross(c).norm();
    const double s2 = a.cross(c).norm();
    const double s3 = a.cross(b).norm();
    // sin = 3/2 V |edge| / (A A') with V = six / 6 and A = s / 2.
    const double e01 = a.norm() / (s2 * s3);
    const double e02 = b.norm() / (s1 * s3);
    const double e03 = c.norm() / (s1 * s2);
    const double e12 = bd.norm() / (s0 * s3);
    const double e23 = bc.norm() / (s0 * s1);
    const double e13 = (p[3] - p[1]).norm() / (s0 * s2);
    // A face without area has no angle.
    const double out = six * std::min({e01, e02, e03, e12, e23, e13});
    return std::isfinite(out) ? out : -1.0;
}

double least_jacobian(const Mesh& mesh, std::size_t e) {
    const NodeRange ids = mesh.nodes_of(static_cast<ElementId>(e));
    Eigen::Matrix<double, 3, 10> x;
    for (std::size_t i = 0; i < 10; ++i) x.col(static_cast<Eigen::Index>(i)) = mesh.nodes[index(ids[i])];
    static const auto tables = [] {
        // Cubic lattice points, and the inverse of the Bernstein basis there.
        struct Tables {
            std::vector<Eigen::MatrixXd> gradients;
            Eigen::MatrixXd inverse;
        } out;
        std::vector<std::array<int, 4>> powers;
        for (int i = 0; i <= 3; ++i)
            for (int j = 0; i + j <= 3; ++j)
                for (int k = 0; i + j + k <= 3; ++k) powers.push_back({3 - i - j - k, i, j, k});
        Eigen::MatrixXd basis(20, 20);
        const auto factorial = [](int n) { return n < 2 ? 1.0 : n == 2 ? 2.0 : 6.0; };
        for (std::size_t r = 0; r < powers.size(); ++r) {
            const Vec3 at(powers[r][1] / 3.0, powers[r][2] / 3.0, powers[r][3] / 3.0);
            const std::array<double, 4> L{1 - at.sum(), at.x(), at.y(), at.z()};
            Eigen::VectorXd N;
            Eigen::MatrixXd G;
            interpolate(ElementKind::Tet10, at, N, G);
            out.gradients.push_back(G);
            for (std::size_t c = 0; c < powers.size(); ++c) {
                double v = 6.0;
                for (std::size_t a = 0; a < 4; ++a)
                    v *= std::pow(L[a], powers[c][a]) / factorial(powers[c][a]);
                basis(static_cast<Eigen::Index>(r), static_cast<Eigen::Index>(c)) = v;
            }
        }
        out.inverse = basis.inverse();
        return out;
    }();
    Eigen::VectorXd values(20);
    for (Eigen::Index i = 0; i < 20; ++i) {
        const Mat3 J = x * tables.gradients[static_cast<std::size_t>(i)].transpose();
        values[i] = J.determinant();
    }
    const Vec3 a = x.col(1) - x.col(0);
    const double straight = a.cross(Vec3(x.col(2) - x.col(0))).dot(Vec3(x.col(3) - x.col(0)));
    return (tables.inverse * values).minCoeff() / straight;
}

} // namespace upright
