#include "mesh/mesh_cells.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>

namespace upright {

MeshCells::MeshCells(const Mesh& mesh, bool stairs, const MeshSets* sets)
    : mesh_(mesh), stairs_(stairs), sets_(sets), neighbours_(find_neighbours(mesh)) {
    for (std::size_t e = 0; e < mesh.elements(); ++e) {
        double far = 0.0;
        for (const NodeId n : mesh.nodes_of(id(e)))
            far = std::max(far, (mesh.nodes[index(n)] - mesh.center(id(e))).norm());
        reach_.push_back(far);
    }
}

bool MeshCells::on_symmetry(std::size_t c, int side) const {
    for (const SymmetryCut& cut : mesh_.symmetry) {
        bool on = true;
        for (const NodeId n : mesh_.face_corners({id(c), side}))
            on = on && std::abs(mesh_.nodes[index(n)][cut.axis] - cut.at) < 1e-6 * mesh_.size;
        if (on) return true;
    }
    return false;
}

void MeshCells::pieces(std::size_t c, std::vector<CellPiece>& out) const {
    out.clear();
    const ElementKind kind = mesh_.kinds[c];
    const KindTraits& t = traits(kind);
    const NodeRange ids = mesh_.nodes_of(id(c));
    Eigen::Matrix<double, 3, Eigen::Dynamic> x(3, t.nodes);
    for (int i = 0; i < t.nodes; ++i) x.col(i) = mesh_.nodes[index(ids[static_cast<std::size_t>(i)])];
    Eigen::VectorXd N;
    Eigen::MatrixXd G;
    const auto add = [&](const Vec3& at, double half, double weight) {
        interpolate(kind, at, N, G);
        const Eigen::Matrix<double, 3, Eigen::Dynamic> J = x * G.transpose();
        CellPiece piece;
        piece.at = x * N;
        piece.half.leftCols(t.dimension) = half * J;
        piece.volume = weight * (t.dimension == 3 ? std::abs(J.col(0).cross(J.col(1)).dot(J.col(2)))
                                                  : J.col(0).cross(J.col(1)).norm());
        out.push_back(piece);
    };
    if (t.corners == 1 << t.dimension) { // quadrilaterals and hexahedra: halved in every direction
        for (int k = 0; k < 1 << t.dimension; ++k)
            add(Vec3((k & 1) != 0 ? 0.5 : -0.5, (k & 2) != 0 ? 0.5 : -0.5,
                     t.dimension < 3 ? 0.0
                     : (k & 4) != 0  ? 0.5
                                     : -0.5),
                0.5, 1.0);
        return;
    }
    // Others: the points of their rule, as parallelepipeds of their share of the volume.
    for (const RulePoint& p : integration_rule(kind))
        add(p.at, 0.5 * std::pow(p.weight, 1.0 / t.dimension), p.weight);
}

Vec3 MeshCells::face_normal(std::size_t c, int side) const {
    if (mesh_.shell() && side < 2) return (side == 0 ? 1.0 : -1.0) * mesh_.element_normal(id(c));
    return mesh_.face_normal({id(c), side});
}

std::vector<Vec3> MeshCells::face_corners(std::size_t c, int side) const {
    std::vector<Vec3> out;
    for (const NodeId n : mesh_.face_corners({id(c), side})) out.push_back(mesh_.nodes[index(n)]);
    return out;
}

bool MeshCells::in_cell_set(const CellSet& set, std::size_t c) const {
    if (sets_ == nullptr) return false;
    const auto found = sets_->cells.find(set.array);
    if (found == sets_->cells.end()) return false;
    return set.value ? std::abs(found->second[c] - *set.value) < 1e-9 * std::max(1.0, std::abs(*set.value))
                     : found->second[c] != 0.0;
}

bool MeshCells::in_point_set(const std::string& set, std::size_t c, int side) const {
    if (sets_ == nullptr) return false;
    const auto found = sets_->points.find(set);
    if (found == sets_->points.end()) return false;
    for (const NodeId n : mesh_.face_corners({id(c), side}))
        if (found->second[index(n)] == 0.0) return false;
    return true;
}

std::vector<std::int32_t> keep_solid(Mesh& mesh, const Space& space, const Painting& painting) {
    std::vector<std::int32_t> number(mesh.elements(), -1);
    Mesh out;
    out.nodes = std::move(mesh.nodes);
    out.symmetry = mesh.symmetry;
    out.size = mesh.size;
    out.polar = mesh.polar;
    out.polar.cell_of.clear();
    const bool deep = space.mesh.plane() || space.mesh.shell();
    for (std::size_t e = 0; e < mesh.elements(); ++e) {
        if (!painting.solid(e)) continue;
        number[e] = static_cast<std::int32_t>(out.elements());
        const NodeRange ids = mesh.nodes_of(static_cast<ElementId>(e));
        out.add(mesh.kinds[e], {ids.begin(), ids.end()}, painting.owner[e]);
        if (mesh.polar.given()) out.polar.cell_of.push_back(mesh.polar.cell_of[e]);
        if (deep) out.thickness.push_back(painting.regions[painting.owner[e]].deep);
    }
    if (out.elements() == 0)
        throw Error::input(space.mesh.place, "no cell of the mesh is solid",
                           "Look for a void that covers everything, or a cell size far above the parts' own");
    drop_unused_nodes(out);
    out.finish();
    mesh = std::move(out);
    return number;
}

} // namespace upright
