// What holds for the distance of any shape, tried at places without number: it changes no faster than one
// walks, its sign is that of `contains`, boxes and balls agree with it, and nothing on the surface is nearer.
#include "geometry/distance.hpp"

#include "base/angles.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <gtest/gtest.h>
#include <memory>
#include <ostream>
#include <random>
#include <string>
#include <vector>

namespace upright {
namespace {

struct Case {
    std::string name;
    Shape shape;
    double volume = 0.0; // area in the plane; 0: endless
    bool plane = false;
    bool exact = true; // the cone's distance is a lower bound
    friend std::ostream& operator<<(std::ostream& out, const Case& c) { return out << c.name; }
};

Mat3 turned() {
    return (Eigen::AngleAxisd(0.7, Vec3(1, 2, -1).normalized())).toRotationMatrix();
}

std::shared_ptr<const AnyShape> any(Shape shape) {
    return std::make_shared<AnyShape>(AnyShape{std::move(shape)});
}

std::vector<Case> shapes() {
    const std::vector<Vec2> l{{0, 0}, {4, 0}, {4, 2}, {2, 2}, {2, 4}, {0, 4}};
    const Box box{Vec3(-1, 0, 2), Vec3(2, 4, 3)};
    const Cylinder tilted{Vec3(0, 1, 0), Vec3(3, 2, 2), 1.2};
    return {{"Box", box, 3.0 * 4.0 * 1.0},
            {"Cylinder", Cylinder{Vec3(0, 0, -1), Vec3(0, 0, 3), 1.5}, pi * 1.5 * 1.5 * 4},
            {"TiltedCylinder", tilted, pi * 1.2 * 1.2 * std::sqrt(14.0)},
            {"Cone", Cone{Vec3(0, 0, 0), Vec3(0, 0, 4), 2.0, 0.5}, pi * 4 / 3 * (4 + 1 + 0.25), false, false},
            {"Sphere", Sphere{Vec3(1, -1, 0.5), 1.7}, 4.0 / 3.0 * pi * std::pow(1.7, 3)},
            {"Prism", Prism{l, Vec3(-2, -1, 0), Vec3(-2, 2, 0)}, 12.0 * 3.0},
            {"TiltedPrism", Prism{{{0, 0}, {2, 0}, {1, 2}}, Vec3(0, 0, 0), Vec3(2, 1, 2)}, 2.0 * 3.0},
            {"HalfSpace", HalfSpace{Vec3(0.3, 0, 0), Vec3(1, 1, 0.5).normalized()}},
            {"PlacedBox", Placed{any(box), turned(), Vec3(0.5, -1, 0)}, 12.0},
            {"PlacedTwice",
             Placed{any(Placed{any(tilted), turned(), Vec3(0, 0, 1)}), turned(), Vec3(1, 0, 0)},
             pi * 1.2 * 1.2 * std::sqrt(14.0)},
            {"Outside", Outside{any(Sphere{Vec3(0, 0, 0), 2.0})}},
            {"Disk", Disk{Vec3(0.5, 0, 0), 2.0, 0.0}, pi * 4.0, true},
            {"Ring", Disk{Vec3(0.5, 0, 0), 2.0, 1.2}, pi * (4.0 - 1.44), true},
            {"Polygon", Polygon{l}, 12.0, true},
            {"FlatBox", Box{Vec3(-1, -2, 0), Vec3(2, 1, 0)}, 9.0, true}};
}

class ShapeDistance : public testing::TestWithParam<Case> {
  protected:
    // Places in a cube about the shapes; in the plane with z = 0.
    Vec3 place() {
        const auto one = [&] { return 16.0 * static_cast<double>(random_()) / 4294967295.0 - 8.0; };
        const double x = one();
        const double y = one();
        return {x, y, GetParam().plane ? 0.0 : one()};
    }
    double at(const Vec3& p) const { return signed_distance(GetParam().shape, p); }
    std::mt19937 random_{20260402};
};

} // namespace

TEST_P(ShapeDistance, ChangesNoFasterThanOneWalks) {
    for (int i = 0; i < 4000; ++i) {
        const Vec3 p = place();
        const Vec3 q = i % 2 == 0 ? place() : Vec3(p + 0.01 * place());
        EXPECT_LE(std::abs(at(p) - at(q)), (p - q).norm() * (1 + 1e-9) + 1e-12)
            << p.transpose() << " | " << q.transpose();
    }
}

TEST_P(ShapeDistance, HasTheSignThatContainsHas) {
    for (int i = 0; i < 4000; ++i) {
        const Vec3 p = place();
        const double d = at(p);
        if (std::abs(d) < 1e-9) continue;
        EXPECT_EQ(contains(GetParam().shape, p, 0.0), d < 0.0) << p.transpose();
        if (!GetParam().exact) continue;
        for (const double tolerance : {0.01, 0.5})
            if (std::abs(d - tolerance) > 1e-9)
                EXPECT_EQ(contains(GetParam().shape, p, tolerance), d < tolerance)
                    << p.transpose() << tolerance;
    }
}

TEST_P(ShapeDistance, BallsWhollyOnOneSideAre) {
    for (int i = 0; i < 4000; ++i) {
        const Vec3 p = place();
        const double d = at(p);
        for (const double radius : {0.1, 0.7, 2.0}) {
            const int side = side_of_ball(GetParam().shape, p, radius);
            if (side > 0) EXPECT_GE(d, radius * (GetParam().exact ? 1 - 1e-9 : 0.0)) << p.transpose();
            if (side < 0) EXPECT_LE(d, 0.0) << p.transpose();
            // Where the surface passes through the ball it is on neither side.
            if (GetParam().exact && std::abs(d) < radius * (1 - 1e-9))
                EXPECT_EQ(side, 0) << p.transpose() << radius;
        }
    }
}

TEST_P(ShapeDistance, LiesInItsBox) {
    const Bounds box = bounds(GetParam().shape);
    if (GetParam().volume == 0.0) {
        if (GetParam().name == "HalfSpace") EXPECT_TRUE(box.empty());
        return;
    }
    ASSERT_FALSE(box.empty());
    Bounds seen;
    for (int i = 0; i < 40000; ++i) {
        const Vec3 p = place();
        if (at(p) >= 0.0) continue;
        EXPECT_TRUE(box.holds(p, 1e-9)) << p.transpose();
        seen.include(p);
    }
    // And the box is no larger than it has to be.
    for (int a = 0; a < (GetParam().plane ? 2 : 3); ++a) {
        // Of a turned shape the box is that of its turned box.
        EXPECT_GT(seen.size()[a], (GetParam().name.find("Placed") == 0 ? 0.3 : 0.6) * box.size()[a]);
        EXPECT_LT(seen.size()[a], 1.0001 * box.size()[a]);
    }
}

// The surface by bisection along many lines; then no place of it is nearer than the distance says, and one is
// about as near.
TEST_P(ShapeDistance, IsThatToTheNearestPlaceOfTheSurface) {
    // Lines from the rarer side to the other.
    std::vector<Vec3> inside;
    std::vector<Vec3> outside;
    for (int i = 0; i < 20000; ++i) {
        const Vec3 p = place();
        (at(p) < 0.0 ? inside : outside).push_back(p);
    }
    ASSERT_FALSE(inside.empty());
    ASSERT_FALSE(outside.empty());
    std::vector<Vec3> surface;
    for (std::size_t i = 0; i < 8000; ++i) {
        Vec3 a = inside[i % inside.size()];
        Vec3 b = outside[i % outside.size()];
        for (int k = 0; k < 50; ++k) {
            const Vec3 m = 0.5 * (a + b);
            (at(m) < 0.0 ? a : b) = m;
        }
        surface.push_back(0.5 * (a + b));
    }
    ASSERT_GT(surface.size(), 300U);
    for (const Vec3& p : surface) EXPECT_LT(std::abs(at(p)), 1e-9);
    for (int i = 0; i < 60; ++i) {
        const Vec3 p = place();
        double nearest = 1e300;
        for (const Vec3& s : surface) nearest = std::min(nearest, (s - p).norm());
        EXPECT_GE(nearest, std::abs(at(p)) - 1e-9) << p.transpose();
        if (GetParam().exact && GetParam().volume > 0.0)
            EXPECT_LT(nearest, std::abs(at(p)) + (GetParam().plane ? 0.15 : 0.8)) << p.transpose();
    }
}

TEST_P(ShapeDistance, EnclosesItsVolume) {
    if (GetParam().volume == 0.0) return;
    const int n = 300000;
    int in = 0;
    for (int i = 0; i < n; ++i) in += contains(GetParam().shape, place(), 0.0) ? 1 : 0;
    const double whole = GetParam().plane ? 256.0 : 4096.0;
    const double found = whole * in / n;
    // Four standard deviations of so many tries.
    const double share = GetParam().volume / whole;
    EXPECT_NEAR(found, GetParam().volume, 4.0 * whole * std::sqrt(share * (1 - share) / n));
}

TEST_P(ShapeDistance, ItsOutlineLiesOnIt) {
    for (const auto& [a, b] : outline(GetParam().shape)) {
        EXPECT_LT(std::abs(at(a)), 1e-6) << a.transpose();
        EXPECT_LT(std::abs(at(b)), 1e-6) << b.transpose();
    }
}

INSTANTIATE_TEST_SUITE_P(All, ShapeDistance, testing::ValuesIn(shapes()),
                         [](const testing::TestParamInfo<Case>& info) { return info.param.name; });

} // namespace upright
