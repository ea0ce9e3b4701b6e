// The finite element mesh: nodes, elements of one kind, and the region each element belongs to.
#pragma once

#include "geometry/painting.hpp"

#include <array>
#include <vector>

namespace upright {

enum class ElementKind { Quad4, Hex8 };

// A side of an element: 0..5 are -x +x -y +y -z +z of a box cell (0..3 in the plane).
struct MeshFace {
    ElementId element{};
    int side = 0;
};

struct Mesh {
    ElementKind kind = ElementKind::Hex8;
    std::vector<Vec3> nodes;
    std::vector<NodeId>
        connectivity; // nodes_per_element() for each element, counter-clockwise, lower layer first
    std::vector<RegionId> region;         // for each element
    CellGrid grid;                        // the lattice it was made on
    std::vector<std::size_t> cell_of;     // grid cell of each element
    std::vector<std::int32_t> element_of; // element of each grid cell, or -1

    int dimension() const { return kind == ElementKind::Quad4 ? 2 : 3; }
    int nodes_per_element() const { return kind == ElementKind::Quad4 ? 4 : 8; }
    std::size_t elements() const { return region.size(); }
    double thickness() const { return kind == ElementKind::Quad4 ? grid.cell.z() : 1.0; }
    double volume(ElementId /*element*/) const { return grid.cell_volume(); }
    NodeId node(ElementId element, int corner) const {
        return connectivity[index(element) * static_cast<std::size_t>(nodes_per_element()) +
                            static_cast<std::size_t>(corner)];
    }
    Vec3 center(ElementId element) const { return grid.center(cell_of[index(element)]); }
    Vec3 face_center(const MeshFace& face) const;
    Vec3 face_normal(const MeshFace& face) const { return upright::face_normal(face.side); }
    double face_area(const MeshFace& face) const { return upright::face_area(grid, face.side); }
    // The nodes of a side: two in the plane, four in space.
    std::vector<NodeId> face_nodes(const MeshFace& face) const;
};

// Box cells of everything that is solid in the painting; nodes that no cell touches are left out.
// Throws Error (Input) when nothing is solid.
Mesh make_grid_mesh(const Study& study, const Painting& painting);

// Groups of elements that hang together through whole faces; the number of each element's group.
std::vector<int> face_connected_parts(const Mesh& mesh);

} // namespace upright
