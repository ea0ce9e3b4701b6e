// Sums over long ranges by blocks in a fixed order: the same whatever the threads do.
#pragma once

#include <algorithm>
#include <cstddef>
#include <omp.h>
#include <vector>

namespace upright {

// The sum of part(from, to) over blocks of [0, n); `threads` 0: as many as are set.
template <class Part> double sum_of_blocks(std::size_t n, Part&& part, int threads = 0) {
    constexpr std::size_t block = 16384;
    const std::size_t blocks = (n + block - 1) / block;
    std::vector<double> parts(blocks);
    const int many = threads > 0 ? threads : omp_get_max_threads();
#pragma omp parallel for num_threads(many) schedule(static) if (blocks > 1)
    for (std::size_t k = 0; k < blocks; ++k) parts[k] = part(k * block, std::min(n, (k + 1) * block));
    double out = 0.0;
    for (const double p : parts) out += p;
    return out;
}

} // namespace upright
