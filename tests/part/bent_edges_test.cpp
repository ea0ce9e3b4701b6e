// Triangles divided where a surface bends, against a ball.
#include "part/formats/bent_edges.hpp"

#include "base/angles.hpp"
#include "part/triangles.hpp"

#include <Eigen/Geometry>
#include <cmath>
#include <gtest/gtest.h>
#include <map>

namespace upright {
namespace {

BentSkin octahedron() {
    BentSkin out;
    for (int a = 0; a < 3; ++a)
        for (const double side : {1.0, -1.0}) out.points.emplace_back(side * Vec3::Unit(a));
    for (int i = 0; i < 8; ++i) {
        std::array<std::int32_t, 3> one{i & 1, 2 + (i >> 1 & 1), 4 + (i >> 2 & 1)};
        const int minus = (i & 1) + (i >> 1 & 1) + (i >> 2 & 1);
        if (minus % 2 != 0) std::swap(one[1], one[2]);
        out.triangles.push_back(one);
    }
    return out;
}
BentSurface ball() {
    BentSurface out;
    out.place = [](std::size_t, std::size_t, const Vec3& p) { return p.normalized(); };
    out.normal = [](std::size_t, std::size_t, const Vec3& p) { return p.normalized(); };
    return out;
}
double volume_inside(const BentSkin& skin) {
    return volume({skin.points, skin.triangles});
}
// Edges as they run, each of which must be there the other way as well.
std::map<std::pair<int, int>, int> edges_of(const BentSkin& skin) {
    std::map<std::pair<int, int>, int> out;
    for (const auto& t : skin.triangles)
        for (std::size_t k = 0; k < 3; ++k) ++out[{t[k], t[(k + 1) % 3]}];
    return out;
}

} // namespace

TEST(BentEdges, ABallComesOutOfAnOctahedron) {
    for (const double sag : {0.05, 0.01}) {
        BentSkin skin = octahedron();
        EXPECT_NEAR(volume_inside(skin), 4.0 / 3.0, 1e-12);
        split_bent_edges(skin, {sag, 3.0, 0.01}, ball());
        // Shells of chords that are off by the sag at most enclose all but its share of the ball.
        EXPECT_GT(volume_inside(skin), 4.0 / 3.0 * pi * (1.0 - 4.0 * sag)) << sag;
        EXPECT_LT(volume_inside(skin), 4.0 / 3.0 * pi) << sag;
        const auto edges = edges_of(skin);
        for (const auto& [edge, times] : edges) {
            EXPECT_EQ(times, 1);
            EXPECT_EQ(edges.count({edge.second, edge.first}), 1U);
            const Vec3 middle = 0.5 * (skin.points[static_cast<std::size_t>(edge.first)] +
                                       skin.points[static_cast<std::size_t>(edge.second)]);
            EXPECT_LE(1.0 - middle.norm(), sag * (1.0 + 1e-9));
        }
        EXPECT_EQ(edges.size(), 3 * skin.triangles.size());
        ASSERT_EQ(skin.from.size(), skin.triangles.size());
        const BentSkin before = octahedron();
        for (std::size_t t = 0; t < skin.triangles.size(); ++t) { // each in the octant that it is of
            Vec3 middle = Vec3::Zero();
            Vec3 octant = Vec3::Zero();
            for (std::size_t k = 0; k < 3; ++k) {
                middle += skin.points[static_cast<std::size_t>(skin.triangles[t][k])] / 3.0;
                octant += before.points[static_cast<std::size_t>(before.triangles[skin.from[t]][k])];
            }
            EXPECT_GT(middle.cwiseProduct(octant).minCoeff(), 0.0);
        }
    }
}

TEST(BentEdges, TheTurnOfTheNormalCountsToo) {
    BentSkin skin = octahedron();
    split_bent_edges(skin, {1.0, 0.4, 0.01}, ball());
    for (const auto& [edge, times] : edges_of(skin))
        EXPECT_LE(std::acos(skin.points[static_cast<std::size_t>(edge.first)].dot(
                      skin.points[static_cast<std::size_t>(edge.second)])),
                  0.4 + 1e-9);
}

TEST(BentEdges, WhatIsHeldOrShortOrWithinLimitsStays) {
    for (const BentLimits& limits : {BentLimits{0.5, 2.0, 0.01}, BentLimits{0.01, 0.1, 0.8}}) {
        BentSkin skin = octahedron();
        split_bent_edges(skin, limits, ball());
        EXPECT_EQ(skin.triangles.size(), 8U);
        EXPECT_EQ(skin.points.size(), 6U);
    }
    BentSurface held = ball();
    held.place = [](std::size_t first, std::size_t second, const Vec3& p) -> std::optional<Vec3> {
        const auto odd = [](std::size_t t) { return ((t ^ t >> 1U ^ t >> 2U) & 1U) != 0; };
        return odd(first) && odd(second) ? std::optional<Vec3>(p.normalized()) : std::nullopt;
    };
    BentSkin skin = octahedron(); // one of two neighbours is odd
    split_bent_edges(skin, {0.01, 0.1, 0.01}, held);
    EXPECT_EQ(skin.points.size(), 6U);
}

// A place from which a triangle would turn over is not taken.
TEST(BentEdges, NothingTurnsOver) {
    BentSkin skin = octahedron();
    BentSurface wild = ball();
    wild.place = [](std::size_t, std::size_t, const Vec3& p) { return Vec3(-3.0 * p); };
    split_bent_edges(skin, {0.01, 0.1, 0.01}, wild);
    EXPECT_EQ(skin.points.size(), 6U);
    EXPECT_NEAR(volume_inside(skin), 4.0 / 3.0, 1e-12);
}

} // namespace upright
