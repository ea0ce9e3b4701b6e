// Triangles of the plane: their borders, areas and angles.
#include "mesh/flat_mesher.hpp"

#include "base/angles.hpp"

#include <cmath>
#include <gtest/gtest.h>
#include <map>

using namespace upright;

namespace {

// A lattice of squares cut in two over [0, w] x [0, h]; the region of each by its middle.
FlatInput lattice(double w, double h, int nx, int ny, const std::function<int(const Vec2&)>& region) {
    FlatInput out;
    for (int j = 0; j <= ny; ++j)
        for (int i = 0; i <= nx; ++i) out.points.emplace_back(w * i / nx, h * j / ny);
    const auto at = [&](int i, int j) { return j * (nx + 1) + i; };
    const auto add = [&](int a, int b, int c) {
        const Vec2 middle =
            (out.points[static_cast<std::size_t>(a)] + out.points[static_cast<std::size_t>(b)] +
             out.points[static_cast<std::size_t>(c)]) /
            3.0;
        out.triangles.push_back({a, b, c});
        out.region.push_back(region(middle));
    };
    for (int j = 0; j < ny; ++j)
        for (int i = 0; i < nx; ++i) {
            add(at(i, j), at(i + 1, j), at(i + 1, j + 1));
            add(at(i, j), at(i + 1, j + 1), at(i, j + 1));
        }
    return out;
}

// A ring of `around` pieces between two circles about the middle of what is outside.
FlatInput ring(double inner, double outer, int around) {
    FlatInput out;
    for (const double r : {inner, outer})
        for (int i = 0; i < around; ++i)
            out.points.emplace_back(r * std::cos(2 * pi * i / around), r * std::sin(2 * pi * i / around));
    for (int i = 0; i < around; ++i) {
        const int j = (i + 1) % around;
        out.triangles.push_back({i, around + i, around + j});
        out.triangles.push_back({i, around + j, j});
        out.region.insert(out.region.end(), {0, 0});
    }
    return out;
}

double area(const std::array<Vec2, 3>& p) {
    const Vec2 u = p[1] - p[0], v = p[2] - p[0];
    return 0.5 * (u.x() * v.y() - u.y() * v.x());
}

struct Facts {
    std::map<int, double> area;
    double smallest_angle = 180.0, longest = 0.0, shortest = 1e300;
};
Facts facts_of(const FlatTriangles& mesh) {
    Facts out;
    std::map<std::pair<int, int>, int> edges;
    for (std::size_t t = 0; t < mesh.triangles.size(); ++t) {
        std::array<Vec2, 3> p;
        for (std::size_t i = 0; i < 3; ++i)
            p[i] = mesh.points[static_cast<std::size_t>(mesh.triangles[t][i])];
        EXPECT_GT(area(p), 0.0);
        out.area[mesh.region[t]] += area(p);
        for (std::size_t i = 0; i < 3; ++i) {
            const Vec2 u = (p[(i + 1) % 3] - p[i]), v = (p[(i + 2) % 3] - p[i]);
            out.smallest_angle =
                std::min(out.smallest_angle, std::acos(u.normalized().dot(v.normalized())) / degree);
            out.longest = std::max(out.longest, u.norm());
            out.shortest = std::min(out.shortest, u.norm());
            ++edges[std::minmax(mesh.triangles[t][i], mesh.triangles[t][(i + 1) % 3])];
        }
    }
    for (const auto& [edge, times] : edges) EXPECT_LE(times, 2);
    return out;
}

} // namespace

TEST(FlatMesher, FillsARectangleWithGoodTriangles) {
    for (const double size : {0.7, 1.0, 2.3}) {
        FlatOptions options;
        options.size = size;
        const FlatTriangles mesh =
            make_flat_triangles(lattice(10, 4, 3, 2, [](const Vec2&) { return 0; }), options);
        const Facts facts = facts_of(mesh);
        EXPECT_NEAR(facts.area.at(0), 40.0, 1e-9) << size;
        EXPECT_GT(facts.smallest_angle, 25.0) << size;
        EXPECT_NEAR(mesh.smallest_angle, facts.smallest_angle, 1e-6) << size;
        EXPECT_LT(facts.longest, 2.0 * size) << size;
        // About two triangles a square of the size.
        EXPECT_NEAR(static_cast<double>(mesh.triangles.size()), 40.0 / (0.5 * size * size),
                    0.6 * 40.0 / (0.5 * size * size))
            << size;
    }
}

