// Triangles of a skin divided where the surface that they are chords of bends more than they can tell.
#pragma once

#include "base/vectors.hpp"

#include <array>
#include <cstdint>
#include <functional>
#include <optional>
#include <vector>

namespace upright {

struct BentSkin {
    std::vector<Vec3> points;
    std::vector<std::array<std::int32_t, 3>> triangles; // closed, counter-clockwise from outside
    std::vector<std::size_t> from;                      // of each triangle: the one of before that it is of
};

struct BentLimits {
    double sag = 0.0;      // of an edge's middle to where it belongs
    double turn = 0.0;     // of the surface's normal from one end to the other, radians
    double shortest = 0.0; // what comes of an edge is no shorter
};

// What is asked of the surface, by the triangles of before on both sides of an edge.
struct BentSurface {
    // Where the middle of an edge belongs; nothing: the edge stays.
    std::function<std::optional<Vec3>(std::size_t first, std::size_t second, const Vec3& middle)> place;
    // The unit normal at an end of it; nothing where it has none there.
    std::function<std::optional<Vec3>(std::size_t first, std::size_t second, const Vec3& end)> normal;
};

// Divides edges at their middles, the longest first, until none is beyond a limit or half of it would be too
// short; edges whose triangles would turn over or become needles are left. `from` is filled anew.
void split_bent_edges(BentSkin& skin, const BentLimits& limits, const BentSurface& surface);

} // namespace upright
