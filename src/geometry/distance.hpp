// Signed distance to the shapes of a study: negative inside, positive outside, in the study's length unit.
#pragma once

#include "study/study.hpp"

namespace upright {

// An axis-parallel box around something; empty while low > high.
struct Bounds {
    Vec3 low = Vec3::Constant(1e300);
    Vec3 high = Vec3::Constant(-1e300);

    bool empty() const { return low.x() > high.x(); }
    void include(const Vec3& p) {
        low = low.cwiseMin(p);
        high = high.cwiseMax(p);
    }
    void include(const Bounds& other) {
        if (other.empty()) return;
        include(other.low);
        include(other.high);
    }
    Vec3 size() const { return high - low; }
    Vec3 center() const { return 0.5 * (low + high); }
    double diagonal() const { return size().norm(); }
};

// Exact for every shape but the cone, for which it is a lower bound of the distance's size away from its
// surface.
double signed_distance(const Shape& shape, const Vec3& p);

Bounds bounds(const Shape& shape);

// The edges of a shape as line segments, for outlines in figures. Circles come as 48 segments.
std::vector<std::pair<Vec3, Vec3>> outline(const Shape& shape);

// Two unit vectors across `axis`: the remaining coordinate axes in the order x, y, z when it is one of them.
std::pair<Vec3, Vec3> across(const Vec3& axis);

} // namespace upright
