#include "geometry/distance.hpp"

#include <gtest/gtest.h>

using namespace upright;

TEST(SignedDistance, Box) {
    const Shape box = Box{Vec3(0, 0, 0), Vec3(2, 4, 6)};
    EXPECT_DOUBLE_EQ(signed_distance(box, Vec3(1, 2, 3)), -1.0);
    EXPECT_DOUBLE_EQ(signed_distance(box, Vec3(5, 2, 3)), 3.0);
    EXPECT_DOUBLE_EQ(signed_distance(box, Vec3(5, 8, 3)), 5.0); // nearest an edge: 3-4-5
}

TEST(SignedDistance, CylinderAlongAnyAxis) {
    const Shape c = Cylinder{Vec3(0, 0, 0), Vec3(3, 4, 0), 2.0};
    EXPECT_NEAR(signed_distance(c, Vec3(1.5, 2, 0)), -2.0, 1e-12);
    EXPECT_NEAR(signed_distance(c, Vec3(1.5, 2, 5)), 3.0, 1e-12);
    EXPECT_NEAR(signed_distance(c, Vec3(6, 8, 0)), 5.0, 1e-12);   // beyond the end
    EXPECT_NEAR(signed_distance(c, Vec3(6, 8, 14)), 13.0, 1e-12); // 5 along, 12 out
}

TEST(SignedDistance, SphereConeDiskPolygonPrism) {
    EXPECT_DOUBLE_EQ(signed_distance(Sphere{Vec3(1, 1, 1), 2}, Vec3(1, 1, 6)), 3.0);
    const Shape cone = Cone{Vec3(0, 0, 0), Vec3(0, 0, 4), 4.0, 1.0};
    EXPECT_LT(signed_distance(cone, Vec3(2, 0, 2)), 0.0);
    EXPECT_GT(signed_distance(cone, Vec3(2.6, 0, 2)), 0.0);
    EXPECT_NEAR(signed_distance(cone, Vec3(2.5, 0, 2)), 0.0, 1e-12);
    const Shape ring = Disk{Vec3(0, 0, 0), 5, 2};
    EXPECT_DOUBLE_EQ(signed_distance(ring, Vec3(1, 0, 0)), 1.0);
    EXPECT_DOUBLE_EQ(signed_distance(ring, Vec3(3, 0, 0)), -1.0);
    // An L: the notch is outside.
    const std::vector<Vec2> l{{0, 0}, {4, 0}, {4, 2}, {2, 2}, {2, 4}, {0, 4}};
    EXPECT_DOUBLE_EQ(signed_distance(Polygon{l}, Vec3(3, 3, 0)), 1.0);
    EXPECT_DOUBLE_EQ(signed_distance(Polygon{l}, Vec3(1, 1, 0)), -1.0);
    // Swept along y, the polygon's numbers are x and z.
    const Shape prism = Prism{l, Vec3(10, 0, 20), Vec3(10, 5, 20)};
    EXPECT_DOUBLE_EQ(signed_distance(prism, Vec3(11, 2, 23)), -1.0);
    EXPECT_DOUBLE_EQ(signed_distance(prism, Vec3(13, 2, 23)), 1.0);
    EXPECT_DOUBLE_EQ(signed_distance(prism, Vec3(11, 8, 21)), 3.0);
}

TEST(Bounds, HoldTheShape) {
    const Bounds b = bounds(Cylinder{Vec3(0, 0, 0), Vec3(0, 0, 3), 2});
    EXPECT_NEAR((b.low - Vec3(-2, -2, 0)).norm(), 0, 1e-12);
    EXPECT_NEAR((b.high - Vec3(2, 2, 3)).norm(), 0, 1e-12);
    const Bounds tilted = bounds(Cylinder{Vec3(0, 0, 0), Vec3(1, 1, 0), 1});
    EXPECT_NEAR(tilted.low.x(), -std::sqrt(0.5), 1e-12);
    EXPECT_NEAR(tilted.high.z(), 1.0, 1e-12);
}
