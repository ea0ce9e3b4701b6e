// Columns of a mesh along a direction, for rules that see a part from one side.
#pragma once

#include "model/model.hpp"

#include <vector>

namespace upright {

// Grids and polar meshes along their axes have exact columns: elements one above the other. Other meshes are
// divided into squares of the mesh's size, and an element reads what stands at the four about it.
class Columns {
  public:
    // `along`: of unit length.
    Columns(const Mesh& mesh, const Vec3& along);

    std::size_t count() const { return count_; }
    bool exact() const { return exact_; }
    std::size_t of(ElementId e) const { return static_cast<std::size_t>(column_[index(e)]); }
    // The columns that an element reads, with weights that add up to one.
    const std::vector<std::pair<std::size_t, double>>& reads(ElementId e) const { return reads_[index(e)]; }

  private:
    std::size_t count_ = 0;
    bool exact_ = false;
    std::vector<std::int32_t> column_; // of each element
    std::vector<std::vector<std::pair<std::size_t, double>>> reads_;
};

// The least and the greatest of the mesh along a direction.
std::pair<double, double> extent_along(const Mesh& mesh, const Vec3& along);

} // namespace upright
