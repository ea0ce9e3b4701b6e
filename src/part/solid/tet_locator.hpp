// Which tetrahedron a place lies in.
#pragma once

#include "base/vectors.hpp"

#include <array>
#include <unordered_map>
#include <vector>

namespace upright {

class TetLocator {
  public:
    // Refers to both; `width`: of the cubes, about an edge.
    TetLocator(const std::vector<Vec3>& points, const std::vector<std::array<std::int32_t, 4>>& tets,
               double width);
    // -1 where there is none.
    std::int32_t find(const Vec3& p) const;

  private:
    std::uint64_t key(const std::array<std::int64_t, 3>& cube) const;
    std::array<std::int64_t, 3> cube(const Vec3& p) const;
    const std::vector<Vec3>& points_;
    const std::vector<std::array<std::int32_t, 4>>& tets_;
    double width_;
    std::unordered_map<std::uint64_t, std::vector<std::int32_t>> cubes_;
};

} // namespace upright
