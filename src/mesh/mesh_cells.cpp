#include "mesh/mesh_cells.hpp"

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

void MeshCells::samples(std::size_t c, std::vector<Vec3>& out) const {
    out.clear();
    const NodeRange ids = mesh_.nodes_of(id(c));
    Eigen::VectorXd N;
    Eigen::MatrixXd G;
    for (const RulePoint& p : integration_rule(mesh_.kinds[c])) {
        interpolate(mesh_.kinds[c], p.at, N, G);
        Vec3 x = Vec3::Zero();
        for (std::size_t i = 0; i < ids.size(); ++i)
            x += N[static_cast<Eigen::Index>(i)] * mesh_.nodes[index(ids[i])];
        out.push_back(x);
    }
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

std::vector<std::int32_t> keep_solid(Mesh& mesh, const Study& study, const Painting& painting) {
    std::vector<std::int32_t> number(mesh.elements(), -1);
    Mesh out;
    out.nodes = std::move(mesh.nodes);
    out.symmetry = mesh.symmetry;
    out.size = mesh.size;
    out.polar = mesh.polar;
    out.polar.cell_of.clear();
    const bool deep = study.mesh.plane() || study.mesh.shell();
    for (std::size_t e = 0; e < mesh.elements(); ++e) {
        if (!painting.solid(study, e)) continue;
        number[e] = static_cast<std::int32_t>(out.elements());
        const NodeRange ids = mesh.nodes_of(static_cast<ElementId>(e));
        out.add(mesh.kinds[e], {ids.begin(), ids.end()}, painting.owner[e]);
        if (mesh.polar.given()) out.polar.cell_of.push_back(mesh.polar.cell_of[e]);
        if (deep) out.thickness.push_back(study.thickness(painting.owner[e]));
    }
    if (out.elements() == 0)
        throw Error::input(study.mesh.place, "no cell of the mesh is solid",
                           "Look for a void that covers everything, or a cell size far above the parts' own");
    drop_unused_nodes(out);
    out.finish();
    mesh = std::move(out);
    return number;
}

} // namespace upright
