#include "mesh/mesh.hpp"

#include "base/groups.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <fmt/format.h>
#include <map>
#include <unordered_map>

namespace upright {

namespace {

// The edges of a cell by its corners, in the order of the middle nodes of its second-order kind.
const std::vector<std::array<int, 2>>& edges_of(ElementKind kind) {
    static const std::vector<std::array<int, 2>> tri{{0, 1}, {1, 2}, {2, 0}};
    static const std::vector<std::array<int, 2>> quad{{0, 1}, {1, 2}, {2, 3}, {3, 0}};
    static const std::vector<std::array<int, 2>> tet{{0, 1}, {1, 2}, {2, 0}, {0, 3}, {1, 3}, {2, 3}};
    static const std::vector<std::array<int, 2>> hex{{0, 1}, {1, 2}, {2, 3}, {3, 0}, {4, 5}, {5, 6},
                                                     {6, 7}, {7, 4}, {0, 4}, {1, 5}, {2, 6}, {3, 7}};
    static const std::vector<std::array<int, 2>> none;
    switch (kind) {
    case ElementKind::Tri3:
        return tri;
    case ElementKind::Quad4:
        return quad;
    case ElementKind::Tet4:
        return tet;
    case ElementKind::Hex8:
        return hex;
    default:
        return none;
    }
}

ElementKind raised(ElementKind kind) {
    switch (kind) {
    case ElementKind::Tri3:
        return ElementKind::Tri6;
    case ElementKind::Quad4:
        return ElementKind::Quad8;
    case ElementKind::Tet4:
        return ElementKind::Tet10;
    case ElementKind::Hex8:
        return ElementKind::Hex20;
    default:
        return kind;
    }
}

// A side's corner nodes, sorted: the same from both elements that share it.
std::array<std::int32_t, 4> side_key(const Mesh& mesh, const MeshFace& face) {
    std::array<std::int32_t, 4> key{-1, -1, -1, -1};
    std::size_t i = 0;
    for (const NodeId n : mesh.face_corners(face)) key[i++] = static_cast<std::int32_t>(n);
    std::sort(key.begin(), key.end());
    return key;
}

struct KeyHash {
    std::size_t operator()(const std::array<std::int32_t, 4>& k) const {
        std::size_t h = 1469598103934665603ULL;
        for (const std::int32_t v : k)
            h = (h ^ static_cast<std::size_t>(static_cast<std::uint32_t>(v))) * 1099511628211ULL;
        return h ^ (h >> 29);
    }
};

} // namespace

void Mesh::reserve(std::size_t elements, std::size_t each) {
    kinds.reserve(elements);
    connectivity.reserve(elements * each);
    region.reserve(elements);
}

void Mesh::add(ElementKind kind, const std::vector<NodeId>& nodes_of_it, RegionId region_of_it) {
    if (kinds.empty()) nodes_each = nodes_of_it.size();
    if (starts.empty() && nodes_of_it.size() != nodes_each)
        for (std::size_t e = 0; e <= elements(); ++e) starts.push_back(e * nodes_each);
    kinds.push_back(kind);
    connectivity.insert(connectivity.end(), nodes_of_it.begin(), nodes_of_it.end());
    if (!starts.empty()) starts.push_back(connectivity.size());
    region.push_back(region_of_it);
}

void Mesh::pack_starts() {
    if (starts.size() < 2) return;
    const std::size_t each = starts[1];
    for (std::size_t e = 0; e < starts.size(); ++e)
        if (starts[e] != e * each) return;
    nodes_each = each;
    starts = {};
}

void Mesh::finish() {
    own_volumes.clear();
    own_centers.clear();
    node_volumes.clear();
    bounds = Bounds();
    for (const Vec3& p : nodes) bounds.include(p);
    Eigen::VectorXd N;
    Eigen::MatrixXd G;
    // All cells are the same box, but for the thickness of regions in the plane.
    if (on_grid() && kinds.front() != ElementKind::Quad8 && kinds.front() != ElementKind::Hex20) return;
    own_volumes.assign(elements(), 0.0);
    own_centers.assign(elements(), Vec3::Zero());
    node_volumes.assign(connectivity.size(), 0.0);
    // Interpolation at the points of each kind's rule, computed once.
    std::array<std::vector<std::pair<Eigen::VectorXd, Eigen::MatrixXd>>, element_kinds> known;
    for (std::size_t e = 0; e < elements(); ++e) {
        const auto id = static_cast<ElementId>(e);
        const KindTraits& t = traits(kinds[e]);
        auto& points = known[static_cast<std::size_t>(kinds[e])];
        const auto& rule = integration_rule(kinds[e]);
        if (points.empty())
            for (const RulePoint& p : rule) {
                interpolate(kinds[e], p.at, N, G);
                points.emplace_back(N, G);
            }
        const NodeRange ids = nodes_of(id);
        Eigen::Matrix<double, 3, Eigen::Dynamic, 0, 3, 20> x(3, t.nodes);
        for (int i = 0; i < t.nodes; ++i) x.col(i) = nodes[index(ids[static_cast<std::size_t>(i)])];
        Vec3 center = Vec3::Zero();
        for (std::size_t p = 0; p < rule.size(); ++p) {
            const Eigen::Matrix<double, 3, Eigen::Dynamic, 0, 3, 3> J = x * points[p].second.transpose();
            double det = 0.0;
            if (t.dimension == 3)
                det = J.col(0).cross(J.col(1)).dot(J.col(2));
            else if (t.shell)
                det = J.col(0).cross(J.col(1)).norm();
            else
                det = J(0, 0) * J(1, 1) - J(1, 0) * J(0, 1);
            if (!(det > 0.0))
                throw Error::numerics(
                    fmt::format("an element ({}) around ({:g}, {:g}, {:g}) is inside out or flat", t.name,
                                x.row(0).mean(), x.row(1).mean(), x.row(2).mean()),
                    "Mesh finer there, or look at the geometry");
            const double w = rule[p].weight * det * depth(id);
            own_volumes[e] += w;
            center += w * (x * points[p].first);
            for (int i = 0; i < t.nodes; ++i)
                node_volumes[start(e) + static_cast<std::size_t>(i)] += w * points[p].first[i];
        }
        own_centers[e] = center / own_volumes[e];
    }
}

std::vector<double> Mesh::element_volumes() const {
    std::vector<double> out(elements());
    for (std::size_t e = 0; e < out.size(); ++e) out[e] = volume(e);
    return out;
}

std::vector<Vec3> Mesh::element_centers() const {
    std::vector<Vec3> out(elements());
    for (std::size_t e = 0; e < out.size(); ++e) out[e] = center(e);
    return out;
}

bool Mesh::is_edge(const MeshFace& face) const {
    const KindTraits& t = traits(kind(face.element));
    return t.dimension == 2 && !(t.shell && face.side < 2);
}

std::vector<NodeId> Mesh::face_nodes(const MeshFace& face) const {
    std::vector<NodeId> out;
    const NodeRange ids = nodes_of(face.element);
    for (const int local : traits(kind(face.element)).sides[static_cast<std::size_t>(face.side)])
        out.push_back(ids[static_cast<std::size_t>(local)]);
    return out;
}

std::vector<NodeId> Mesh::face_corners(const MeshFace& face) const {
    std::vector<NodeId> out = face_nodes(face);
    out.resize(static_cast<std::size_t>(side_corners(out.size(), is_edge(face))));
    return out;
}

Vec3 Mesh::element_normal(ElementId e) const {
    if (dimension() == 2) return Vec3::UnitZ();
    const NodeRange ids = nodes_of(e);
    const Vec3& a = nodes[index(ids[0])];
    if (kind(e) == ElementKind::ShellTri3)
        return (nodes[index(ids[1])] - a).cross(nodes[index(ids[2])] - a).normalized();
    return (nodes[index(ids[2])] - a).cross(nodes[index(ids[3])] - nodes[index(ids[1])]).normalized();
}

std::vector<SidePoint> Mesh::face_points(const MeshFace& face) const {
    std::vector<Vec3> places;
    for (const NodeId n : face_nodes(face)) places.push_back(nodes[index(n)]);
    const bool edge = is_edge(face);
    return integrate_side(places, edge, depth(face.element),
                          edge ? element_normal(face.element) : Vec3::UnitZ());
}

Vec3 Mesh::face_center(const MeshFace& face) const {
    if (on_grid()) return upright::face_center(grid, {cell_of[index(face.element)], face.side});
    Vec3 out = Vec3::Zero();
    const std::vector<NodeId> corners = face_corners(face);
    for (const NodeId n : corners) out += nodes[index(n)];
    return out / static_cast<double>(corners.size());
}

Vec3 Mesh::face_normal(const MeshFace& face) const {
    if (on_grid()) return upright::face_normal(face.side);
    Vec3 out = Vec3::Zero();
    for (const SidePoint& p : face_points(face)) out += p.area;
    return out.normalized();
}

double Mesh::face_area(const MeshFace& face) const {
    if (on_grid()) return upright::face_area(grid, face.side) * of_grid_depth(face.element);
    double out = 0.0;
    for (const SidePoint& p : face_points(face)) out += p.area.norm();
    return out;
}

Neighbours find_neighbours(const Mesh& mesh) {
    Neighbours out;
    out.starts.push_back(0);
    for (std::size_t e = 0; e < mesh.elements(); ++e)
        out.starts.push_back(out.starts.back() +
                             static_cast<std::size_t>(mesh.sides(static_cast<ElementId>(e))));
    out.beyond.assign(out.starts.back(), -1);
    if (mesh.on_grid() && !mesh.shell()) {
        for (std::size_t e = 0; e < mesh.elements(); ++e)
            for (int side = 0; side < 2 * mesh.grid.axes(); ++side) {
                const long cell = mesh.grid.neighbour(mesh.cell_of[e], side);
                if (cell >= 0)
                    out.beyond[out.starts[e] + static_cast<std::size_t>(side)] =
                        mesh.element_of[static_cast<std::size_t>(cell)];
            }
        return out;
    }
    std::unordered_map<std::array<std::int32_t, 4>, std::size_t, KeyHash> open;
    open.reserve(out.starts.back());
    std::vector<std::int32_t> owner(out.starts.back());
    for (std::size_t e = 0; e < mesh.elements(); ++e)
        for (int side = mesh.shell() ? 2 : 0; side < mesh.sides(static_cast<ElementId>(e)); ++side) {
            const std::size_t at = out.starts[e] + static_cast<std::size_t>(side);
            owner[at] = static_cast<std::int32_t>(e);
            const auto [known, fresh] = open.emplace(side_key(mesh, {static_cast<ElementId>(e), side}), at);
            if (fresh) continue;
            // Where more than two meet (shells), all are linked in a chain.
            out.beyond[at] = owner[known->second];
            if (out.beyond[known->second] < 0) out.beyond[known->second] = static_cast<std::int32_t>(e);
            known->second = at;
        }
    return out;
}

std::vector<MeshFace> Mesh::boundary() const {
    std::vector<MeshFace> out;
    const Neighbours neighbours = find_neighbours(*this);
    for (std::size_t e = 0; e < elements(); ++e)
        for (int side = shell() ? 2 : 0; side < sides(static_cast<ElementId>(e)); ++side)
            if (neighbours.at(static_cast<ElementId>(e), side) < 0)
                out.push_back({static_cast<ElementId>(e), side});
    return out;
}

std::vector<int> face_connected_parts(const Mesh& mesh) {
    const Neighbours neighbours = find_neighbours(mesh);
    // Where more than two shells meet, only the later ones know the earlier.
    Groups groups(mesh.elements());
    for (std::size_t e = 0; e < mesh.elements(); ++e)
        for (std::size_t s = neighbours.starts[e]; s < neighbours.starts[e + 1]; ++s)
            if (neighbours.beyond[s] >= 0) groups.join(e, static_cast<std::size_t>(neighbours.beyond[s]));
    std::vector<int> part(mesh.elements(), -1);
    int parts = 0;
    for (std::size_t e = 0; e < mesh.elements(); ++e) {
        const std::size_t root = groups.root(e); // the lowest of its group
        if (root == e) part[e] = parts++;
        part[e] = part[root];
    }
    return part;
}

void drop_unused_nodes(Mesh& mesh) {
    std::vector<std::int32_t> number(mesh.nodes.size(), -1);
    for (const NodeId n : mesh.connectivity) number[index(n)] = 0;
    std::vector<Vec3> kept;
    for (std::size_t n = 0; n < number.size(); ++n) {
        if (number[n] < 0) continue;
        number[n] = static_cast<std::int32_t>(kept.size());
        kept.push_back(mesh.nodes[n]);
    }
    mesh.nodes = std::move(kept);
    for (NodeId& n : mesh.connectivity) n = static_cast<NodeId>(number[index(n)]);
}

void raise_order(Mesh& mesh) {
    std::unordered_map<std::uint64_t, NodeId> middle;
    std::vector<NodeId> connectivity;
    std::vector<std::size_t> starts;
    for (std::size_t e = 0; e < mesh.elements(); ++e) {
        const NodeRange ids = mesh.nodes_of(static_cast<ElementId>(e));
        const std::size_t before = connectivity.size();
        connectivity.insert(connectivity.end(), ids.begin(), ids.end());
        for (const auto& edge : edges_of(mesh.kinds[e])) {
            const NodeId a = ids[static_cast<std::size_t>(edge[0])];
            const NodeId b = ids[static_cast<std::size_t>(edge[1])];
            const std::uint64_t key = (static_cast<std::uint64_t>(std::min(index(a), index(b))) << 32U) |
                                      static_cast<std::uint64_t>(std::max(index(a), index(b)));
            const auto [at, fresh] = middle.emplace(key, static_cast<NodeId>(mesh.nodes.size()));
            if (fresh) mesh.nodes.push_back(0.5 * (mesh.nodes[index(a)] + mesh.nodes[index(b)]));
            connectivity.push_back(at->second);
        }
        if (!mesh.starts.empty()) starts.push_back(before);
        mesh.kinds[e] = raised(mesh.kinds[e]);
    }
    if (!mesh.starts.empty()) starts.push_back(connectivity.size());
    if (mesh.elements() > 0) mesh.nodes_each = connectivity.size() / mesh.elements();
    mesh.connectivity = std::move(connectivity);
    mesh.starts = std::move(starts);
}

} // namespace upright
