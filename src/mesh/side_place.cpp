#include "mesh/side_place.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

namespace upright {

namespace {

// Natural coordinates brought back into the side.
Vec3 clamped(bool triangle, bool edge, Vec3 x) {
    if (!triangle) {
        for (int a = 0; a < (edge ? 1 : 2); ++a) x[a] = std::clamp(x[a], -1.0, 1.0);
        return x;
    }
    x.x() = std::max(0.0, x.x());
    x.y() = std::max(0.0, x.y());
    const double sum = x.x() + x.y();
    if (sum > 1.0) x.head(2) /= sum;
    return x;
}

// Gauss-Newton steps to the place nearest to `target`, from `at` on.
Vec3 find_natural(const Eigen::MatrixXd& x, bool triangle, bool edge, const Vec3& target, Vec3 at) {
    Eigen::VectorXd N;
    Eigen::MatrixXd G;
    const int dimension = edge ? 1 : 2;
    for (int step = 0; step < 60; ++step) {
        interpolate_side(static_cast<std::size_t>(x.cols()), edge, at, N, G);
        const Eigen::MatrixXd J = x * G.transpose();
        Vec3 move = Vec3::Zero();
        move.head(dimension) = (J.transpose() * J).ldlt().solve(J.transpose() * (target - x * N));
        const Vec3 next = clamped(triangle, edge, at + move);
        const bool still = (next - at).norm() < 1e-14;
        at = next;
        if (still) break;
    }
    return at;
}

} // namespace

SideFinder::SideFinder(const Mesh& mesh, std::vector<MeshFace> sides)
    : mesh_(mesh), sides_(std::move(sides)) {
    std::vector<Vec3> points;
    std::vector<std::array<std::int32_t, 3>> triangles;
    for (std::size_t s = 0; s < sides_.size(); ++s) {
        const auto base = static_cast<std::int32_t>(points.size());
        const std::vector<NodeId> nodes = mesh.face_nodes(sides_[s]);
        for (const NodeId n : nodes) points.push_back(mesh.nodes[index(n)]);
        const auto add = [&](int a, int b, int c) {
            triangles.push_back({base + a, base + b, base + c});
            side_of_.push_back(s);
        };
        if (mesh.is_edge(sides_[s])) {
            if (nodes.size() == 2) {
                add(0, 1, 1);
            } else {
                add(0, 2, 2);
                add(2, 1, 1);
            }
        } else if (nodes.size() == 3) {
            add(0, 1, 2);
        } else if (nodes.size() == 6) {
            add(0, 3, 5);
            add(3, 1, 4);
            add(5, 4, 2);
            add(3, 4, 5);
        } else {
            // Around the middle, which is no node.
            Eigen::VectorXd N;
            Eigen::MatrixXd G;
            interpolate_side(nodes.size(), false, Vec3::Zero(), N, G);
            Vec3 middle = Vec3::Zero();
            for (std::size_t i = 0; i < nodes.size(); ++i)
                middle += N[static_cast<Eigen::Index>(i)] * mesh.nodes[index(nodes[i])];
            points.push_back(middle);
            const auto center = static_cast<int>(nodes.size());
            for (int i = 0; i < 4; ++i) {
                if (nodes.size() == 4) {
                    add(i, (i + 1) % 4, center);
                } else {
                    add(i, 4 + i, center);
                    add(4 + i, (i + 1) % 4, center);
                }
            }
        }
    }
    tree_ = FacetTree(points, triangles);
}

SidePlace SideFinder::nearest(const Vec3& point) const {
    const FacetTree::Nearest near = tree_.nearest(point);
    SidePlace out;
    out.face = sides_[side_of_[static_cast<std::size_t>(near.triangle)]];
    out.nodes = mesh_.face_nodes(out.face);
    const bool edge = mesh_.is_edge(out.face);
    const bool triangle = !edge && (out.nodes.size() == 3 || out.nodes.size() == 6);
    Eigen::MatrixXd x(3, static_cast<Eigen::Index>(out.nodes.size()));
    for (std::size_t i = 0; i < out.nodes.size(); ++i)
        x.col(static_cast<Eigen::Index>(i)) = mesh_.nodes[index(out.nodes[i])];
    const Vec3 middle = triangle ? Vec3(1. / 3, 1. / 3, 0) : Vec3(Vec3::Zero());
    Eigen::MatrixXd G;
    // The place on the triangle lies on the side, or close to it where that is curved; so it is found well
    // within the side even for points beyond its border.
    const Vec3 at = find_natural(x, triangle, edge, near.place, middle);
    interpolate_side(out.nodes.size(), edge, at, out.values, G);
    out.place = x * out.values;
    if ((out.place - near.place).norm() > 1e-12 * std::max(x.norm(), 1e-300)) {
        const Vec3 closer = find_natural(x, triangle, edge, point, at);
        Eigen::VectorXd N;
        Eigen::MatrixXd H;
        interpolate_side(out.nodes.size(), edge, closer, N, H);
        if ((x * N - point).norm() <= (out.place - point).norm()) {
            out.values = N;
            G = H;
            out.place = x * N;
        }
    }
    out.distance = (out.place - point).norm();
    out.tangents = edge ? 1 : 2;
    const Eigen::MatrixXd J = x * G.transpose(); // 3 x tangents
    out.along[0] = Vec3(J.col(0)).normalized();
    if (edge) {
        out.normal = out.along[0].cross(mesh_.element_normal(out.face.element)).normalized();
    } else {
        out.normal = Vec3(J.col(0)).cross(Vec3(J.col(1))).normalized();
        out.along[1] = out.normal.cross(out.along[0]);
    }
    // Derivatives by length along the two: G = J' d/dx, and d/dx lies in the side.
    Eigen::MatrixXd T(3, out.tangents);
    for (int k = 0; k < out.tangents; ++k) T.col(k) = out.along[static_cast<std::size_t>(k)];
    out.slopes = (J.transpose() * T).partialPivLu().solve(G);
    return out;
}

} // namespace upright
