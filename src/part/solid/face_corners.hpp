// Faces of tetrahedra by their corners, whatever the way round.
#pragma once

#include <algorithm>
#include <array>
#include <cstdint>

namespace upright {

using Corners = std::array<std::int32_t, 3>;

inline Corners sorted(Corners n) {
    std::sort(n.begin(), n.end());
    return n;
}

} // namespace upright
