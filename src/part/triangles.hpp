// Closed triangle surfaces: measures, smoothing and STL.
#pragma once

#include "base/vectors.hpp"

#include <array>
#include <filesystem>
#include <functional>
#include <string>
#include <vector>

namespace upright {

struct Triangles {
    std::vector<Vec3> points;
    std::vector<std::array<std::int32_t, 3>> corners; // counter-clockwise seen from outside
};

// Enclosed volume (divergence theorem), positive when the normals point outward.
double volume(const Triangles& surface);
double area(const Triangles& surface);

// Whether every edge is shared by exactly two triangles that run it in opposite directions.
bool closed(const Triangles& surface);

// Smoothing without shrinking (Taubin 1995: alternating steps of +0.5 and -0.53), then an even offset of the
// free points along their normals until the volume is what it was. Pinned points stay, but for those that
// border on free ones: they slide along their border, and `onto_exact` brings them back onto the exact
// surface that pinned them.
void smooth_holding_volume(Triangles& surface, const std::vector<bool>& pinned, int passes,
                           const std::function<Vec3(const Vec3&)>& onto_exact = {});

// Binary STL, written whole or not at all. `header` is cut to 80 characters.
void write_stl(const std::filesystem::path& file, const Triangles& surface, const std::string& header);

} // namespace upright
