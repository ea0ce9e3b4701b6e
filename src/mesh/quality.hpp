// How good the elements of a mesh are.
#pragma once

#include "mesh/mesh.hpp"

#include <optional>

namespace upright {

struct WorstElement {
    ElementId element{};
    double scaled_jacobian = 1.0;
};

struct MeshQuality {
    // Least over the corners of an element of det J over the product of the edge lengths there, relative to
    // the ideal cell's: 1 is ideal, 0 flat.
    double scaled_jacobian = 1.0;
    double mean_scaled_jacobian = 1.0;
    double aspect = 1.0; // longest edge over shortest
    // Of tetrahedra: degrees.
    std::optional<double> smallest_dihedral, largest_dihedral;
    std::vector<WorstElement> worst; // the ten worst, worst first
};

MeshQuality mesh_quality(const Mesh& mesh);

// For each element, as above.
std::vector<double> scaled_jacobians(const Mesh& mesh);

// Its edges in the order of their dihedral angles: the ends, then the other two corners.
inline constexpr std::array<std::array<std::size_t, 4>, 6> dihedral_edges{
    {{0, 1, 2, 3}, {0, 2, 1, 3}, {0, 3, 1, 2}, {1, 2, 0, 3}, {1, 3, 0, 2}, {2, 3, 0, 1}}};
// The six dihedral angles of a tetrahedron, in degrees.
std::array<double, 6> dihedral_angles(const std::array<Vec3, 4>& corners);

// The least sine of the six dihedral angles; negative for a tetrahedron that is inside out.
double least_sine(const std::array<Vec3, 4>& corners);

// The least Jacobian of a ten-node tetrahedron over that of the straight one: a lower bound by the
// Bernstein coefficients of its cubic polynomial (Johnen, Remacle & Geuzaine 2013).
double least_jacobian(const Mesh& mesh, std::size_t element);

} // namespace upright
