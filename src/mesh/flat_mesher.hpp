// Triangles in the plane that follow the borders of regions: borders first, then Delaunay refinement.
#pragma once

#include "base/vectors.hpp"

#include <array>
#include <functional>
#include <utility>
#include <vector>

namespace upright {

// The plane cut into regions: conforming triangles, each with its region (-1 outside).
struct FlatInput {
    std::vector<Vec2> points;
    std::vector<std::array<std::int32_t, 3>> triangles; // counter-clockwise
    std::vector<std::int32_t> region;
    // Where there are any, they are the borders instead of what the triangles show: their points are nodes,
    // and no others come between (what meets another mesh there). The triangles tell regions alone.
    std::vector<std::vector<Vec2>> kept_borders;
};

struct FlatOptions {
    double size = 1.0;
    double gradient = 0.3;   // growth of the size over distance
    double curvature = 20.0; // degrees an edge may span on a curve
    double smallest = 0.05;  // of the size, where features ask for less
    std::vector<std::pair<std::function<double(const Vec3&)>, double>>
        refine; // distance, and the size where it is not above zero
};

struct FlatTriangles {
    std::vector<Vec2> points;
    std::vector<std::array<std::int32_t, 3>> triangles; // counter-clockwise
    std::vector<std::int32_t> region;
    // Edges on borders, and the place on the border half way along them.
    std::vector<std::pair<std::array<std::int32_t, 2>, Vec2>> border;
    double smallest_angle = 0.0; // degrees
    Vec2 worst = Vec2::Zero();
};

// Delaunay refinement (Chew 1993; Ruppert 1995) on an incremental triangulation (Bowyer 1981; Watson 1981)
// with exact predicates on integers; corners and borders are kept. Throws Error (Numerics) where a border
// cannot be followed (finer ones of `kept_borders` may do) or the sizes ask for more than ten million points.
FlatTriangles make_flat_triangles(const FlatInput& input, const FlatOptions& options);

} // namespace upright
