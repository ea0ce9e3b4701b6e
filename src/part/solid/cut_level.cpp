#include "part/solid/cut_level.hpp"

#include "base/edge_key.hpp"
#include "part/solid/split.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <unordered_map>
#include <unordered_set>

namespace upright {

namespace {

constexpr int most_rounds = 3;

class LevelCutter {
  public:
    LevelCutter(CutTets& tets, const SheetSet& sheets, std::vector<double>& value, std::int32_t level,
                const std::vector<bool>& design, double snap)
        : tets_(tets), sheets_(sheets), value_(value), level_(level), design_(design), snap_(snap) {}

    void run(const std::unordered_set<std::int32_t>& stay) {
        for (std::size_t t = 0; t < tets_.tets.size(); ++t)
            if (is_design(t))
                for (const std::int32_t n : tets_.tets[t])
                    if (of(n) == 0.0) tets_.put_on(n, level_);
        std::vector<Crossing> all;
        for (const auto& [a, b] : tets_.edges_across(value_, [&](std::size_t t) { return is_design(t); })) {
            Crossing c;
            c.a = a;
            c.b = b;
            all.push_back(c);
        }
        take_near(all, stay);
        std::vector<Crossing> left;
        for (const Crossing& c : all)
            if (of(c.a) * of(c.b) < 0.0) left.push_back(c);
#pragma omp parallel for schedule(dynamic, 256)
        for (std::size_t i = 0; i < left.size(); ++i) find(left[i]);
        longest_first(left);
        for (const Crossing& c : left) {
            split_on(tets_, sheets_, c, level_);
            value_.push_back(0.0);
        }
    }

    // Points that lie on the level because they were near it.
    const std::vector<std::int32_t>& moved() const {
        return moved_;
    }

    std::vector<bool> solid() const {
        std::vector<bool> out(tets_.tets.size(), true);
        for (std::size_t t = 0; t < out.size(); ++t) {
            if (!is_design(t)) continue;
            double far = 0.0;
            for (const std::int32_t n : tets_.tets[t])
                if (std::abs(of(n)) > std::abs(far)) far = of(n);
            out[t] = far == 0.0 ? sheets_[level_].value(tets_.center(t)) < 0.0 : far < 0.0;
        }
        return out;
    }

  private:
    double of(std::int32_t n) const {
        return value_[static_cast<std::size_t>(n)];
    }
    bool is_design(std::size_t t) const {
        return design_[static_cast<std::size_t>(tets_.label[t])];
    }
    const Vec3& place(std::int32_t n) const {
        return tets_.points[static_cast<std::size_t>(n)];
    }

    void take_near(const std::vector<Crossing>& all, const std::unordered_set<std::int32_t>& stay) {
        std::vector<std::pair<double, std::int32_t>> wish;
        for (const Crossing& c : all) {
            const double share = of(c.a) / (of(c.a) - of(c.b)); // from a
            const double length = (place(c.a) - place(c.b)).norm();
            if (share < snap_) wish.emplace_back(share * length, c.a);
            if (share > 1.0 - snap_) wish.emplace_back((1.0 - share) * length, c.b);
        }
        std::sort(wish.begin(), wish.end());
        for (const auto& [d, n] : wish) {
            if (of(n) == 0.0 || stay.count(n) != 0) continue;
            value_[static_cast<std::size_t>(n)] = 0.0;
            tets_.put_on(n, level_);
            moved_.push_back(n);
        }
    }

    // Where the edge crosses the level: by halving, since the field is no straight line along it.
    void find(Crossing& c) const {
        Vec3 low = place(c.a);
        Vec3 high = place(c.b);
        c.length = (high - low).norm();
        const double sign = of(c.a);
        const Sheet& sheet = sheets_[level_];
        if (sheet.value(low) * sheet.value(high) >= 0.0) { // its points were put where the field is another
            c.at = low + (high - low) * (of(c.a) / (of(c.a) - of(c.b)));
            return;
        }
        for (int i = 0; i < 16; ++i) {
            c.at = 0.5 * (low + high);
            (sheet.value(c.at) * sign > 0.0 ? low : high) = c.at;
        }
    }

