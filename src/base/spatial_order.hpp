// An order of places in which neighbours stand near each other, for whatever is read one after the other.
#pragma once

#include "base/vectors.hpp"

#include <vector>

namespace upright {

// The places' numbers along a Morton curve (Morton 1966) through the cube that holds them; of equal keys the
// smaller number first. Places have to be finite.
std::vector<std::int32_t> spatial_order(const std::vector<Vec3>& places);

} // namespace upright
