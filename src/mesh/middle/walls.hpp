// Which faces of a thin body are the two sides of a wall.
#pragma once

#include "mesh/mid_surface.hpp"

namespace upright::middle {

struct Wall {
    std::int32_t a = 0, b = 0; // faces, a below b
    double thickness = 0.0;
    double area = 0.0; // of what lies opposite
};

struct Walls {
    std::vector<Wall> all;
    // Of each face: whether it is a side, and the mean thickness of its walls, the least and the most.
    std::vector<bool> side;
    std::vector<double> thickness, least, most;
    std::vector<bool> edge; // meets both sides of a wall in outer corners
    std::vector<bool> kept; // the side that stands for the wall
    // Of each face: the two sides that it rounds the corner between; none: it is no such face.
    std::vector<std::vector<std::size_t>> rounds;
};

Walls find_walls(const FacetBody& body);

// Outward, of a plane or cylinder, by its equation.
Vec3 exact_normal(const FacetFace& face, const Vec3& p);
// The foot of the axis below a place.
Vec3 on_axis(const FacetFace& face, const Vec3& p);

} // namespace upright::middle
