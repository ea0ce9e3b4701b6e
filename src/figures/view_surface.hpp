// Surfaces for a view that a reader turns by himself: triangles of the whole body, small enough for a page.
#pragma once

#include "figures/result_drawings.hpp"
#include "part/part.hpp"

#include <array>
#include <vector>

namespace upright {

struct ViewSurface {
    std::vector<Vec3> points;
    std::vector<std::array<std::int32_t, 3>> triangles; // those of kept regions first
    std::size_t kept = 0;                               // how many those are
    std::vector<Vec3> shift;                            // of each point: a displacement; empty: none
    std::vector<double> value;                          // of each point; empty: none
};

// At most about so many triangles: shapes stay, small triangles join.
ViewSurface view_of(const Part& part, std::size_t most);
// The faces between elements denser than `threshold` and the rest, with mirror images.
ViewSurface view_of(const Model& model, const std::vector<double>& density, double threshold);
// What a figure of a result shows: its value and displacement at each point.
ViewSurface view_of(const Model& model, const ResultFigure& result);

} // namespace upright
