// Signed distance to the shapes of a study: negative inside, positive outside, in the study's length unit.
#pragma once

#include "geometry/bounds.hpp"
#include "study/study.hpp"

namespace upright {

// Exact for every shape but the cone, for which it is a lower bound of the distance's size away from its
// surface. A set of cells of a mesh file has no distance: far outside.
double signed_distance(const Shape& shape, const Vec3& p);

// Whether a place lies in a shape, or within `tolerance` of it: cheaper than the distance for bodies of
// files.
bool contains(const Shape& shape, const Vec3& p, double tolerance);

// Whether a shape lies wholly on one side of a ball: 1 outside, -1 inside, 0 not sure.
int side_of_ball(const Shape& shape, const Vec3& center, double radius);

// Empty for half spaces and sets of cells.
Bounds bounds(const Shape& shape);

// The edges of a shape as line segments, for outlines in figures. Circles come as 48 segments.
std::vector<std::pair<Vec3, Vec3>> outline(const Shape& shape);

// Two unit vectors across `axis`: the remaining coordinate axes in the order x, y, z when it is one of them.
std::pair<Vec3, Vec3> across(const Vec3& axis);

} // namespace upright
