// Body-fitted tetrahedra: points first (corners, curves, patches, a graded lattice inside), then Delaunay,
// then labels, repair and optimisation.
#pragma once

#include "geometry/facets.hpp"

#include <functional>
#include <string>
#include <vector>

namespace upright {

// The boundaries of regions as triangles, conforming: neighbours share their edges.
struct FittedInput {
    std::vector<Vec3> points;
    std::vector<std::array<std::int32_t, 3>> triangles;
    std::vector<std::int32_t> face_of;                // exact face of each triangle
    std::vector<std::array<std::int32_t, 2>> regions; // of each triangle: behind it and before it; -1 outside
    std::vector<double> face_radius; // least radius of curvature of each exact face; 0: flat or not known
};

struct FittedOptions {
    double size = 1.0;
    double gradient = 0.3;   // growth of the size over distance
    double curvature = 25.0; // degrees an element may span
    double smallest = 0.15;  // of the size, where curvature asks for less
    double thinnest = 0.02;  // of the size, where walls and short edges ask for less
    double target = 25.0;    // degrees: dihedral angles below it are worked on
    std::vector<std::pair<std::function<double(const Vec3&)>, double>>
        refine;        // distance, and the size where it is not above zero
    double gap = 2e-3; // of the size: bodies nearer than that without touching are refused
    std::vector<std::string> region_names; // for messages
};

struct FittedTets {
    std::vector<Vec3> points;
    std::vector<std::array<std::int32_t, 4>> tets; // positive
    std::vector<std::int32_t> region;
    // The skin: every face between different regions or to the outside, with its exact face, looking out of
    // the region named first (the other may be -1).
    struct Face {
        std::array<std::int32_t, 3> nodes;
        std::int32_t face = -1;
    };
    std::vector<Face> skin;
    double smallest_dihedral = 0.0;   // degrees
    bool forced = false;              // by the shape: wedges, walls below the least size
    std::vector<std::string> remarks; // what the user should know, with places
    // Nodes of the middle of edges may be pulled onto these; null where an edge is inside.
    std::vector<std::array<std::int32_t, 3>>
        entity; // for each point: kind (0 corner, 1 curve, 2 patch, 3 inside), number, unused
};

// Wedges and walls that no fair tetrahedron fills are meshed as well as they can be, and `remarks` say where
// and how well. Throws Error (Numerics) for an input that is not closed, for regions that do not touch but
// are a hair apart, and where nothing can be meshed.
FittedTets make_fitted_tets(const FittedInput& input, const FittedOptions& options);

} // namespace upright
