#include "part/solid/split.hpp"

#include "base/edge_key.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>

namespace upright {

namespace {

// Of a curved sheet: an edge between two points on it lies on it where its middle is as near, in lengths.
constexpr double chord = 0.3;

} // namespace

bool fits(const CutTets& tets, const Crossing& c, const Vec3& p) {
    const double least = 1e-9 * c.length * c.length * c.length;
    for (const std::int32_t t : tets.at[static_cast<std::size_t>(c.a)]) {
        const auto& n = tets.tets[static_cast<std::size_t>(t)];
        if (std::find(n.begin(), n.end(), c.b) == n.end()) continue;
        for (const std::int32_t gone : {c.a, c.b}) {
            std::array<Vec3, 4> q = tets.corners(static_cast<std::size_t>(t));
            for (std::size_t i = 0; i < 4; ++i)
                if (n[i] == gone) q[i] = p;
            if (Vec3(q[1] - q[0]).cross(q[2] - q[0]).dot(q[3] - q[0]) <= least) return false;
        }
    }
    return true;
}

void longest_first(std::vector<Crossing>& crossings) {
    // To a few digits, so that rounding does not decide.
    const auto rounded = [](double v) { return static_cast<float>(v); };
    std::sort(crossings.begin(), crossings.end(), [&](const Crossing& a, const Crossing& b) {
        if (rounded(a.length) != rounded(b.length)) return a.length > b.length;
        return edge_key(a.a, a.b) < edge_key(b.a, b.b);
    });
}

std::vector<std::int32_t> with_sheet(std::vector<std::int32_t> on, std::int32_t sheet) {
    on.push_back(sheet);
    return on;
}

void split_on(CutTets& tets, const SheetSet& sheets, const Crossing& c, std::int32_t number) {
    const auto& on_a = tets.on[static_cast<std::size_t>(c.a)];
    const auto& on_b = tets.on[static_cast<std::size_t>(c.b)];
    const Vec3 middle =
        0.5 * (tets.points[static_cast<std::size_t>(c.a)] + tets.points[static_cast<std::size_t>(c.b)]);
    std::vector<std::int32_t> on;
    std::vector<std::int32_t> flat;
    for (const std::int32_t s : on_a) {
        if (!std::binary_search(on_b.begin(), on_b.end(), s)) continue;
        if (!sheets[s].curved()) flat.push_back(s);
        if (!sheets[s].curved() || std::abs(sheets[s].value(middle)) < chord * c.length) on.push_back(s);
    }
    Vec3 at = c.at;
    if (on.size() > flat.size()) {
        const auto to = sheets.onto(number < 0 ? on : with_sheet(on, number), c.at);
        if (to && (*to - c.at).norm() < chord * c.length && fits(tets, c, *to))
            at = *to;
        else if (number < 0)
            return; // a point on the chord would be on no face
        else
            on = flat;
    }
    const std::int32_t m = tets.add_point(at);
    tets.split(c.a, c.b, m);
    for (const std::int32_t s : on) tets.put_on(m, s);
    if (number >= 0) tets.put_on(m, number);
}

void refine_curved(CutTets& tets, const SheetSet& sheets, double sagitta, double shortest) {
    constexpr int most_rounds = 4;
    for (int round = 0; round < most_rounds; ++round) {
        std::vector<Crossing> long_ones;
        for (const auto& [a, b] : tets.edges()) {
            const Vec3& p = tets.points[static_cast<std::size_t>(a)];
            const Vec3& q = tets.points[static_cast<std::size_t>(b)];
            const Vec3 middle = 0.5 * (p + q);
            const double length = (q - p).norm();
            if (length < 2.0 * shortest) continue;
            for (const std::int32_t s : tets.on[static_cast<std::size_t>(a)]) {
                if (!sheets[s].curved() || sheets[s].kind == Sheet::Kind::Field || !tets.lies_on(b, s))
                    continue;
                const double off = std::abs(sheets[s].value(middle));
                if (off > sagitta * sheets[s].radius && off < chord * length) {
                    long_ones.push_back({a, b, middle, length});
                    break;
                }
            }
        }
        if (long_ones.empty()) return;
        longest_first(long_ones);
        for (const Crossing& c : long_ones) split_on(tets, sheets, c, -1);
    }
}

} // namespace upright
