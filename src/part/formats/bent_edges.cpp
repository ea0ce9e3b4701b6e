#include "part/formats/bent_edges.hpp"

#include "base/angles.hpp"
#include "base/edge_key.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <numeric>
#include <unordered_map>

namespace upright {

namespace {

constexpr int most_rounds = 12;
constexpr double least_along = 0.1; // cosine: of a part's normal to that of the whole
// Parts may have corners as narrow as this, or narrower than the whole's by this factor.
constexpr double narrow = 20.0 * degree, narrower = 0.7;
constexpr double much_longer = 1.3; // than the edge that is asked for: that one is divided first

using Corners = std::array<std::int32_t, 3>;

struct SkinEdge {
    std::int32_t a = 0, b = 0;
    std::array<std::size_t, 2> beside{};
    int sides = 0;
    double length = 0.0;
};

Vec3 across(const BentSkin& skin, const Corners& c) {
    const Vec3& p = skin.points[static_cast<std::size_t>(c[0])];
    return Vec3(skin.points[static_cast<std::size_t>(c[1])] - p)
        .cross(Vec3(skin.points[static_cast<std::size_t>(c[2])] - p));
}

double least_angle(const BentSkin& skin, const Corners& c) {
    double out = pi;
    for (std::size_t k = 0; k < 3; ++k) {
        const Vec3& p = skin.points[static_cast<std::size_t>(c[k])];
        const Vec3 u = skin.points[static_cast<std::size_t>(c[(k + 1) % 3])] - p;
        const Vec3 v = skin.points[static_cast<std::size_t>(c[(k + 2) % 3])] - p;
        out = std::min(out, std::atan2(u.cross(v).norm(), u.dot(v)));
    }
    return out;
}

// A triangle with one corner in the other's place.
Corners with(Corners c, std::int32_t old, std::int32_t fresh) {
    std::replace(c.begin(), c.end(), old, fresh);
    return c;
}

class Round {
  public:
    Round(BentSkin& skin, const BentLimits& limits, const BentSurface& surface)
        : skin_(skin), limits_(limits), surface_(surface) {
        for (std::size_t t = 0; t < skin.triangles.size(); ++t)
            for (std::size_t k = 0; k < 3; ++k) {
                const std::int32_t a = skin.triangles[t][k];
                const std::int32_t b = skin.triangles[t][(k + 1) % 3];
                const auto [at, fresh] = number_.emplace(edge_key(a, b), edges_.size());
                if (fresh) edges_.push_back({a, b, {}, 0, (point(a) - point(b)).norm()});
                SkinEdge& edge = edges_[at->second];
                if (edge.sides < 2) edge.beside[static_cast<std::size_t>(edge.sides)] = t;
                ++edge.sides;
            }
    }

    bool divide() {
        std::vector<std::size_t> order;
        for (std::size_t e = 0; e < edges_.size(); ++e)
            if (bent(edges_[e])) order.push_back(e);
        std::stable_sort(order.begin(), order.end(),
                         [&](std::size_t a, std::size_t b) { return edges_[a].length > edges_[b].length; });
        touched_.assign(skin_.triangles.size(), 0);
        bool any = false;
        for (const std::size_t e : order) {
            if (touched(edges_[e])) continue;
            const std::size_t first = first_of(e);
            any = split(edges_[first]) || (first != e && split(edges_[e])) || any;
        }
        return any;
    }

  private:
    const Vec3& point(std::int32_t p) const { return skin_.points[static_cast<std::size_t>(p)]; }
    Vec3 middle(const SkinEdge& e) const { return 0.5 * (point(e.a) + point(e.b)); }
    std::size_t origin(const SkinEdge& e, std::size_t side) const { return skin_.from[e.beside[side]]; }
    std::optional<Vec3> place(const SkinEdge& e) const {
        return surface_.place(origin(e, 0), origin(e, 1), middle(e));
    }

    bool touched(const SkinEdge& e) const { return touched_[e.beside[0]] != 0 || touched_[e.beside[1]] != 0; }
    bool open(const SkinEdge& e) const { return e.sides == 2 && e.length >= 2.0 * limits_.shortest; }
    bool bent(const SkinEdge& e) const {
        if (!open(e)) return false;
        const std::optional<Vec3> there = place(e);
        if (!there) return false;
        if ((*there - middle(e)).norm() > limits_.sag) return true;
        const auto from = surface_.normal(origin(e, 0), origin(e, 1), point(e.a));
        const auto to = surface_.normal(origin(e, 0), origin(e, 1), point(e.b));
        return from && to && from->dot(*to) < std::cos(limits_.turn);
    }

    // The edge, or one of its triangles' that is much longer and may be divided.
    std::size_t first_of(std::size_t e) const {
        std::size_t out = e;
        for (const std::size_t t : edges_[e].beside)
            for (std::size_t k = 0; k < 3; ++k) {
                const std::size_t o =
                    number_.at(edge_key(skin_.triangles[t][k], skin_.triangles[t][(k + 1) % 3]));
                if (edges_[o].length > much_longer * edges_[e].length &&
                    edges_[o].length > edges_[out].length && open(edges_[o]) && place(edges_[o]))
                    out = o;
            }
        return out;
    }

    bool parts_are_sound(std::size_t t, const SkinEdge& e, std::int32_t fresh) const {
        const Vec3 whole = across(skin_, skin_.triangles[t]).normalized();
        const double least = std::min(narrow, narrower * least_angle(skin_, skin_.triangles[t]));
        const std::array<std::int32_t, 2> ends{e.a, e.b};
        return std::all_of(ends.begin(), ends.end(), [&](std::int32_t end) {
            const Corners corners = with(skin_.triangles[t], end, fresh);
            const Vec3 part = across(skin_, corners);
            return part.norm() > 0.0 && part.normalized().dot(whole) > least_along &&
                   least_angle(skin_, corners) > least;
        });
    }

    bool split(const SkinEdge& e) {
        if (touched(e)) return false;
        const std::optional<Vec3> there = place(e);
        if (!there) return false;
        const auto fresh = static_cast<std::int32_t>(skin_.points.size());
        skin_.points.push_back(*there);
        const bool sound = (*there - middle(e)).norm() < 0.5 * e.length &&
                           std::all_of(e.beside.begin(), e.beside.end(),
                                       [&](std::size_t t) { return parts_are_sound(t, e, fresh); });
        if (!sound) {
            skin_.points.pop_back();
            return false;
        }
        for (const std::size_t t : e.beside) {
            touched_[t] = 1;
            skin_.triangles.push_back(with(skin_.triangles[t], e.a, fresh));
            skin_.from.push_back(skin_.from[t]);
            skin_.triangles[t] = with(skin_.triangles[t], e.b, fresh);
        }
        return true;
    }

    BentSkin& skin_;
    const BentLimits& limits_;
    const BentSurface& surface_;
    std::vector<SkinEdge> edges_;
    std::unordered_map<std::uint64_t, std::size_t> number_;
    std::vector<char> touched_; // triangles divided in this round: their edges are no longer those found
};

} // namespace

void split_bent_edges(BentSkin& skin, const BentLimits& limits, const BentSurface& surface) {
    skin.from.resize(skin.triangles.size());
    std::iota(skin.from.begin(), skin.from.end(), std::size_t{0});
    for (int round = 0; round < most_rounds; ++round)
        if (!Round(skin, limits, surface).divide()) return;
}

} // namespace upright
