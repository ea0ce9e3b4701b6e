// The middle surface of thin bodies: shells instead of walls a few elements thick.
#pragma once

#include "base/error.hpp"
#include "geometry/facets.hpp"

#include <string>
#include <vector>

namespace upright {

struct MidSurfaceOptions {
    double size = 0.0; // of an element; 0: twice the thickness or a fiftieth of the body, the larger one
};

struct MidSurface {
    // Triangles of shells, about as large as `size`. Faces: one for each face of the body that is kept of two
    // sides, numbered from 1; an edge where three or more meet is shared by all of them.
    FacetMesh mesh;
    struct Wall {
        std::vector<int> side, other;   // numbers of the body's faces
        double thickness = 0.0;         // the mean, by area
        double least = 0.0, most = 0.0; // where what lies opposite has steps
    };
    std::vector<Wall> walls; // of each face of the mesh

    // Faces of the body that are neither a side of a wall nor its edge: nothing stands for them.
    struct Left {
        int face = 0;
        double area = 0.0;
    };
    std::vector<Left> left;

    double size = 0.0;
    double volume = 0.0;         // area times thickness
    double smallest_angle = 0.0; // of a triangle, degrees

    // Parts that hang together, and how far the largest is from the one nearest to it.
    int pieces = 0;
    double gap = 0.0;
    Vec3 gap_at = Vec3::Zero();
};

// Planes that lie opposite to each other across material, and cylinders about one axis, are the two sides of
// a wall where the way between them is short against their extent; faces that touch both sides are edges. Of
// two sides that one stands for the wall which meets others in inner corners; its points go inward by half
// the thickness of every wall they belong to (so that sheets that meet at an angle meet in the line where
// their middles cross), and what comes together is joined. Each face is then meshed anew in its plane, or its
// cylinder unrolled, between borders that its neighbours share. Throws Error (Input, at `place`) where no
// wall is found, (Numerics) where a face cannot be meshed.
MidSurface make_mid_surface(const FacetBody& body, const MidSurfaceOptions& options, const Place& place);

} // namespace upright
