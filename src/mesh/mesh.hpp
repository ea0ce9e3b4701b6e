// The finite element mesh: nodes, elements, and the region each element belongs to.
#pragma once

#include "geometry/painting.hpp"
#include "mesh/element_kind.hpp"

#include <array>
#include <vector>

namespace upright {

// A side of an element; traits(kind).sides tells its nodes. Sides of box cells are -x +x -y +y -z +z.
struct MeshFace {
    ElementId element{};
    int side = 0;
};

// A plane beyond which the body goes on as its mirror image.
struct SymmetryCut {
    int axis = 0;
    double at = 0.0;
    bool high = false; // the modelled part lies below the plane
};

// The nodes of an element, in its kind's order.
struct NodeRange {
    const NodeId* first = nullptr;
    const NodeId* last = nullptr;
    const NodeId* begin() const { return first; }
    const NodeId* end() const { return last; }
    std::size_t size() const { return static_cast<std::size_t>(last - first); }
    NodeId operator[](std::size_t i) const { return first[i]; }
};

// Rings of cells about an axis, the same all the way round: cells of one ring and layer are turned copies of
// each other.
struct PolarGrid {
    std::array<int, 3> count{}; // rings, cells around, layers
    Vec3 origin = Vec3::Zero();
    Vec3 axis = Vec3::UnitZ();          // of unit length; angles run by the right hand about it
    std::vector<std::uint32_t> cell_of; // for each element: rings first, then around, then layers

    bool given() const { return !cell_of.empty(); }
    double step() const { return 6.28318530717958647692 / count[1]; } // angle of a cell
    std::array<int, 3> indices(std::size_t c) const {
        const auto nx = static_cast<std::size_t>(count[0]);
        const auto ny = static_cast<std::size_t>(count[1]);
        return {static_cast<int>(c % nx), static_cast<int>(c / nx % ny), static_cast<int>(c / nx / ny)};
    }
};

struct Mesh {
    std::vector<Vec3> nodes;
    std::vector<ElementKind> kinds; // for each element; all plane, all shell or all solid
    std::vector<NodeId> connectivity;
    // Where each element's nodes begin in `connectivity`, and the end; none where all have `nodes_each`.
    std::vector<std::size_t> starts;
    std::size_t nodes_each = 0;
    std::vector<RegionId> region;  // for each element
    std::vector<double> thickness; // for each element of a plane or shell mesh
    std::vector<SymmetryCut> symmetry;
    double size = 1.0; // the usual edge length of an element

    // Of a grid alone: the lattice, the cell of each element, and the element of each cell, or -1.
    CellGrid grid;
    std::vector<std::uint32_t> cell_of;
    std::vector<std::int32_t> element_of;
    // Of a polar mesh alone.
    PolarGrid polar;

    // Found by finish(). Volumes and centers: none on the first-order cells of a grid, which knows them.
    std::vector<double> own_volumes;
    std::vector<Vec3> own_centers;
    // Integral of each node's interpolation, beside `connectivity`; none where all nodes of an element share
    // alike, as on the cells of a grid (node_volume()).
    std::vector<double> node_volumes;
    Bounds bounds;

    // Once nodes, elements and thickness stand. Throws Error (Numerics) for an element
    // that is inside out.
    void finish();
    // Room for so many elements of so many nodes each.
    void reserve(std::size_t elements, std::size_t nodes_each);
    // Lets go of `starts` where all elements have as many nodes.
    void pack_starts();
    // Adds an element; finish() is still to come.
    void add(ElementKind kind, const std::vector<NodeId>& nodes_of_it, RegionId region_of_it);

    bool on_grid() const { return !cell_of.empty(); }
    std::size_t elements() const { return kinds.size(); }
    ElementKind kind(ElementId e) const { return kinds[index(e)]; }
    bool shell() const { return !kinds.empty() && traits(kinds.front()).shell; }
    // Coordinates of a node: 2 in a plane mesh, else 3.
    int dimension() const { return kinds.empty() ? 3 : traits(kinds.front()).space; }
    // Displacement components of a node: as many, or 6 with the rotations of a shell.
    int freedoms() const { return kinds.empty() ? 3 : freedoms_of_node(kinds.front()); }
    // Where an element's nodes begin in `connectivity`; of the number after the last: where they end.
    std::size_t start(std::size_t e) const { return starts.empty() ? e * nodes_each : starts[e]; }
    NodeRange nodes_of(ElementId e) const {
        return {connectivity.data() + start(index(e)), connectivity.data() + start(index(e) + 1)};
    }
    double depth(ElementId e) const { return thickness.empty() ? 1.0 : thickness[index(e)]; }
    // The thickness of an element of a plane grid over that of the grid; 1 in space.
    double of_grid_depth(ElementId e) const {
        return grid.plane && !thickness.empty() ? depth(e) / grid.cell.z() : 1.0;
    }
    double volume(ElementId e) const {
        return own_volumes.empty() ? grid.cell_volume() * of_grid_depth(e) : own_volumes[index(e)];
    }
    double volume(std::size_t e) const { return volume(static_cast<ElementId>(e)); }
    std::vector<double> element_volumes() const;
    // The integral of the interpolation of node `i` of an element.
    double node_volume(ElementId e, std::size_t i) const {
        return node_volumes.empty() ? volume(e) / traits(kind(e)).nodes : node_volumes[start(index(e)) + i];
    }
    Vec3 center(std::size_t e) const {
        return own_centers.empty() ? grid.center(cell_of[e]) : own_centers[e];
    }
    Vec3 center(ElementId e) const { return center(index(e)); }
    std::vector<Vec3> element_centers() const;
    // How many copies of the modelled part make the whole body.
    int copies() const { return 1 << symmetry.size(); }

    int sides(ElementId e) const { return static_cast<int>(traits(kind(e)).sides.size()); }
    bool is_edge(const MeshFace& face) const;
    std::vector<NodeId> face_nodes(const MeshFace& face) const;
    // The corner nodes alone.
    std::vector<NodeId> face_corners(const MeshFace& face) const;
    std::vector<SidePoint> face_points(const MeshFace& face) const;
    Vec3 face_center(const MeshFace& face) const;
    Vec3 face_normal(const MeshFace& face) const; // unit, outward
    double face_area(const MeshFace& face) const; // of an edge: length times thickness
    // The normal of a shell element, or z in the plane.
    Vec3 element_normal(ElementId e) const;

    // Every edge or face that belongs to one element alone; not the flat sides of shells.
    std::vector<MeshFace> boundary() const;
};

// For each element and side, the element beyond it, or -1: beside `starts`-like offsets.
struct Neighbours {
    std::vector<std::size_t> starts;
    std::vector<std::int32_t> beyond;
    std::int32_t at(ElementId e, int side) const {
        return beyond[starts[index(e)] + static_cast<std::size_t>(side)];
    }
};
Neighbours find_neighbours(const Mesh& mesh);

// Throws nothing; drops the nodes that no element uses, keeping the order of the rest.
void drop_unused_nodes(Mesh& mesh);

// Adds the middles of edges: tri3 to tri6, quad4 to quad8, tet4 to tet10, hex8 to hex20. Straight edges.
void raise_order(Mesh& mesh);

// Box cells of everything that is solid in the painting; nodes that no cell touches are left out.
// Throws Error (Input) when nothing is solid.
Mesh make_grid_mesh(const Space& space, const Painting& painting);

// Groups of elements that hang together through whole faces; the number of each element's group.
std::vector<int> face_connected_parts(const Mesh& mesh);

} // namespace upright
