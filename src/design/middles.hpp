// Middles of design elements, found by place.
#pragma once

#include "mesh/mesh.hpp"

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <unordered_map>
#include <vector>

namespace upright {

// Finds the design element whose middle is nearest to a place.
class Middles {
  public:
    Middles(const Mesh& mesh, const std::vector<std::size_t>& elements)
        : mesh_(mesh), elements_(elements), width_(std::max(mesh.size, 1e-300)) {
        for (std::size_t v = 0; v < elements.size(); ++v)
            cells_[key(mesh.center(elements[v]), 0, 0, 0)].push_back(v);
    }
    // Calls visit(number, distance) for those within `reach` of a place.
    template <class Visit> void within(const Vec3& p, double reach, const Visit& visit) const {
        each_about(p, reach, [&](std::size_t v, double squared) {
            if (const double d = std::sqrt(squared); d <= reach) visit(v, d);
        });
    }
    // Within `reach`; -1 where there is none.
    long nearest(const Vec3& p, double reach) const {
        long best = -1;
        double least = reach * reach;
        each_about(p, reach, [&](std::size_t v, double squared) {
            if (squared > least || (squared == least && best >= 0)) return;
            least = squared;
            best = static_cast<long>(v);
        });
        return best;
    }

  private:
    // Those in the cells that a reach touches, with the square of their distance.
    template <class Visit> void each_about(const Vec3& p, double reach, const Visit& visit) const {
        const int r = static_cast<int>(std::ceil(reach / width_));
        for (int k = -r; k <= r; ++k)
            for (int j = -r; j <= r; ++j)
                for (int i = -r; i <= r; ++i) {
                    const auto at = cells_.find(key(p, i, j, k));
                    if (at == cells_.end()) continue;
                    for (const std::size_t v : at->second)
                        visit(v, (mesh_.center(elements_[v]) - p).squaredNorm());
                }
    }
    std::uint64_t key(const Vec3& p, int i, int j, int k) const {
        std::uint64_t out = 0;
        const int shift[3] = {i, j, k};
        for (int a = 0; a < 3; ++a) {
            const auto cell = static_cast<std::int64_t>(std::floor((p[a] - mesh_.bounds.low[a]) / width_)) +
                              shift[a] + (1 << 20);
            out = (out << 21U) | (static_cast<std::uint64_t>(cell) & 0x1fffffU);
        }
        return out;
    }
    const Mesh& mesh_;
    const std::vector<std::size_t>& elements_;
    double width_;
    std::unordered_map<std::uint64_t, std::vector<std::size_t>> cells_;
};

} // namespace upright