    CutTets& tets_;
    const SheetSet& sheets_;
    std::vector<double>& value_;
    std::int32_t level_;
    const std::vector<bool>& design_;
    double snap_; // of an edge: a point with a cut so near is taken to lie on the level
    std::vector<std::int32_t> moved_;
};

// Points of the part's skin at which it touches itself: edges with more than two faces, points whose faces
// make more than one fan.
std::vector<std::int32_t> pinched(const CutTets& tets, const std::vector<bool>& solid,
                                  const std::vector<std::array<std::int32_t, 4>>& beyond) {
    std::unordered_map<std::uint64_t, int> faces_at;
    std::vector<std::vector<std::array<std::int32_t, 2>>> rim(tets.points.size());
    for (std::size_t t = 0; t < solid.size(); ++t) {
        if (!solid[t]) continue;
        for (std::size_t side = 0; side < 4; ++side) {
            const std::int32_t o = beyond[t][side];
            if (o >= 0 && solid[static_cast<std::size_t>(o)]) continue;
            for (std::size_t k = 0; k < 3; ++k) {
                const std::int32_t a = tets.tets[t][tet_faces[side][k]];
                const std::int32_t b = tets.tets[t][tet_faces[side][(k + 1) % 3]];
                const std::int32_t c = tets.tets[t][tet_faces[side][(k + 2) % 3]];
                ++faces_at[edge_key(a, b)];
                rim[static_cast<std::size_t>(a)].push_back({b, c});
            }
        }
    }
    std::vector<std::int32_t> out;
    for (const auto& [key, count] : faces_at)
        if (count > 2) {
            out.push_back(static_cast<std::int32_t>(key >> 32U));
            out.push_back(static_cast<std::int32_t>(key & 0xffffffffU));
        }
    for (std::size_t n = 0; n < rim.size(); ++n) {
        if (rim[n].empty()) continue;
        // One closed fan: following it from any face comes by all of them.
        std::size_t count = 1;
        std::int32_t here = rim[n].front()[1];
        while (here != rim[n].front()[0] && count <= rim[n].size()) {
            const auto next =
                std::find_if(rim[n].begin(), rim[n].end(), [&](const auto& f) { return f[0] == here; });
            if (next == rim[n].end()) break;
            here = (*next)[1];
            ++count;
        }
        if (count != rim[n].size()) out.push_back(static_cast<std::int32_t>(n));
    }
    std::sort(out.begin(), out.end());
    out.erase(std::unique(out.begin(), out.end()), out.end());
    return out;
}

} // namespace

LevelCut cut_at_level(CutTets& tets, const SheetSet& sheets, std::vector<double> value, std::int32_t level,
                      const std::vector<bool>& design, bool sound, double snap) {
    LevelCut out;
    std::unordered_set<std::int32_t> stay;
    const CutTets before = tets;
    const std::vector<double> first = value;
    std::vector<std::int32_t> bad;
    std::vector<std::array<std::int32_t, 4>> beyond; // of the tetrahedra as they are cut
    for (int round = 0; round < most_rounds; ++round) {
        if (round > 0) {
            tets = before;
            value = first;
        }
        LevelCutter cutter(tets, sheets, value, level, design, snap);
        cutter.run(stay);
        out.solid = cutter.solid();
        if (!sound) return out;
        beyond = neighbours_of(tets);
        bad = pinched(tets, out.solid, beyond);
        if (bad.empty()) return out;
        std::size_t known = stay.size();
        std::unordered_set<std::int32_t> near(bad.begin(), bad.end());
        for (const std::int32_t n : cutter.moved()) {
            bool close = near.count(n) != 0;
            for (const std::int32_t t : tets.at[static_cast<std::size_t>(n)])
                for (const std::int32_t o : tets.tets[static_cast<std::size_t>(t)])
                    close = close || near.count(o) != 0;
            if (close) stay.insert(n);
        }
        if (stay.size() == known) break;
    }
    // What still touches itself is filled.
    for (int round = 0; round < 20 && !bad.empty(); ++round) {
        for (const std::int32_t n : bad)
            for (const std::int32_t t : tets.at[static_cast<std::size_t>(n)]) {
                if (out.solid[static_cast<std::size_t>(t)]) continue;
                out.solid[static_cast<std::size_t>(t)] = true;
                ++out.filled;
            }
        bad = pinched(tets, out.solid, beyond);
    }
    return out;
}

double volume_below_in(std::size_t t, const CutTets& tets, const std::vector<double>& value, double level) {
    std::array<double, 4> v{};
    for (std::size_t i = 0; i < 4; ++i) v[i] = value[static_cast<std::size_t>(tets.tets[t][i])] - level;
    std::sort(v.begin(), v.end());
    double share = 0.0;
    if (v[3] <= 0.0)
        share = 1.0;
    else if (v[0] >= 0.0)
        return 0.0;
    else if (v[1] >= 0.0) // one corner
        share = -v[0] / (v[1] - v[0]) * -v[0] / (v[2] - v[0]) * -v[0] / (v[3] - v[0]);
    else if (v[2] <= 0.0) // all but one corner
        share = 1.0 - v[3] / (v[3] - v[0]) * v[3] / (v[3] - v[1]) * v[3] / (v[3] - v[2]);
    else { // two and two: the cubes of the values below over the products of their differences
        const auto [a, b, c, d] = v;
        share = b - a > 1e-5 * (d - a)
                    ? -a * a * a / ((b - a) * (c - a) * (d - a)) - b * b * b / ((a - b) * (c - b) * (d - b))
                    : a * a / ((c - a) * (d - a)) * (3.0 + a / (c - a) + a / (d - a));
    }
    return share * tets.volume(t);
}

double volume_below(const CutTets& tets, const std::vector<double>& value, double level,
                    const std::vector<bool>& design) {
    double out = 0.0;
    for (std::size_t t = 0; t < tets.tets.size(); ++t)
        if (design[static_cast<std::size_t>(tets.label[t])]) out += volume_below_in(t, tets, value, level);
    return out;
}

} // namespace upright
