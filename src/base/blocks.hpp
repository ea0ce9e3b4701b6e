// Long ranges worked on by blocks. Sums over them: base/reduction.hpp.
#pragma once

#include <algorithm>
#include <atomic>
#include <cstddef>
#include <omp.h>
#include <vector>

namespace upright {

inline constexpr std::size_t block_of_range = 16384;

// Calls part(from, to) for the blocks of [0, n), several at a time; `threads` 0: as many as are set.
template <class Part> void each_block(std::size_t n, Part&& part, int threads = 0) {
    const std::size_t blocks = (n + block_of_range - 1) / block_of_range;
    const int many = threads > 0 ? threads : omp_get_max_threads();
#pragma omp parallel for num_threads(many) schedule(static) if (blocks > 1)
    for (std::size_t k = 0; k < blocks; ++k) part(k * block_of_range, std::min(n, (k + 1) * block_of_range));
}

// to = from.
inline void copy_by_blocks(const std::vector<double>& from, std::vector<double>& to) {
    to.resize(from.size());
    each_block(from.size(), [&](std::size_t first, std::size_t last) {
        std::copy(from.begin() + static_cast<std::ptrdiff_t>(first),
                  from.begin() + static_cast<std::ptrdiff_t>(last),
                  to.begin() + static_cast<std::ptrdiff_t>(first));
    });
}

// a == b; stops looking soon after a difference is seen.
inline bool same_by_blocks(const std::vector<double>& a, const std::vector<double>& b) {
    if (a.size() != b.size()) return false;
    std::atomic<bool> same{true};
    each_block(a.size(), [&](std::size_t first, std::size_t last) {
        if (same && !std::equal(a.begin() + static_cast<std::ptrdiff_t>(first),
                                a.begin() + static_cast<std::ptrdiff_t>(last),
                                b.begin() + static_cast<std::ptrdiff_t>(first)))
            same = false;
    });
    return same;
}

} // namespace upright