TEST(FlatMesher, KeepsTheBorderBetweenRegions) {
    FlatOptions options;
    options.size = 0.8;
    const FlatTriangles mesh = make_flat_triangles(
        lattice(10, 4, 10, 4, [](const Vec2& p) { return p.x() < 3.0   ? 1
                                                         : p.y() > 2.0 ? -1
                                                                       : 0; }), options);
    const Facts facts = facts_of(mesh);
    EXPECT_NEAR(facts.area.at(1), 12.0, 1e-9);
    EXPECT_NEAR(facts.area.at(0), 14.0, 1e-9);
    EXPECT_EQ(facts.area.count(-1), 0U); // nothing outside is meshed
    // Of edges on borders: each on one of the lines there are, and together as long as they are.
    double length = 0.0;
    for (const auto& [edge, middle] : mesh.border) {
        const Vec2& a = mesh.points[static_cast<std::size_t>(edge[0])];
        const Vec2& b = mesh.points[static_cast<std::size_t>(edge[1])];
        EXPECT_NEAR((0.5 * (a + b) - middle).norm(), 0.0, 1e-6);
        length += (b - a).norm();
    }
    // Around: left box 3 x 4, right one 7 x 2, the side between them once.
    EXPECT_NEAR(length, 2 * (3 + 4) + 2 * (7 + 2) - 2, 1e-6);
}

TEST(FlatMesher, FollowsACircleAsFinelyAsItsCurvatureAsks) {
    for (const double span : {30.0, 15.0}) {
        FlatOptions options;
        options.size = 5.0;
        options.curvature = span;
        const FlatTriangles mesh = make_flat_triangles(ring(2.0, 6.0, 180), options);
        int on_inner = 0;
        for (const Vec2& p : mesh.points) on_inner += std::abs(p.norm() - 2.0) < 1e-3 ? 1 : 0;
        EXPECT_GE(on_inner, 360.0 / span * 0.95);
        EXPECT_LE(on_inner, 360.0 / span * 2.0);
        const double exact = pi * (36.0 - 4.0);
        EXPECT_NEAR(facts_of(mesh).area.at(0), exact, 0.02 * exact);
    }
}

TEST(FlatMesher, IsFinerWhereItIsAsked) {
    FlatOptions options;
    options.size = 1.0;
    options.refine.emplace_back([](const Vec3& p) { return (p - Vec3(2, 2, 0)).norm() - 0.5; }, 0.1);
    const FlatTriangles mesh =
        make_flat_triangles(lattice(12, 4, 6, 2, [](const Vec2&) { return 0; }), options);
    std::map<bool, std::pair<double, int>> length;
    for (const auto& t : mesh.triangles)
        for (std::size_t i = 0; i < 3; ++i) {
            const Vec2& a = mesh.points[static_cast<std::size_t>(t[i])];
            const Vec2& b = mesh.points[static_cast<std::size_t>(t[(i + 1) % 3])];
            const Vec2 middle = 0.5 * (a + b);
            const double away = (middle - Vec2(2, 2)).norm();
            if (away > 0.45 && away < 8.0) continue;
            length[away < 1.0].first += (b - a).norm();
            ++length[away < 1.0].second;
        }
    EXPECT_NEAR(length[true].first / length[true].second, 0.1, 0.04);
    EXPECT_NEAR(length[false].first / length[false].second, 1.0, 0.35);
    EXPECT_GT(facts_of(mesh).smallest_angle, 20.0);
    EXPECT_NEAR(facts_of(mesh).area.at(0), 48.0, 1e-9);
}
