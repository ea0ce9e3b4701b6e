// Curved triangles against spheres and against their own definition by other polynomials.
#include "geometry/curved_triangle.hpp"

#include "base/angles.hpp"

#include <Eigen/Geometry>
#include <cmath>
#include <gtest/gtest.h>

namespace upright {
namespace {

// A great circle's arc of the unit sphere.
Cubic arc(const Vec3& a, const Vec3& b) {
    const double angle = std::acos(a.dot(b));
    const double handle = 4.0 / 3.0 * std::tan(angle / 4.0);
    return {a, a + handle * (b - a.dot(b) * a).normalized(), b + handle * (a - a.dot(b) * b).normalized(), b};
}

// On the unit sphere, with unequal sides of some 20 to 40 degrees.
CurvedTriangle on_sphere(double wide = 0.5) {
    const Vec3 a = Vec3(0.1, -wide, 1.0).normalized();
    const Vec3 b = Vec3(wide, 0.2 * wide, 1.0).normalized();
    const Vec3 c = Vec3(-0.3 * wide, wide, 1.1).normalized();
    return CurvedTriangle({arc(a, b), arc(b, c), arc(c, a)});
}

// The square's control points, by de Casteljau's steps.
Vec3 of_square(std::vector<Vec3> net, std::size_t degree, double u, double v) {
    const std::size_t wide = degree + 1;
    for (std::size_t n = degree; n > 0; --n)
        for (std::size_t i = 0; i < n; ++i)
            for (std::size_t j = 0; j < n; ++j) {
                const auto at = [&](std::size_t k, std::size_t l) { return net[k * wide + l]; };
                net[i * wide + j] = (1.0 - u) * ((1.0 - v) * at(i, j) + v * at(i, j + 1)) +
                                    u * ((1.0 - v) * at(i + 1, j) + v * at(i + 1, j + 1));
            }
    return net[0];
}

double off_sphere(const CurvedTriangle& t) { // the largest angle at its sides, in degrees
    double out = 0.0;
    for (std::size_t side = 0; side < 3; ++side)
        for (int i = 1; i < 40; ++i) {
            const double s = i / 40.0;
            const Vec3 at = side == 0   ? t.point(s, 0.0)
                            : side == 1 ? t.point(1.0 - s, s)
                                        : t.point(0.0, 1.0 - s);
            out = std::max(out, std::acos(std::min(t.normal(side, s).dot(at.normalized()), 1.0)) / degree);
        }
    return out;
}

} // namespace

TEST(CurvedTriangle, CornersAndSidesAreThoseGiven) {
    const CurvedTriangle t = on_sphere();
    const CurvedTriangle high = t.raised(7);
    const Cubic first = arc(t.point(0, 0), t.point(1, 0));
    for (const double s : {0.0, 0.3, 0.8, 1.0}) {
        EXPECT_NEAR((high.point(s, 0.0) - first.at(s)).norm(), 0.0, 1e-14);
        EXPECT_NEAR((t.point(s, 0.0) - first.at(s)).norm(), 0.0, 1e-14);
        EXPECT_NEAR(high.point(0.0, s).norm(), 1.0, 1e-4); // arcs of cubics
    }
}

TEST(CurvedTriangle, AHigherDegreeIsTheSameSurface) {
    const CurvedTriangle t = on_sphere();
    for (std::size_t n = 4; n <= CurvedTriangle::most; ++n) {
        const CurvedTriangle high = t.raised(n);
        EXPECT_EQ(high.degree(), n);
        const std::vector<Vec3> square = high.square();
        ASSERT_EQ(square.size(), (n + 1) * (n + 1));
        for (const auto& [u, v] : {std::pair{0.2, 0.3}, {0.7, 0.1}, {0.0, 0.5}, {0.5, 0.5}, {1.0, 0.0}}) {
            EXPECT_NEAR((high.point(u, v) - t.point(u, v)).norm(), 0.0, 1e-14);
            EXPECT_NEAR((of_square(square, n, u, v) - t.point(u, v)).norm(), 0.0, 1e-12) << n;
        }
        for (std::size_t side = 0; side < 3; ++side)
            EXPECT_NEAR((high.normal(side, 0.37) - t.normal(side, 0.37)).norm(), 0.0, 1e-12);
    }
}

// Normals against the cross product of differences of points.
TEST(CurvedTriangle, NormalsAreThoseOfTheSurface) {
    CurvedTriangle t = on_sphere().raised(6);
    t.meet({{1, 0.5, Vec3(0.1, 0.3, 1.0).normalized()}});
    constexpr double h = 1e-6;
    for (const double s : {0.2, 0.5, 0.9}) {
        const Vec3 along = t.point(1.0 - s - h, s + h) - t.point(1.0 - s + h, s - h);
        const Vec3 in = t.point(1.0 - s - h, s) - t.point(1.0 - s, s);
        EXPECT_NEAR((along.cross(in).normalized() - t.normal(1, s)).norm(), 0.0, 1e-4);
    }
}

// Given the sphere's normals at its places it has them there, and almost so between.
TEST(CurvedTriangle, MeetsTheNormalsOfASphere) {
    for (const double wide : {0.3, 0.5}) {
        const double before = off_sphere(on_sphere(wide));
        EXPECT_GT(before, 0.05);
        for (std::size_t n = 5; n <= CurvedTriangle::most; ++n) {
            CurvedTriangle t = on_sphere(wide).raised(n);
            std::vector<CurvedTriangle::Asked> asked;
            const CurvedTriangle fixed = t;
            for (std::size_t side = 0; side < 3; ++side)
                for (std::size_t i = 1; i < n - 2; ++i) {
                    const double s = static_cast<double>(i) / static_cast<double>(n - 2);
                    const Vec3 at = side == 0   ? t.point(s, 0.0)
                                    : side == 1 ? t.point(1.0 - s, s)
                                                : t.point(0.0, 1.0 - s);
                    asked.push_back({side, s, at.normalized()});
                }
            t.meet(asked);
            for (const CurvedTriangle::Asked& a : asked)
                EXPECT_LT(std::acos(std::min(t.normal(a.side, a.s).dot(a.normal), 1.0)) / degree, 0.02) << n;
            const double after = off_sphere(t);
            EXPECT_LT(after, before / 4.0) << n;
            if (n > 5) EXPECT_LT(after, 0.02) << n;
            for (const double s : {0.1, 0.6}) // its sides stay
                EXPECT_NEAR((t.point(s, 1.0 - s) - fixed.point(s, 1.0 - s)).norm(), 0.0, 1e-14);
        }
    }
}

// What cannot be met leaves it as it is.
TEST(CurvedTriangle, StaysWhereItHasNoAnswer) {
    CurvedTriangle t = on_sphere().raised(5);
    const Vec3 before = t.point(0.3, 0.3);
    t.meet({});
    EXPECT_EQ(t.point(0.3, 0.3), before);
    t.meet({{0, 0.5, Vec3::Constant(std::nan(""))}});
    EXPECT_EQ(t.point(0.3, 0.3), before);
    // Two normals at almost one place that contradict each other would take it far away.
    const Vec3 up = t.normal(0, 0.5);
    const Vec3 side = up.cross(t.point(1.0, 0.0) - t.point(0.0, 0.0)).normalized();
    t.meet({{0, 0.5, (up + 0.9 * side).normalized()}, {0, 0.5001, (up - 0.9 * side).normalized()}});
    EXPECT_LT((t.point(0.3, 0.3) - before).norm(), 4.0);
}

} // namespace upright
