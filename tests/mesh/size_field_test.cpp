#include "mesh/size_field.hpp"

#include <gtest/gtest.h>
#include <random>

using namespace upright;

namespace {

Bounds cube(double edge) {
    Bounds out;
    out.include(Vec3::Zero());
    out.include(Vec3::Constant(edge));
    return out;
}

} // namespace

TEST(SizeField, IsTheUsualSizeWhereNothingIsAsked) {
    const SizeField field(cube(10), 2.0, 1.0);
    EXPECT_DOUBLE_EQ(field.at({3.3, 4.4, 5.5}), 2.0);
    EXPECT_DOUBLE_EQ(field.smallest(), 2.0);
    EXPECT_DOUBLE_EQ(field.at({-50, 40, 5}), 2.0); // outside too
}

TEST(SizeField, HasWhatWasAskedForWhereItWasAsked) {
    SizeField field(cube(10), 2.0, 1.0);
    field.ask({4.3, 5.6, 2.1}, 0.5);
    field.ask({4.3, 5.6, 2.1}, 1.5); // the smaller one holds
    EXPECT_LE(field.at({4.3, 5.6, 2.1}), 0.5 + 1e-12);
    EXPECT_DOUBLE_EQ(field.smallest(), 0.5);
    EXPECT_DOUBLE_EQ(field.largest(), 2.0);
}

TEST(SizeField, GrowsNoFasterThanTheGradientOnceLimited) {
    SizeField field(cube(20), 4.0, 1.0);
    field.ask({3, 3, 3}, 0.25);
    field.ask({15, 4, 11}, 1.0);
    const double gradient = 0.3;
    field.limit(gradient);
    std::mt19937 random(5);
    std::uniform_real_distribution<double> in(0.0, 20.0);
    for (int i = 0; i < 2000; ++i) {
        const Vec3 a(in(random), in(random), in(random));
        const Vec3 b(in(random), in(random), in(random));
        // Linear between lattice places: along a diagonal of a cell three slopes may add up.
        EXPECT_LE(std::abs(field.at(a) - field.at(b)), std::sqrt(3.0) * gradient * (a - b).norm() + 1e-9);
    }
    // A place that asks is the middle of a cone: never above its size plus the way at the gradient.
    for (int i = 0; i < 500; ++i) {
        const Vec3 a(in(random), in(random), in(random));
        const double way = (a - Vec3(3, 3, 3)).cwiseAbs().sum();
        EXPECT_LE(field.at(a), std::min(4.0, 0.25 + gradient * way) + 1e-9);
    }
    EXPECT_DOUBLE_EQ(field.smallest(), 0.25);
}

TEST(SizeField, IsExactForSizesThatAreLinear) {
    SizeField field(cube(8), 100.0, 1.0);
    field.each([](const Vec3& p) { return 1.0 + 0.1 * p.x() + 0.2 * p.y() + 0.05 * p.z(); });
    for (const Vec3& p : {Vec3(0.5, 0.5, 0.5), Vec3(3.2, 7.9, 1.1), Vec3(8, 0, 8)})
        EXPECT_NEAR(field.at(p), 1.0 + 0.1 * p.x() + 0.2 * p.y() + 0.05 * p.z(), 1e-12);
}

// Sizes far below the lattice's spacing: kept where they were asked, and no farther around than the gradient
// has it. The integral of 1 / h^3 about one place is what a mesh there costs.
TEST(SizeField, SmallSizesTakeFinerLattices) {
    const double h = 2.0;
    const double gradient = 0.3;
    const Vec3 place(4.31, 5.17, 5.02);
    SizeField field(cube(10), h, 0.5 * h);
    field.ask(place, 0.04);
    field.ask({8.2, 8.2, 8.2}, 0.6);
    field.limit(gradient);
    EXPECT_LE(field.at(place), 0.04 + 1e-12);
    EXPECT_LE(field.at({8.2, 8.2, 8.2}), 0.6 + 1e-12);
    EXPECT_DOUBLE_EQ(field.smallest(), 0.04);
    double points = 0.0;
    double cones = 0.0;
    std::mt19937 random(3);
    std::uniform_real_distribution<double> in(-1.0, 1.0);
    // Shells about the place, so that the small ones are seen: a log-uniform radius.
    const int tries = 40000;
    for (int i = 0; i < tries; ++i) {
        Vec3 way(in(random), in(random), in(random));
        if (way.norm() > 1.0 || way.norm() < 1e-3) continue;
        way.normalize();
        const double r = 0.01 * std::pow(150.0, 0.5 * (in(random) + 1.0));
        const double weight = r * r * r; // r^2 dr for a radius spread evenly over its logarithm
        const double here = field.at(place + r * way);
        // Never above the cone by the ways along the lattice, and never far below it.
        EXPECT_LE(here, std::min(h, 0.08 + 1.75 * gradient * r) + 1e-9);
        points += weight / std::pow(here, 3);
        cones += weight / std::pow(std::min(h, 0.04 + gradient * r), 3);
    }
    EXPECT_LT(points, 3.0 * cones);
    EXPECT_GT(points, 0.3 * cones);
}
