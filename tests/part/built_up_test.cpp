#include "part/solid/built_up.hpp"

#include "base/angles.hpp"

#include <cmath>
#include <gtest/gtest.h>

namespace upright {

namespace {

constexpr double step = 0.5;

// A slab from z = 12 to 16 that sticks out of a wall that ends at x = 4, in a space of 20 x 6 x 20, all of it
// turned so that z is `up`.
struct Slab {
    Eigen::Matrix3d axes; // rows: x, y, z of the slab
    BuiltUpWish wish;

    Slab(const Vec3& up, double angle) {
        axes = axes_along(up);
        wish.box = turned(axes.transpose(), {Vec3::Zero(), Vec3(20, 6, 20)});
        wish.up = up;
        wish.reach = std::tan(angle * degree);
        wish.step = step;
        wish.place = [this](const Vec3& p) {
            const Vec3 q = axes * p;
            if ((q - Vec3(10, 3, 10)).cwiseAbs().cwiseQuotient(Vec3(10, 3, 10)).maxCoeff() > 1.0 + 1e-9)
                return LayerPlace::Nothing;
            return q.x() < 4.0 ? LayerPlace::Solid : LayerPlace::Free;
        };
        wish.field = [this](const Vec3& p) {
            const Vec3 q = axes * p;
            return std::clamp(0.5 + 0.5 * std::min({q.z() - 12.0, 16.0 - q.z(), 18.0 - q.x()}), 0.0, 1.0);
        };
    }
    // Above a level, in the middle of the slab: area of its section.
    template <class Field> double section(const Field& field, double level) const {
        double out = 0.0;
        constexpr double fine = 0.05;
        for (double x = 4.0 + 0.5 * fine; x < 20.0; x += fine)
            for (double z = 0.5 * fine; z < 20.0; z += fine)
                if (field(axes.transpose() * Vec3(x, 3, z)) > level) out += fine * fine;
        return out;
    }
};

} // namespace

// What is left is the wedge that the cone cuts out of the slab, from its lower edge at the wall.
TEST(BuiltUp, ASlabBecomesAWedge) {
    for (const Vec3& up : {Vec3(0, 0, 1), Vec3(0, -1, 0), Vec3(1, 2, 2).normalized().eval()})
        for (const double angle : {30.0, 45.0, 60.0}) {
            const Slab slab(up, angle);
            const LayeredExcess built = built_up(slab.wish);
            const double reach = std::tan(angle * degree);
            EXPECT_NEAR(slab.section(slab.wish.field, 0.5), 4.0 * 14.0, 0.5);
            const double left =
                slab.section([&](const Vec3& p) { return slab.wish.field(p) - built.at(p); }, 0.5);
            // A step to either side of the wedge's slope, which is that long.
            EXPECT_NEAR(left, 0.5 * 4.0 * 4.0 * reach, step * std::hypot(4.0, 4.0 * reach))
                << angle << " " << up.transpose();
        }
}

TEST(BuiltUp, WhatStandsOnAPlateStays) {
    Slab slab(Vec3(0, 0, 1), 45.0);
    // A pillar that widens by 40 degrees, and leans on nothing.
    slab.wish.place = [](const Vec3& p) {
        return (p - Vec3(10, 3, 10)).cwiseAbs().cwiseQuotient(Vec3(10, 3, 10)).maxCoeff() > 1.0 + 1e-9
                   ? LayerPlace::Nothing
                   : LayerPlace::Free;
    };
    slab.wish.field = [](const Vec3& p) {
        return std::clamp(0.5 + 0.5 * (3.0 + p.z() * std::tan(40.0 * degree) - std::abs(p.x() - 10.0)), 0.0,
                          1.0);
    };
    const LayeredExcess standing = built_up(slab.wish);
    slab.wish.plate = false;
    const LayeredExcess floating = built_up(slab.wish);
    for (double x = 0.3; x < 20; x += 0.7)
        for (double z = 0.1; z < 20; z += 0.9) {
            const Vec3 p(x, 3.1, z);
            EXPECT_LT(standing.at(p), 0.05) << p.transpose();
            EXPECT_LT(slab.wish.field(p) - floating.at(p), 1e-6) << p.transpose();
        }
}

// Of any field and at any level: below each place that is left there is one that is left, within the cone and
// a step. The slope is that of central differences.
TEST(BuiltUp, EveryPlaceThatIsLeftIsBorne) {
    Slab slab(Vec3(1, 2, 2).normalized(), 45.0);
    slab.wish.field = [&](const Vec3& p) {
        return 0.5 + 0.5 * std::sin(0.9 * p.x() + 0.3 * p.z()) * std::cos(0.8 * p.y() - 0.2 * p.x()) *
                         std::sin(0.7 * p.z() + 1.0);
    };
    const LayeredExcess built = built_up(slab.wish);
    const auto left = [&](const Vec3& p) { return slab.wish.field(p) - built.at(p); };
    int looked = 0;
    int differs = 0;
    for (double x = 5.3; x < 19; x += 0.63)
        for (double y = 1.2; y < 5; y += 0.59)
            for (double z = 4.1; z < 19; z += 0.71) {
                const Vec3 p = slab.axes.transpose() * Vec3(x, y, z);
                const double here = left(p);
                for (const double level : {0.3, 0.5, 0.7}) {
                    if (here <= level + 0.12) continue;
                    ++looked;
                    bool borne = false;
                    const double down = 2.0 * step;
                    const double reach = down + step;
                    for (double a = -reach; a <= reach && !borne; a += 0.25)
                        for (double b = -reach; b <= reach && !borne; b += 0.25) {
                            if (std::hypot(a, b) > reach) continue;
                            const Vec3 q = slab.axes.transpose() * Vec3(x + a, y + b, z - down);
                            borne = slab.wish.place(q) == LayerPlace::Solid || left(q) > level - 0.12;
                        }
                    EXPECT_TRUE(borne) << x << " " << y << " " << z << " at " << level;
                }
                Vec3 slope;
                built.at(p, slope);
                for (int a = 0; a < 3; ++a) {
                    const Vec3 h = 1e-5 * Vec3::Unit(a);
                    const double by = (built.at(p + h) - built.at(p - h)) / 2e-5;
                    if (std::abs(by - slope[a]) > 1e-4 * (1.0 + std::abs(by))) ++differs;
                }
            }
    EXPECT_GT(looked, 300);
    EXPECT_LT(differs, 10); // at the borders of steps alone
}

} // namespace upright
