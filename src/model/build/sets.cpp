// Surfaces and points, and what names refer to.
#include "model/build/parts.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <fmt/format.h>
#include <map>

namespace upright {

ModelSurface make_surface(const Mesh& mesh, const std::string& name, std::vector<MeshFace> faces) {
    ModelSurface out;
    out.name = name;
    out.faces = std::move(faces);
    for (const MeshFace& f : out.faces) {
        for (const SidePoint& p : mesh.face_points(f)) {
            out.area += p.area.norm();
            out.centroid += p.area.norm() * p.place;
            out.normal += p.area;
        }
        for (const NodeId node : mesh.face_nodes(f)) out.nodes.push_back(node);
    }
    out.centroid /= out.area;
    out.normal /= out.area;
    std::sort(out.nodes.begin(), out.nodes.end());
    out.nodes.erase(std::unique(out.nodes.begin(), out.nodes.end()), out.nodes.end());
    return out;
}

ModelPoint make_point(const Model& model, const PointCard& card) {
    ModelPoint out;
    out.name = card.name;
    if (const Vec3* at = std::get_if<Vec3>(&card.at)) {
        out.at = *at;
    } else {
        double area = 0.0;
        for (const ModelSurface& surface : model.surfaces) {
            if (!refers_to(std::get<std::string>(card.at), surface.name)) continue;
            out.at += surface.area * surface.centroid;
            area += surface.area;
        }
        out.at /= area;
    }
    out.off = 1e300;
    for (std::size_t n = 0; n < model.mesh.nodes.size(); ++n) {
        const double d = (model.mesh.nodes[n] - out.at).norm();
        if (d < out.off) {
            out.off = d;
            out.node = static_cast<NodeId>(n);
        }
    }
    return out;
}

Target find_target(const Model& model, const std::vector<std::string>& names) {
    Target out;
    for (const ModelSurface& s : model.surfaces)
        if (refers_to(names, s.name)) out.surfaces.push_back(&s);
    for (const ModelPoint& p : model.points)
        if (refers_to(names, p.name)) out.points.push_back(&p);
    for (const CouplingId c : model.couplings.ids())
        if (refers_to(names, model.couplings[c].name)) out.couplings.push_back(c);
    return out;
}

void require_near(const Model& model, const ModelPoint& p, const Place& place) {
    if (p.off > model.node_reach())
        throw Error::input(
            place,
            fmt::format("the point \"{}\" lies {:g} {} off the body, which is more than one cell", p.name,
                        p.off, model.units.length),
            "Move it onto the body, or let a [[coupling]] carry it; loads, supports and readings are at "
            "nodes");
}

void require_near(const Model& model, const Target& target, const Place& place) {
    for (const ModelPoint* p : target.points) require_near(model, *p, place);
}

Average average_of(const Mesh& mesh, const std::vector<std::pair<NodeId, double>>& shares) {
    Average out;
    for (const auto& [n, w] : shares) {
        out.weight += w;
        out.center += w * mesh.nodes[index(n)];
    }
    out.center /= out.weight;
    Mat3 second = Mat3::Zero();
    for (const auto& [n, w] : shares) {
        const Vec3 r = mesh.nodes[index(n)] - out.center;
        second += w * (r.squaredNorm() * Mat3::Identity() - r * r.transpose());
    }
    // Nodes on a line resist no rotation about it: that direction is left out.
    const Eigen::SelfAdjointEigenSolver<Mat3> eigen(second);
    for (int i = 0; i < 3; ++i)
        if (eigen.eigenvalues()[i] > 1e-9 * eigen.eigenvalues()[2])
            out.inverse += eigen.eigenvectors().col(i) * eigen.eigenvectors().col(i).transpose() /
                           eigen.eigenvalues()[i];
    return out;
}

std::vector<std::pair<NodeId, double>> positive_shares(const Mesh& mesh,
                                                       const std::vector<const ModelSurface*>& surfaces) {
    std::map<NodeId, double> sums;
    for (const ModelSurface* s : surfaces)
        for (const MeshFace& face : s->faces) {
            const std::vector<NodeId> nodes = mesh.face_nodes(face);
            const double part = mesh.face_area(face) / static_cast<double>(nodes.size());
            for (const NodeId n : nodes) sums[n] += part;
        }
    return {sums.begin(), sums.end()};
}

const Frame* frame_named(const std::vector<Frame>& frames, const std::string& name) {
    const auto at =
        std::find_if(frames.begin(), frames.end(), [&](const Frame& f) { return f.name == name; });
    return at == frames.end() ? nullptr : &*at;
}

} // namespace upright
