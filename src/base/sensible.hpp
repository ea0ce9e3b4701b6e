// The range that numbers of studies and files keep to, so that products of a few of them stay numbers.
#pragma once

#include "base/vectors.hpp"

namespace upright {

inline constexpr double largest_number = 1e30; // and 1 over it the smallest beside zero

// Whether all three are numbers of that range; what is no number is not.
inline bool is_place(const Vec3& p) {
    return p.cwiseAbs().maxCoeff() <= largest_number && p.allFinite();
}

} // namespace upright
