// An order of places in which neighbours stand near each other, for whatever is read one after the other.
#pragma once

#include "base/vectors.hpp"

#include <array>
#include <cstdint>
#include <vector>

namespace upright {

// Bits of a number for each axis.
inline constexpr int morton_bits = 21;
// The key of a lattice place along a Morton curve (Morton 1966): the bits of its three numbers, each below
// 2^morton_bits, in turn.
std::uint64_t morton_key(const std::array<std::uint64_t, 3>& at);

// The places' numbers along a Morton curve through the cube that holds them; of equal keys the
// smaller number first. Places have to be finite.
std::vector<std::int32_t> spatial_order(const std::vector<Vec3>& places);

} // namespace upright
