// Where a surface passes through itself: the edges of each triangle against the triangles near it.
#pragma once

#include "part/triangles.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <map>
#include <set>

namespace upright::test {

inline double turned(const Vec3& a, const Vec3& b, const Vec3& c, const Vec3& d) {
    return Vec3(b - a).cross(c - a).dot(d - a);
}

// Whether the segment p q passes through the inside of the triangle.
inline bool pierces(const Vec3& p, const Vec3& q, const Vec3& a, const Vec3& b, const Vec3& c) {
    const double scale = std::pow(std::max({(b - a).norm(), (c - a).norm(), (q - p).norm()}), 3);
    const double slack = 1e-12 * scale;
    const double from = turned(a, b, c, p);
    const double to = turned(a, b, c, q);
    if (!((from > slack && to < -slack) || (from < -slack && to > slack))) return false;
    const double u = turned(p, q, a, b);
    const double v = turned(p, q, b, c);
    const double w = turned(p, q, c, a);
    return (u > slack && v > slack && w > slack) || (u < -slack && v < -slack && w < -slack);
}

// Pairs of triangles without a common point that cross; `width`: about an edge.
inline std::size_t crossings(const Triangles& surface, double width) {
    std::map<std::array<long, 3>, std::vector<std::size_t>> cubes;
    const auto corner = [&](std::size_t t, std::size_t k) -> const Vec3& {
        return surface.points[static_cast<std::size_t>(surface.corners[t][k])];
    };
    for (std::size_t t = 0; t < surface.corners.size(); ++t) {
        Vec3 low = corner(t, 0);
        Vec3 high = low;
        for (std::size_t k = 1; k < 3; ++k) {
            low = low.cwiseMin(corner(t, k));
            high = high.cwiseMax(corner(t, k));
        }
        const auto cube = [&](double v) { return static_cast<long>(std::floor(v / width)); };
        for (long i = cube(low.x()); i <= cube(high.x()); ++i)
            for (long j = cube(low.y()); j <= cube(high.y()); ++j)
                for (long k = cube(low.z()); k <= cube(high.z()); ++k) cubes[{i, j, k}].push_back(t);
    }
    std::set<std::pair<std::size_t, std::size_t>> found;
    for (const auto& [cube, list] : cubes)
        for (const std::size_t s : list)
            for (const std::size_t t : list) {
                if (s == t) continue;
                bool shared = false;
                for (const std::int32_t n : surface.corners[s])
                    for (const std::int32_t m : surface.corners[t]) shared = shared || n == m;
                if (shared) continue;
                for (std::size_t k = 0; k < 3; ++k)
                    if (pierces(corner(s, k), corner(s, (k + 1) % 3), corner(t, 0), corner(t, 1),
                                corner(t, 2)))
                        found.insert({std::min(s, t), std::max(s, t)});
            }
    return found.size();
}

} // namespace upright::test
