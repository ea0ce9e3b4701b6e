// A line through points, by its arc length.
#pragma once

#include "base/vectors.hpp"

#include <algorithm>
#include <cstddef>
#include <vector>

namespace upright {

struct Polyline {
    std::vector<Vec3> points;
    std::vector<double> arc; // length up to each point

    // Fills `arc`, once the points are there.
    void measure() {
        arc = {0.0};
        for (std::size_t i = 1; i < points.size(); ++i)
            arc.push_back(arc.back() + (points[i] - points[i - 1]).norm());
    }
    double length() const { return arc.back(); }
    Vec3 at(double s) const {
        s = std::clamp(s, 0.0, length());
        const auto it = std::upper_bound(arc.begin(), arc.end(), s);
        const std::size_t i =
            std::min(static_cast<std::size_t>(std::max<std::ptrdiff_t>(1, it - arc.begin())), arc.size() - 1);
        const double t = (s - arc[i - 1]) / std::max(arc[i] - arc[i - 1], 1e-300);
        return (1 - t) * points[i - 1] + t * points[i];
    }
};

} // namespace upright
