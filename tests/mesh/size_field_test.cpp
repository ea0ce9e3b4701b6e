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
