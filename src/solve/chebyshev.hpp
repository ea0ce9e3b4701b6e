// The fourth-kind Chebyshev smoother with optimal weights (Lottes 2023, "Optimal polynomial smoothers for
// multigrid V-cycles", table 1): z <- keep z + step S r, x <- x + weight z, for i = 1 to the degree.
#pragma once

#include <array>
#include <cstddef>

namespace upright {

struct ChebyshevStep {
    double keep = 0.0, step = 0.0, weight = 0.0;
};

// `bound`: of the spectrum of S A. Degrees 1 to 4.
inline ChebyshevStep chebyshev_step(int degree, int i, double bound) {
    constexpr std::array<std::array<double, 4>, 5> weights{
        {{0, 0, 0, 0},
         {1.125, 0, 0, 0},
         {1.02387287570313, 1.26408905371085, 0, 0},
         {1.00842544782028, 1.08867839208730, 1.33753125909618, 0},
         {1.00391310427285, 1.04035811188593, 1.14863498546254, 1.38268869241000}}};
    return {(2.0 * i - 3.0) / (2.0 * i + 1.0), (8.0 * i - 4.0) / (2.0 * i + 1.0) / bound,
            weights[static_cast<std::size_t>(degree)][static_cast<std::size_t>(i - 1)]};
}

} // namespace upright
