#include "mesh/mesh.hpp"

#include <algorithm>
#include <fmt/format.h>

namespace upright {

namespace {

// The corner offsets of a box cell, in the order of its nodes.
constexpr std::array<std::array<int, 3>, 8> corners{
    {{0, 0, 0}, {1, 0, 0}, {1, 1, 0}, {0, 1, 0}, {0, 0, 1}, {1, 0, 1}, {1, 1, 1}, {0, 1, 1}}};
} // namespace

Mesh make_grid_mesh(const Space& space, const Painting& painting) {
    const CellGrid& grid = painting.grid;
    Mesh mesh;
    mesh.grid = grid;
    const bool shell = space.mesh.family == ElementFamily::Shell;
    const ElementKind kind = shell        ? ElementKind::ShellQuad4
                             : grid.plane ? ElementKind::Quad4
                                          : ElementKind::Hex8;
    mesh.size = grid.cell.head(grid.axes()).maxCoeff();
    for (int a = 0; a < grid.axes(); ++a) {
        const auto& sides = grid.symmetric[static_cast<std::size_t>(a)];
        if (sides[0]) mesh.symmetry.push_back({a, grid.box().low[a], false});
        if (sides[1]) mesh.symmetry.push_back({a, grid.box().high[a], true});
    }
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
    const auto per_element = static_cast<std::size_t>(traits(kind).nodes);
    std::size_t elements = 0;
    for (std::size_t c = 0; c < grid.size(); ++c) {
        if (!painting.solid(c)) continue;
        ++elements;
        const auto ijk = grid.indices(c);
        for (std::size_t corner = 0; corner < per_element; ++corner) node_at[lattice_index(ijk, corner)] = 0;
    }
    mesh.reserve(elements, per_element);
    mesh.nodes.reserve(static_cast<std::size_t>(std::count(node_at.begin(), node_at.end(), 0)));
    mesh.cell_of.reserve(elements);
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
    std::vector<NodeId> nodes;
    for (std::size_t c = 0; c < grid.size(); ++c) {
        if (!painting.solid(c)) continue;
        mesh.element_of[c] = static_cast<std::int32_t>(mesh.cell_of.size());
        mesh.cell_of.push_back(static_cast<std::uint32_t>(c));
        const auto ijk = grid.indices(c);
        nodes.clear();
        for (std::size_t corner = 0; corner < per_element; ++corner)
            nodes.push_back(static_cast<NodeId>(node_at[lattice_index(ijk, corner)]));
        mesh.add(kind, nodes, painting.owner[c]);
        if (grid.plane) mesh.thickness.push_back(painting.regions[painting.owner[c]].deep);
    }
    if (mesh.cell_of.empty())
        throw Error::input(space.mesh.place, "no cell of the mesh is solid",
                           "Look for a void that covers everything, or a cell size far above the parts' own");
    if (space.mesh.order == 2) raise_order(mesh);
    mesh.finish();
    return mesh;
}

} // namespace upright
