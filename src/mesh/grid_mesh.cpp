#include "mesh/mesh.hpp"

#include <fmt/format.h>

namespace upright {

namespace {

// The corner offsets of a box cell, in the order of its nodes.
constexpr std::array<std::array<int, 3>, 8> corners{
    {{0, 0, 0}, {1, 0, 0}, {1, 1, 0}, {0, 1, 0}, {0, 0, 1}, {1, 0, 1}, {1, 1, 1}, {0, 1, 1}}};
constexpr std::array<std::array<int, 4>, 6> hex_sides{
    {{0, 4, 7, 3}, {1, 2, 6, 5}, {0, 1, 5, 4}, {3, 7, 6, 2}, {0, 3, 2, 1}, {4, 5, 6, 7}}};
constexpr std::array<std::array<int, 2>, 4> quad_sides{{{3, 0}, {1, 2}, {0, 1}, {2, 3}}};

} // namespace

Vec3 Mesh::face_center(const MeshFace& face) const {
    return upright::face_center(grid, {cell_of[index(face.element)], face.side});
}

std::vector<NodeId> Mesh::face_nodes(const MeshFace& face) const {
    std::vector<NodeId> out;
    const auto side = static_cast<std::size_t>(face.side);
    if (kind == ElementKind::Quad4)
        for (const int corner : quad_sides[side]) out.push_back(node(face.element, corner));
    else
        for (const int corner : hex_sides[side]) out.push_back(node(face.element, corner));
    return out;
}

Mesh make_grid_mesh(const Study& study, const Painting& painting) {
    const CellGrid& grid = painting.grid;
    Mesh mesh;
    mesh.grid = grid;
    mesh.kind = grid.plane ? ElementKind::Quad4 : ElementKind::Hex8;
    mesh.element_of.assign(grid.size(), -1);
    const auto lattice_x = static_cast<std::size_t>(grid.count[0]) + 1;
    const auto lattice_y = static_cast<std::size_t>(grid.count[1]) + 1;
    const std::size_t lattice_z = grid.plane ? 1 : static_cast<std::size_t>(grid.count[2]) + 1;
    std::vector<std::int32_t> node_at(lattice_x * lattice_y * lattice_z, -1);
    const auto lattice_index = [&](const std::array<int, 3>& ijk, std::size_t corner) {
        return (static_cast<std::size_t>(ijk[2] + (grid.plane ? 0 : corners[corner][2])) * lattice_y +
                static_cast<std::size_t>(ijk[1] + corners[corner][1])) *
                   lattice_x +
               static_cast<std::size_t>(ijk[0] + corners[corner][0]);
    };
    const auto per_element = static_cast<std::size_t>(mesh.nodes_per_element());
    for (std::size_t c = 0; c < grid.size(); ++c) {
        if (!painting.solid(study, c)) continue;
        const auto ijk = grid.indices(c);
        for (std::size_t corner = 0; corner < per_element; ++corner) node_at[lattice_index(ijk, corner)] = 0;
    }
    // Nodes are numbered along the lattice, not by element: neighbours stay close in memory.
    for (std::size_t n = 0; n < node_at.size(); ++n) {
        if (node_at[n] < 0) continue;
        node_at[n] = static_cast<std::int32_t>(mesh.nodes.size());
        const auto i = static_cast<double>(n % lattice_x);
        const std::size_t row = n / lattice_x % lattice_y;
        const auto j = static_cast<double>(row);
        const std::size_t layer = n / lattice_x / lattice_y;
        const auto k = static_cast<double>(layer);
        mesh.nodes.emplace_back(
            grid.origin + Vec3(i * grid.cell.x(), j * grid.cell.y(), grid.plane ? 0.0 : k * grid.cell.z()));
    }
    for (std::size_t c = 0; c < grid.size(); ++c) {
        if (!painting.solid(study, c)) continue;
        mesh.element_of[c] = static_cast<std::int32_t>(mesh.cell_of.size());
        mesh.cell_of.push_back(c);
        mesh.region.push_back(painting.owner[c]);
        const auto ijk = grid.indices(c);
        for (std::size_t corner = 0; corner < per_element; ++corner)
            mesh.connectivity.push_back(static_cast<NodeId>(node_at[lattice_index(ijk, corner)]));
    }
    if (mesh.cell_of.empty())
        throw Error::input(study.mesh.place, "no cell of the mesh is solid",
                           "Look for a void that covers everything, or a cell size far above the parts' own");
    return mesh;
}

std::vector<int> face_connected_parts(const Mesh& mesh) {
    std::vector<int> part(mesh.elements(), -1);
    int parts = 0;
    std::vector<std::size_t> stack;
    for (std::size_t seed = 0; seed < mesh.elements(); ++seed) {
        if (part[seed] >= 0) continue;
        part[seed] = parts;
        stack.push_back(seed);
        while (!stack.empty()) {
            const std::size_t e = stack.back();
            stack.pop_back();
            for (int side = 0; side < 2 * mesh.grid.axes(); ++side) {
                const long beyond = mesh.grid.neighbour(mesh.cell_of[e], side);
                const std::int32_t other =
                    beyond < 0 ? -1 : mesh.element_of[static_cast<std::size_t>(beyond)];
                if (other < 0 || part[static_cast<std::size_t>(other)] >= 0) continue;
                part[static_cast<std::size_t>(other)] = parts;
                stack.push_back(static_cast<std::size_t>(other));
            }
        }
        ++parts;
    }
    return part;
}

} // namespace upright
