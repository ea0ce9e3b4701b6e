#include "part/solid/built_up.hpp"

#include "base/angles.hpp"

#include <algorithm>
#include <cmath>

namespace upright {

namespace {

constexpr int directions = 16;               // of a cone's rim
constexpr double never = -0.5, always = 1.5; // beyond what a field is
constexpr double narrowest = 0.5;            // tangent of a cone whose rim lies on the next place

} // namespace

LayeredExcess built_up(const BuiltUpWish& wish) {
    // One step across is as far as the cone is wider from layer to layer, of a slender one further.
    const double side = wish.step * std::clamp(wish.reach, narrowest, 1.0);
    LayeredExcess out(wish.box, wish.up, side, side / std::max(wish.reach, narrowest));
    const double rim_radius = wish.reach * out.rise() / out.side(); // on the layer below, in steps
    const int across_u = out.count(0);
    const int across_v = out.count(1);
    const auto layer = out.in_layer();
    std::vector<double> below(layer, never);
    std::vector<double> here(layer, never);
    std::array<std::array<double, 2>, directions> rim{};
    for (std::size_t d = 0; d < rim.size(); ++d) {
        const double turn = 2.0 * pi * static_cast<double>(d) / directions;
        rim[d] = {rim_radius * std::cos(turn), rim_radius * std::sin(turn)};
    }
    // Between places of the layer below; `i`, `j` and the offset are steps.
    const auto between = [&](double x, double y) {
        const int i = std::clamp(static_cast<int>(std::floor(x)), 0, across_u - 2);
        const int j = std::clamp(static_cast<int>(std::floor(y)), 0, across_v - 2);
        const double s = std::clamp(x - i, 0.0, 1.0);
        const double t = std::clamp(y - j, 0.0, 1.0);
        const double* row = below.data() + out.index(i, j, 0);
        const double* next = row + across_u;
        return (1.0 - t) * ((1.0 - s) * row[0] + s * row[1]) + t * ((1.0 - s) * next[0] + s * next[1]);
    };
    for (int k = 0; k < out.count(2); ++k) {
#pragma omp parallel for schedule(dynamic)
        for (int j = 0; j < across_v; ++j)
            for (int i = 0; i < across_u; ++i) {
                const Vec3 p = out.place(i, j, k);
                const std::size_t n = out.index(i, j, 0);
                const LayerPlace is = wish.place(p);
                if (is != LayerPlace::Free) {
                    here[n] = is == LayerPlace::Solid ? always : never;
                    continue;
                }
                const double value = wish.field(p);
                double borne = k == 0 ? (wish.plate ? always : never) : below[n];
                for (std::size_t d = 0; d < rim.size() && k > 0 && borne < value; ++d)
                    borne = std::max(borne, between(i + rim[d][0], j + rim[d][1]));
                here[n] = std::min(value, borne);
                out.set(out.index(i, j, k), value - here[n]);
            }
        below.swap(here);
    }
    out.finish();
    return out;
}

} // namespace upright
