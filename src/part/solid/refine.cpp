#include "part/solid/refine.hpp"

#include "part/solid/split.hpp"

#include <algorithm>
#include <set>
#include <unordered_map>

namespace upright {

namespace {

constexpr double too_long = 1.4; // of the size: halves are then as much too short
constexpr int most_rounds = 6;
constexpr std::int32_t void_shift = 1 << 20; // of labels, so that what splitting makes stays void

using SheetsOfEdges = std::unordered_map<std::uint64_t, std::set<std::int32_t>>;

std::int32_t wall_sheet(const CutTets& tets, const SheetSet& sheets,
                        const std::array<std::int32_t, 3>& nodes) {
    std::array<Vec3, 3> corners;
    std::array<const std::vector<std::int32_t>*, 3> on{};
    for (std::size_t k = 0; k < 3; ++k) {
        corners[k] = tets.points[static_cast<std::size_t>(nodes[k])];
        on[k] = &tets.on[static_cast<std::size_t>(nodes[k])];
    }
    return sheet_of_triangle(sheets, corners, on);
}

// Labels tell solid from void, and regions apart: where they change is a wall.
SheetsOfEdges edges_of_walls(const CutTets& tets, const SheetSet& sheets) {
    SheetsOfEdges out;
    const auto beyond = neighbours_of(tets);
    for (std::size_t t = 0; t < tets.tets.size(); ++t)
        for (std::size_t side = 0; side < 4; ++side) {
            const std::int32_t o = beyond[t][side];
            if (o >= 0 &&
                (static_cast<std::size_t>(o) < t || tets.label[static_cast<std::size_t>(o)] == tets.label[t]))
                continue;
            std::array<std::int32_t, 3> nodes{};
            for (std::size_t k = 0; k < 3; ++k) nodes[k] = tets.tets[t][tet_faces[side][k]];
            const std::int32_t sheet = wall_sheet(tets, sheets, nodes);
            if (sheet < 0) continue;
            for (std::size_t k = 0; k < 3; ++k) out[edge_key(nodes[k], nodes[(k + 1) % 3])].insert(sheet);
        }
    return out;
}

std::vector<Crossing> long_edges(const CutTets& tets, const SizeWish& size) {
    std::vector<std::uint64_t> keys;
    for (std::size_t t = 0; t < tets.tets.size(); ++t) {
        if (tets.label[t] >= void_shift) continue;
        const auto& n = tets.tets[t];
        for (std::size_t i = 0; i < 4; ++i)
            for (std::size_t j = i + 1; j < 4; ++j) keys.push_back(edge_key(n[i], n[j]));
    }
    std::vector<Crossing> all;
    for (const auto& [a, b] : edges_of_keys(std::move(keys))) {
        const Vec3& p = tets.points[static_cast<std::size_t>(a)];
        const Vec3& q = tets.points[static_cast<std::size_t>(b)];
        all.push_back({a, b, 0.5 * (p + q), (q - p).norm()});
    }
    std::vector<char> wanted(all.size());
#pragma omp parallel for schedule(dynamic, 256)
    for (std::size_t i = 0; i < all.size(); ++i)
        wanted[i] = all[i].length > too_long * size(all[i].at) ? 1 : 0;
    std::vector<Crossing> out;
    for (std::size_t i = 0; i < all.size(); ++i)
        if (wanted[i] != 0) out.push_back(all[i]);
    longest_first(out);
    return out;
}

} // namespace

void split_long_edges(CutTets& tets, std::vector<bool>& solid, const SheetSet& sheets, const SizeWish& size,
                      const std::function<void(std::size_t)>& grown) {
    for (std::size_t t = 0; t < solid.size(); ++t)
        if (!solid[t]) tets.label[t] += void_shift;
    for (int round = 0; round < most_rounds; ++round) {
        const std::vector<Crossing> all = long_edges(tets, size);
        if (all.empty()) break;
        SheetsOfEdges walls = edges_of_walls(tets, sheets);
        for (const Crossing& c : all) {
            const auto found = walls.find(edge_key(c.a, c.b));
            Crossing at = c;
            std::set<std::int32_t> on;
            if (found != walls.end()) {
                on = found->second;
                if (const auto to = sheets.onto({on.begin(), on.end()}, c.at); to && fits(tets, c, *to))
                    at.at = *to;
            }
            const std::int32_t m = tets.add_point(at.at);
            tets.split(c.a, c.b, m);
            for (const std::int32_t s : on) {
                tets.put_on(m, s);
                walls[edge_key(c.a, m)].insert(s);
                walls[edge_key(m, c.b)].insert(s);
            }
        }
        if (grown) grown(tets.tets.size());
    }
    solid.resize(tets.tets.size());
    for (std::size_t t = 0; t < solid.size(); ++t) {
        solid[t] = tets.label[t] < void_shift;
        if (!solid[t]) tets.label[t] -= void_shift;
    }
}

} // namespace upright
