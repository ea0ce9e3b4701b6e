// Where the regions of a repeated pattern lie.
#pragma once

#include "design/making_rule.hpp"

#include <optional>

namespace upright {

// The box of a design region's elements; nothing where it has none.
std::optional<Bounds> design_box(const Model& model, const std::string& region);

// The place in the first box that stands for one in another, as large.
Vec3 into_first(const Vec3& p, const Bounds& first, const Bounds& other, bool mirrored);

} // namespace upright
