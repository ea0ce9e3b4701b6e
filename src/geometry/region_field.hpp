// Regions as fields: the one place where they are composed of shapes, skins and rings. Painting asks it what
// a cell belongs to, carving and cutting where a region ends.
#pragma once

#include "geometry/painting.hpp"

#include <vector>

namespace upright {

// The surfaces that a skin covers, and the regions before `before` that it covers.
std::vector<std::size_t> skin_surfaces(const Study& study, const Skin& skin);
std::vector<std::size_t> skin_regions(const Study& study, const Skin& skin, std::size_t before);

// Distance to a ring around the end of a hole: negative inside.
double ring_distance(const Ring& ring, const Vec3& p);

// The body of a file that a shape is, and how it was placed; nullptr for other shapes.
const FacetBody* body_of(const Shape& shape, const Placed*& placed);
// From the axes of a placed body to those of the study, and back.
Vec3 out_of(const Placed* placed, const Vec3& p);
Vec3 into(const Placed* placed, const Vec3& p);

} // namespace upright
