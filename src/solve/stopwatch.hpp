// Seconds for the costs that solvers report.
#pragma once

#include <chrono>

namespace upright {

using Clock = std::chrono::steady_clock;

inline double seconds_since(Clock::time_point start) {
    return std::chrono::duration<double>(Clock::now() - start).count();
}

} // namespace upright
