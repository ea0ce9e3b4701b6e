#include "base/spatial_order.hpp"

#include <algorithm>
#include <numeric>

namespace upright {

namespace {

// The bits of a number, two zeros between each and the next.
std::uint64_t spread(std::uint64_t v) {
    v &= 0x1fffff;
    v = (v | v << 32U) & 0x1f00000000ffffULL;
    v = (v | v << 16U) & 0x1f0000ff0000ffULL;
    v = (v | v << 8U) & 0x100f00f00f00f00fULL;
    v = (v | v << 4U) & 0x10c30c30c30c30c3ULL;
    return (v | v << 2U) & 0x1249249249249249ULL;
}

} // namespace

std::uint64_t morton_key(const std::array<std::uint64_t, 3>& at) {
    return spread(at[0]) | spread(at[1]) << 1U | spread(at[2]) << 2U;
}

std::vector<std::int32_t> spatial_order(const std::vector<Vec3>& places) {
    std::vector<std::int32_t> out(places.size());
    std::iota(out.begin(), out.end(), 0);
    if (places.empty()) return out;
    Vec3 low = places[0];
    Vec3 high = places[0];
    for (const Vec3& p : places) {
        low = low.cwiseMin(p);
        high = high.cwiseMax(p);
    }
    const double extent = std::max((high - low).maxCoeff(), 1e-300);
    const double by = static_cast<double>((std::int64_t{1} << morton_bits) - 1) / extent;
    std::vector<std::uint64_t> key(places.size());
    for (std::size_t i = 0; i < places.size(); ++i)
        key[i] = morton_key({static_cast<std::uint64_t>((places[i][0] - low[0]) * by),
                             static_cast<std::uint64_t>((places[i][1] - low[1]) * by),
                             static_cast<std::uint64_t>((places[i][2] - low[2]) * by)});
    std::sort(out.begin(), out.end(), [&](std::int32_t a, std::int32_t b) {
        const std::uint64_t one = key[static_cast<std::size_t>(a)];
        const std::uint64_t two = key[static_cast<std::size_t>(b)];
        return one != two ? one < two : a < b;
    });
    return out;
}

} // namespace upright
