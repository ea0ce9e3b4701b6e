// The triangulation of a ring of corners whose worst triangle is best (dynamic programming, Shewchuk 2002).
#pragma once

#include <algorithm>
#include <array>
#include <cstddef>
#include <utility>
#include <vector>

namespace upright {

struct RingTriangles {
    std::vector<std::array<std::size_t, 3>> triangles; // places in the ring, rising
    bool found = true;                                 // one whose worst triangle is above the floor
};

// Of a ring of `n` corners, at most `Most`. `quality(i, k, j, enough)` judges the triangle of three of them;
// it may stop at any number up to `enough`, which would not do.
template <std::size_t Most, class Quality>
RingTriangles best_ring_triangles(std::size_t n, double floor, const Quality& quality) {
    RingTriangles out;
    if (n < 3) return out;
    std::array<std::array<double, Most>, Most> value{};
    std::array<std::array<std::size_t, Most>, Most> split{};
    for (std::size_t i = 0; i < n; ++i)
        for (std::size_t j = 0; j < n; ++j) value[i][j] = 1.0;
    for (std::size_t gap = 2; gap < n; ++gap)
        for (std::size_t i = 0; i + gap < n; ++i) {
            const std::size_t j = i + gap;
            double best = -1.0;
            std::size_t where = i + 1;
            for (std::size_t k = i + 1; k < j; ++k) {
                const double sides = std::min(value[i][k], value[k][j]);
                const double enough = std::max(best, floor);
                if (sides <= enough) continue;
                const double v = std::min(sides, quality(i, k, j, enough));
                if (v > best) {
                    best = v;
                    where = k;
                }
            }
            value[i][j] = best;
            split[i][j] = where;
        }
    if (value[0][n - 1] <= floor) {
        out.found = false;
        return out;
    }
    std::vector<std::pair<std::size_t, std::size_t>> stack{{0, n - 1}};
    while (!stack.empty()) {
        const auto [i, j] = stack.back();
        stack.pop_back();
        if (j < i + 2) continue;
        const std::size_t k = split[i][j];
        out.triangles.push_back({i, k, j});
        stack.emplace_back(i, k);
        stack.emplace_back(k, j);
    }
    return out;
}

} // namespace upright
