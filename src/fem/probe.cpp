#include "fem/probe.hpp"

#include "fem/element.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

namespace upright {

namespace {

// The natural coordinates nearest to `x` that lie in the cell.
Vec3 clamped(ElementKind kind, Vec3 x) {
    const KindTraits& t = traits(kind);
    const auto simplex = [&](int dim) {
        for (int a = 0; a < dim; ++a) x[a] = std::max(0.0, x[a]);
        const double sum = x.head(dim).sum();
        if (sum > 1.0) x.head(dim) /= sum;
    };
    switch (kind) {
    case ElementKind::Tri3:
    case ElementKind::Tri6:
    case ElementKind::ShellTri3:
        simplex(2);
        break;
    case ElementKind::Tet4:
    case ElementKind::Tet10:
        simplex(3);
        break;
    case ElementKind::Wedge6:
        simplex(2);
        x.z() = std::clamp(x.z(), -1.0, 1.0);
        break;
    default:
        for (int a = 0; a < t.dimension; ++a) x[a] = std::clamp(x[a], -1.0, 1.0);
    }
    return x;
}

Probe invert(const Mesh& mesh, ElementId e, const Vec3& place) {
    const ElementKind kind = mesh.kind(e);
    const NodeRange ids = mesh.nodes_of(e);
    Eigen::MatrixXd X(3, static_cast<Eigen::Index>(ids.size()));
    for (std::size_t i = 0; i < ids.size(); ++i)
        X.col(static_cast<Eigen::Index>(i)) = mesh.nodes[index(ids[i])];
    Probe out;
    out.element = e;
    Vec3 at = natural_center(kind);
    Eigen::MatrixXd G;
    const int dim = traits(kind).dimension;
    for (int step = 0; step < 20; ++step) {
        interpolate(kind, at, out.values, G);
        const Vec3 miss = place - X * out.values;
        const Eigen::MatrixXd J = X * G.transpose();
        Vec3 move = Vec3::Zero();
        move.head(dim) = (J.transpose() * J).ldlt().solve(J.transpose() * miss);
        const Vec3 next = clamped(kind, at + move);
        const bool still = (next - at).norm() < 1e-13;
        at = next;
        if (still) break;
    }
    interpolate(kind, at, out.values, G);
    out.natural = at;
    out.place = X * out.values;
    out.off = (out.place - place).norm();
    return out;
}

} // namespace

Probe find_probe(const Mesh& mesh, const Vec3& place) {
    double widest = 0.0;
    for (std::size_t e = 0; e < mesh.elements(); ++e)
        for (const NodeId n : mesh.nodes_of(static_cast<ElementId>(e)))
            widest = std::max(widest, (mesh.nodes[index(n)] - mesh.center(e)).norm());
    const ElementLocator locator(mesh, 1.01 * widest);
    Probe best;
    best.off = 1e300;
    locator.near(place, 1.01 * widest, [&](ElementId e, double) {
        if (best.off < 1e-9 * mesh.size) return;
        const Probe one = invert(mesh, e, place);
        if (one.off < best.off) best = one;
    });
    if (best.off > 1e299) best = invert(mesh, locator.nearest(place), place);
    return best;
}

} // namespace upright
