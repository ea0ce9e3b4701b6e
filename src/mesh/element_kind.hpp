// The kinds of elements: nodes, sides, interpolation and integration. What an element is made of, without
// mechanics.
#pragma once

#include "base/vectors.hpp"

#include <string>
#include <vector>

namespace upright {

// Corners first, then the middles of edges. Triangles and quadrilaterals run counter-clockwise; wedges and
// hexahedra have their lower ring first; tetrahedra have a positive volume (p1-p0) x (p2-p0) . (p3-p0).
enum class ElementKind : std::uint8_t {
    Tri3,
    Tri6,
    Quad4,
    Quad8,
    ShellTri3,
    ShellQuad4,
    Tet4,
    Tet10,
    Wedge6,
    Hex8,
    Hex20
};
inline constexpr int element_kinds = 11;

struct KindTraits {
    const char* name;
    int nodes;
    int corners;
    int dimension; // of the cell: 2 or 3
    int space;     // coordinates of a node: 2 or 3
    int freedoms;  // displacement components of a node: 2, 3, or 6 with rotations
    bool shell;
    // The local nodes of each side: its corners in a ring, outward normal by the right hand, then the middles
    // of its edges. Edges in the plane; faces in space. A shell has its upper face, its lower face, then its
    // edges.
    std::vector<std::vector<int>> sides;
};
const KindTraits& traits(ElementKind kind);

// Displacement components of a node, as the traits have it: asked for in inner loops.
constexpr int freedoms_of_node(ElementKind kind) {
    switch (kind) {
    case ElementKind::Tri3:
    case ElementKind::Tri6:
    case ElementKind::Quad4:
    case ElementKind::Quad8:
        return 2;
    case ElementKind::ShellTri3:
    case ElementKind::ShellQuad4:
        return 6;
    default:
        return 3;
    }
}

// The kind with the same corners and nothing between them.
ElementKind first_order(ElementKind kind);

// The number of corners of a side with that many nodes: 2 of 2 or 3, 3 of 3 or 6, 4 of 4 or 8 (an edge is
// told by `edge`).
int side_corners(std::size_t nodes, bool edge);

// A point of an integration rule in natural coordinates.
struct RulePoint {
    Vec3 at = Vec3::Zero();
    double weight = 0.0;
};

// Natural coordinates: -1..1 for quadrilaterals and hexahedra, 0..1 barycentric (L1, L2, L3) for triangles
// and tetrahedra, both for wedges. `gradient` is by natural coordinates: cell dimension x nodes.
void interpolate(ElementKind kind, const Vec3& at, Eigen::VectorXd& values, Eigen::MatrixXd& gradient);

// Integrates stiffness and mass of the kind exactly on undistorted elements.
const std::vector<RulePoint>& integration_rule(ElementKind kind);

// The middle of a cell in natural coordinates.
Vec3 natural_center(ElementKind kind);

// The shape functions of a side of that many nodes, and their derivatives by its natural coordinates (one row
// for each): those of tri3, tri6, quad4 and quad8; along an edge of two or three nodes from -1 to 1.
void interpolate_side(std::size_t nodes, bool edge, const Vec3& at, Eigen::VectorXd& values,
                      Eigen::MatrixXd& gradient);

// A point of an integration over a side.
struct SidePoint {
    Eigen::VectorXd values; // interpolation at the point, for each node of the side
    Vec3 place;
    Vec3 area; // outward area vector of the share that the point stands for
};
// Integration over a side given by the places of its nodes. An edge of a plane or shell element has `depth`
// (its thickness); its outward direction is edge x `up`.
std::vector<SidePoint> integrate_side(const std::vector<Vec3>& places, bool edge, double depth,
                                      const Vec3& up);

} // namespace upright
