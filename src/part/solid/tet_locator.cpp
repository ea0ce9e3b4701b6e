#include "part/solid/tet_locator.hpp"

#include <Eigen/Dense>
#include <cmath>

namespace upright {

TetLocator::TetLocator(const std::vector<Vec3>& points, const std::vector<std::array<std::int32_t, 4>>& tets,
                       double width)
    : points_(points), tets_(tets), width_(width) {
    for (std::size_t t = 0; t < tets.size(); ++t) {
        Vec3 low = points[static_cast<std::size_t>(tets[t][0])];
        Vec3 high = low;
        for (const std::int32_t n : tets[t]) {
            low = low.cwiseMin(points[static_cast<std::size_t>(n)]);
            high = high.cwiseMax(points[static_cast<std::size_t>(n)]);
        }
        const auto a = cube(low);
        const auto b = cube(high);
        for (std::int64_t i = a[0]; i <= b[0]; ++i)
            for (std::int64_t j = a[1]; j <= b[1]; ++j)
                for (std::int64_t k = a[2]; k <= b[2]; ++k)
                    cubes_[key({i, j, k})].push_back(static_cast<std::int32_t>(t));
    }
}

std::array<std::int64_t, 3> TetLocator::cube(const Vec3& p) const {
    return {static_cast<std::int64_t>(std::floor(p.x() / width_)),
            static_cast<std::int64_t>(std::floor(p.y() / width_)),
            static_cast<std::int64_t>(std::floor(p.z() / width_))};
}

std::uint64_t TetLocator::key(const std::array<std::int64_t, 3>& c) const {
    const auto part = [](std::int64_t v) { return static_cast<std::uint64_t>(v) & 0x1fffffU; };
    return part(c[0]) << 42U | part(c[1]) << 21U | part(c[2]);
}

std::int32_t TetLocator::find(const Vec3& p) const {
    const auto found = cubes_.find(key(cube(p)));
    if (found == cubes_.end()) return -1;
    for (const std::int32_t t : found->second) {
        const auto& n = tets_[static_cast<std::size_t>(t)];
        const Vec3& a = points_[static_cast<std::size_t>(n[0])];
        Eigen::Matrix3d edges;
        for (int i = 0; i < 3; ++i)
            edges.col(i) = points_[static_cast<std::size_t>(n[static_cast<std::size_t>(i) + 1])] - a;
        const Vec3 share = edges.inverse() * (p - a);
        if (share.minCoeff() >= -1e-9 && share.sum() <= 1.0 + 1e-9) return t;
    }
    return -1;
}

} // namespace upright
