// Long ranges worked on by blocks. Sums come in a fixed order: the same whatever the threads do.
#pragma once

#include <algorithm>
#include <array>
#include <atomic>
#include <cmath>
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

// Several sums at once: part(from, to) gives an array of `Count` for each block.
template <std::size_t Count, class Part>
std::array<double, Count> sums_of_blocks(std::size_t n, Part&& part, int threads = 0) {
    std::vector<std::array<double, Count>> parts((n + block_of_range - 1) / block_of_range);
    each_block(
        n, [&](std::size_t from, std::size_t to) { parts[from / block_of_range] = part(from, to); }, threads);
    std::array<double, Count> out{};
    for (const std::array<double, Count>& p : parts)
        for (std::size_t c = 0; c < Count; ++c) out[c] += p[c];
    return out;
}

// The sum of part(from, to) over blocks of [0, n).
template <class Part> double sum_of_blocks(std::size_t n, Part&& part, int threads = 0) {
    return sums_of_blocks<1>(
        n, [&](std::size_t from, std::size_t to) { return std::array<double, 1>{part(from, to)}; },
        threads)[0];
}

// The sum of a_i b_i.
inline double weighted_sum(const std::vector<double>& a, const std::vector<double>& b) {
    return sum_of_blocks(a.size(), [&](std::size_t from, std::size_t to) {
        double sum = 0.0;
#pragma omp simd reduction(+ : sum)
        for (std::size_t i = from; i < to; ++i) sum += a[i] * b[i];
        return sum;
    });
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

// The largest |a_i - b_i|.
inline double largest_difference(const std::vector<double>& a, const std::vector<double>& b) {
    double out = 0.0;
#pragma omp parallel for simd schedule(static) reduction(max : out)
    for (std::size_t i = 0; i < a.size(); ++i) out = std::max(out, std::abs(a[i] - b[i]));
    return out;
}

} // namespace upright
