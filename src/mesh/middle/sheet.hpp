// The kept sides of thin walls moved to their middle: facets of the body's file, joined, in patches.
#pragma once

#include "mesh/middle/walls.hpp"

#include <map>

namespace upright::middle {

// A patch lies on a plane, or on less than a whole turn of a cylinder.
struct Patch {
    std::size_t face = 0;               // of the body
    std::vector<std::size_t> triangles; // of the sheet
    double width = 0.0;                 // twice the area over the border's length

    // Place in the plane or the unrolled cylinder, seen from outside of the body; and back.
    Vec2 flat(const Vec3& p) const;
    Vec3 place(const Vec2& q) const;
    // The nearest place of its plane or cylinder.
    Vec3 nearest(const Vec3& p) const;

    bool round = false;
    Vec3 origin = Vec3::Zero();
    Vec3 e1 = Vec3::UnitX(), e2 = Vec3::UnitY(), e3 = Vec3::UnitZ(); // e3: the normal, or the axis
    double radius = 0.0, sense = 1.0; // e1 is where a cylinder is unrolled about; sense -1: seen from inside
};

struct Sheet {
    std::vector<Vec3> points;
    std::vector<std::array<std::int32_t, 3>> triangles;
    std::vector<std::size_t> patch_of;
    std::vector<Patch> patches;
    std::map<std::uint64_t, std::vector<std::size_t>> borders; // edges of patches: triangles at them
};

Sheet middle_sheet(const FacetBody& body, const Walls& walls);

} // namespace upright::middle
