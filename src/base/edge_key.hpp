// One number for an edge, whichever way it runs.
#pragma once

#include <algorithm>
#include <cstdint>

namespace upright {

inline std::uint64_t edge_key(std::int32_t a, std::int32_t b) {
    return static_cast<std::uint64_t>(std::min(a, b)) << 32U | static_cast<std::uint32_t>(std::max(a, b));
}

} // namespace upright
