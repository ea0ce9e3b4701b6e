#include "base/angles.hpp"
#include "part/lean.hpp"
#include "part/solid/drafted.hpp"

#include <algorithm>
#include <cmath>
#include <gtest/gtest.h>

namespace upright {

namespace {

// A field that is 0.5 on the border of a body, told by the distance from it, which is positive within.
double blurred(double inside) {
    return std::clamp(0.5 + 0.08 * inside, 0.0, 1.0);
}

// A space of 60 x 60 x 40, turned so that z is along the draw.
struct DrawnSpace {
    Eigen::Matrix3d axes; // rows: x, y, z of the space
    DraftWish wish;

    DrawnSpace(const Vec3& along, double angle, const std::function<double(const Vec3&)>& inside) {
        axes = axes_along(along);
        wish.box = turned(axes.transpose(), {Vec3::Zero(), Vec3(60, 60, 40)});
        wish.up = along;
        wish.lean = std::tan(angle * degree);
        wish.step = 0.75;
        wish.place = [](const Vec3&) { return LayerPlace::Free; };
        wish.field = [by = axes, inside](const Vec3& p) { return blurred(inside(by * p)); };
    }
    // How far a body's border at half the field lies from the place (30, 30) along (dx, dy), at a height.
    double radius(const LayeredExcess& gone, double dx, double dy, double z) const {
        double low = 0.0;
        double high = 29.0;
        for (int i = 0; i < 40; ++i) {
            const double r = 0.5 * (low + high);
            const Vec3 p = axes.transpose() * Vec3(30 + r * dx, 30 + r * dy, z);
            (wish.field(p) - gone.at(p) > 0.5 ? low : high) = r;
        }
        return 0.5 * (low + high);
    }
};

} // namespace

// A disc's wall becomes a cone, a hole in it widens as much, a square keeps its corners straight.
TEST(Drafted, WallsBecomeCones) {
    for (const Vec3& along : {Vec3(0, 0, 1), Vec3(0, -1, 0), Vec3(1, 2, 2).normalized().eval()})
        for (const double angle : {1.0, 2.0, 5.0, 10.0}) {
            DrawnSpace disc(along, angle,
                            [](const Vec3& p) { return 20.0 - std::hypot(p.x() - 30, p.y() - 30); });
            disc.wish.parting = 0.0;
            const LayeredExcess gone = drafted(disc.wish);
            for (const double z : {5.0, 20.0, 35.0})
                for (const double turn : {0.0, 0.4, 1.1, 2.9}) {
                    const double expected = 20.0 - z * disc.wish.lean;
                    EXPECT_NEAR(disc.radius(gone, std::cos(turn), std::sin(turn), z), expected,
                                0.03 + 0.03 * z * disc.wish.lean)
                        << angle << " " << z << " " << turn;
                }
            DrawnSpace hole(along, angle,
                            [](const Vec3& p) { return std::hypot(p.x() - 30, p.y() - 30) - 12.0; });
            hole.wish.field = [&, inside = hole.wish.field](const Vec3& p) { return 1.0 - inside(p); };
            const LayeredExcess closed = drafted(hole.wish);
            EXPECT_NEAR(hole.radius(closed, 1.0, 0.0, 30.0), 12.0 - 30.0 * hole.wish.lean,
                        0.03 + 0.03 * 30.0 * hole.wish.lean);
            DrawnSpace square(along, angle, [](const Vec3& p) {
                return 20.0 - std::max(std::abs(p.x() - 30), std::abs(p.y() - 30));
            });
            const LayeredExcess cut = drafted(square.wish);
            EXPECT_NEAR(square.radius(cut, 1.0, 0.0, 30.0), 20.0 - 30.0 * square.wish.lean,
                        0.03 + 0.03 * 30.0 * square.wish.lean);
        }
}

// From a parting both ways; with one die nothing below its base is touched.
TEST(Drafted, TwoDiesLeanBothWays) {
    for (const bool two : {true, false}) {
        DrawnSpace disc(Vec3(0, 0, 1), 4.0,
                        [](const Vec3& p) { return 20.0 - std::hypot(p.x() - 30, p.y() - 30); });
        disc.wish.two = two;
        disc.wish.parting = 15.0;
        const LayeredExcess gone = drafted(disc.wish);
        EXPECT_NEAR(disc.radius(gone, 1, 0, 35.0), 20.0 - 20.0 * disc.wish.lean, 0.1);
        EXPECT_NEAR(disc.radius(gone, 1, 0, 15.0), 20.0, 0.06);
        EXPECT_NEAR(disc.radius(gone, 1, 0, 1.0), two ? 20.0 - 14.0 * disc.wish.lean : 20.0, 0.1);
    }
}

// What leans back already stays as it is, and so does what ends at a kept shape; above one a wall begins
// anew.
TEST(Drafted, NothingIsTakenThatNeedNot) {
    DrawnSpace cone(Vec3(0, 0, 1), 3.0, [](const Vec3& p) {
        return 22.0 - p.z() * std::tan(6.0 * degree) - std::hypot(p.x() - 30, p.y() - 30);
    });
    const LayeredExcess none = drafted(cone.wish);
    for (double z = 0.0; z < 40.0; z += 3.1) EXPECT_LT(none.at(Vec3(49, 30, z)), 0.01) << z;

    // A kept shelf through the disc from z = 18 to 20.
    DrawnSpace shelf(Vec3(0, 0, 1), 4.0,
                     [](const Vec3& p) { return 20.0 - std::hypot(p.x() - 30, p.y() - 30); });
    shelf.wish.place = [](const Vec3& p) {
        return p.z() > 18.0 && p.z() < 20.0 ? LayerPlace::Solid : LayerPlace::Free;
    };
    const LayeredExcess anew = drafted(shelf.wish);
    EXPECT_NEAR(shelf.radius(anew, 0, 1, 17.0), 20.0 - 17.0 * shelf.wish.lean, 0.1);
    EXPECT_NEAR(shelf.radius(anew, 0, 1, 21.0), 20.0, 0.15);
    EXPECT_NEAR(shelf.radius(anew, 0, 1, 38.0), 20.0 - 17.5 * shelf.wish.lean, 0.15);

    // A kept pillar at the disc's border: design beside it has no wall there.
    DrawnSpace pillar(Vec3(0, 0, 1), 5.0, [](const Vec3& p) { return 50.0 - p.x(); });
    pillar.wish.place = [](const Vec3& p) { return p.x() > 40.0 ? LayerPlace::Solid : LayerPlace::Free; };
    const LayeredExcess beside = drafted(pillar.wish);
    for (double z = 0.0; z < 40.0; z += 3.1) EXPECT_EQ(beside.at(Vec3(38, 30, z)), 0.0) << z;
}

// A cone of flat triangles between two rings that are turned against each other: its facets lean to and fro.
TEST(Lean, WallsThatBendAreMeasuredOverALength) {
    constexpr int around = 24;
    constexpr int layers_up = 10;
    for (const double angle : {-3.0, 0.0, 2.0}) {
        Triangles cone;
        for (int k = 0; k <= layers_up; ++k)
            for (int i = 0; i < around; ++i) {
                const double turn = 2.0 * pi * (i + 0.5 * (k % 2)) / around;
                const double r = 20.0 - 4.0 * k * std::tan(angle * degree);
                cone.points.emplace_back(r * std::cos(turn), r * std::sin(turn), 4.0 * k);
            }
        for (int k = 0; k < layers_up; ++k)
            for (int i = 0; i < around; ++i) {
                const int j = (i + 1) % around;
                const int low = k * around;
                const int up = low + around;
                if (k % 2 == 0) {
                    cone.corners.push_back({low + i, low + j, up + i});
                    cone.corners.push_back({low + j, up + j, up + i});
                } else {
                    cone.corners.push_back({low + i, up + j, up + i});
                    cone.corners.push_back({low + i, low + j, up + j});
                }
            }
        const std::vector<bool> all(cone.corners.size(), true);
        const std::vector<double> own = leans(cone, all, {}, 0.0);
        const std::vector<double> wall = leans(cone, all, {}, 8.0);
        EXPECT_GT(*std::max_element(own.begin(), own.end()) - *std::min_element(own.begin(), own.end()), 4.0);
        for (std::size_t t = 0; t < wall.size(); ++t) {
            const int k = static_cast<int>(t) / (2 * around);
            if (k < 2 || k > layers_up - 3) continue; // where it ends there is one kind more than the other
            EXPECT_NEAR(wall[t], angle, 0.6) << t;
        }
        // Of two dies: below the parting the other way round; without a plane either way.
        Dies dies;
        dies.two = true;
        dies.parting = 20.0;
        const std::vector<double> parted = leans(cone, all, dies, 8.0);
        for (std::size_t t = 0; t < parted.size(); ++t) {
            const int k = static_cast<int>(t) / (2 * around);
            if (std::abs(k - 4.5) < 2.5 || k < 2 || k > layers_up - 3) continue;
            EXPECT_EQ(parted[t], k < layers_up / 2 ? -wall[t] : wall[t]);
        }
        dies.parting.reset();
        for (const double lean : leans(cone, all, dies, 8.0)) EXPECT_GE(lean, 0.0);
        const std::vector<bool> none(cone.corners.size(), false);
        for (const double lean : leans(cone, none, dies, 8.0)) EXPECT_EQ(lean, 0.0);
    }
}

// Two cones on one another, as two dies leave them: up to where they part their walls lean back.
TEST(Lean, TheMeanDoesNotGoAcrossTheParting) {
    constexpr int around = 90;
    Triangles part;
    for (int k = 0; k <= 20; ++k)
        for (int i = 0; i < around; ++i) {
            const double turn = 2.0 * pi * i / around;
            const double r = 30.0 - std::abs(k - 10) * 2.0 * std::tan(5.0 * degree);
            part.points.emplace_back(r * std::cos(turn), r * std::sin(turn), 2.0 * k);
        }
    for (int k = 0; k < 20; ++k)
        for (int i = 0; i < around; ++i) {
            const int j = (i + 1) % around;
            const int low = k * around;
            const int up = low + around;
            part.corners.push_back({low + i, low + j, up + i});
            part.corners.push_back({low + j, up + j, up + i});
        }
    const std::vector<bool> all(part.corners.size(), true);
    Dies dies;
    dies.two = true;
    dies.parting = 20.0;
    for (const double lean : leans(part, all, dies, 6.0)) EXPECT_NEAR(lean, 5.0, 0.1);
    dies.parting = 12.0; // what lies between leans over for the upper die
    int over = 0;
    for (const double lean : leans(part, all, dies, 0.5)) over += lean < -4.0 ? 1 : 0;
    EXPECT_EQ(over, 4 * 2 * around);
}

} // namespace upright
