// The triangulation against what defines it: empty balls, one volume, neighbours that agree.
#include "mesh/delaunay.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <gtest/gtest.h>
#include <random>
#include <set>

using namespace upright;

namespace {

std::vector<Vec3> scattered(std::size_t n, unsigned seed) {
    std::mt19937 random(seed);
    std::uniform_real_distribution<double> in(0.0, 1.0);
    std::vector<Vec3> out(n);
    for (Vec3& p : out)
        for (int a = 0; a < 3; ++a) p[a] = in(random);
    return out;
}

struct Ball {
    Vec3 middle = Vec3::Zero();
    double radius = 0.0;
};
Ball around(const std::array<Vec3, 4>& p) {
    Mat3 a;
    Vec3 b;
    for (int i = 0; i < 3; ++i) {
        const Vec3 d = p[static_cast<std::size_t>(i) + 1] - p[0];
        a.row(i) = 2.0 * d.transpose();
        b[i] = d.squaredNorm();
    }
    const Vec3 from_first = a.fullPivLu().solve(b);
    return {p[0] + from_first, from_first.norm()};
}

double volume_of(const std::array<Vec3, 4>& p) {
    return (p[1] - p[0]).cross(p[2] - p[0]).dot(p[3] - p[0]) / 6.0;
}

// The places of a triangulation's own points, behind the hull's.
struct Triangulated {
    Delaunay mesh{Vec3::Zero(), Vec3::Ones()};
    std::vector<Vec3> at;
    explicit Triangulated(const std::vector<Vec3>& points) {
        for (const std::int32_t number : mesh.insert_all(points)) {
            if (at.size() <= static_cast<std::size_t>(number))
                at.resize(static_cast<std::size_t>(number) + 1);
            numbers.push_back(number);
        }
        for (std::size_t i = 0; i < points.size(); ++i) at[static_cast<std::size_t>(numbers[i])] = points[i];
    }
    std::vector<std::int32_t> numbers;
    bool inner(const Delaunay::Tet& t) const {
        return t.alive &&
               std::all_of(t.node.begin(), t.node.end(), [](std::int32_t n) { return n >= Delaunay::hull; });
    }
    std::array<Vec3, 4> corners(const Delaunay::Tet& t) const {
        std::array<Vec3, 4> out;
        for (std::size_t i = 0; i < 4; ++i) out[i] = at[static_cast<std::size_t>(t.node[i])];
        return out;
    }
};

void expect_neighbours_agree(const Delaunay& mesh) {
    const auto& tets = mesh.tets();
    for (std::size_t t = 0; t < tets.size(); ++t) {
        if (!tets[t].alive) continue;
        for (std::size_t f = 0; f < 4; ++f) {
            const std::int32_t other = tets[t].next[f];
            if (other < 0) continue;
            const Delaunay::Tet& beyond = tets[static_cast<std::size_t>(other)];
            ASSERT_TRUE(beyond.alive);
            ASSERT_EQ(std::count(beyond.next.begin(), beyond.next.end(), static_cast<std::int32_t>(t)), 1);
            for (std::size_t i = 0; i < 4; ++i)
                if (i != f) ASSERT_EQ(std::count(beyond.node.begin(), beyond.node.end(), tets[t].node[i]), 1);
        }
    }
}

} // namespace

TEST(Delaunay, NoPointLiesInABallOfScatteredPoints) {
    const Triangulated placed(scattered(300, 7));
    std::size_t looked = 0;
    for (const Delaunay::Tet& t : placed.mesh.tets()) {
        if (!placed.inner(t)) continue;
        const std::array<Vec3, 4> corners = placed.corners(t);
        ASSERT_GT(volume_of(corners), 0.0);
        const Ball ball = around(corners);
        if (ball.radius > 10.0) continue; // flat ones at the rim, whose balls are rounding
        ++looked;
        for (const std::int32_t n : placed.numbers) {
            const double inside = ball.radius - (placed.at[static_cast<std::size_t>(n)] - ball.middle).norm();
            EXPECT_LT(inside, 1e-4); // the lattice has 2^21 steps
        }
    }
    EXPECT_GT(looked, 1000U);
    expect_neighbours_agree(placed.mesh);
}

TEST(Delaunay, FillsTheBoxOfALatticeWhereEveryBallIsShared) {
    // All points of a lattice: eight corners of each cube lie on one ball, and many points in one plane.
    std::vector<Vec3> points;
    for (int k = 0; k <= 5; ++k)
        for (int j = 0; j <= 5; ++j)
            for (int i = 0; i <= 5; ++i) points.emplace_back(i / 5.0, j / 5.0, k / 5.0);
    const Triangulated placed(points);
    EXPECT_EQ(placed.mesh.points(), points.size() + 4);
    double volume = 0.0;
    for (const Delaunay::Tet& t : placed.mesh.tets())
        if (placed.inner(t)) {
            const double v = volume_of(placed.corners(t));
            EXPECT_GT(v, -1e-12);
            volume += v;
        }
    EXPECT_NEAR(volume, 1.0, 1e-4);
    expect_neighbours_agree(placed.mesh);
}

TEST(Delaunay, TheSamePlaceIsThePointThatIsThere) {
    Delaunay mesh(Vec3::Zero(), Vec3::Constant(2.0));
    const std::int32_t first = mesh.insert({0.5, 0.5, 0.5});
    const std::int32_t second = mesh.insert({1.5, 0.5, 0.5});
    EXPECT_NE(first, second);
    EXPECT_EQ(mesh.insert({0.5, 0.5, 0.5}), first);
    EXPECT_EQ(mesh.insert({0.5 + 1e-9, 0.5, 0.5}, second), first); // within a step of the lattice
    EXPECT_EQ(mesh.points(), 6U);
}

TEST(Delaunay, PointsOfALineAndOfAPlaneAreJoinedInOrder) {
    std::vector<Vec3> line;
    for (int i = 0; i < 20; ++i) line.emplace_back(0.05 * i, 0.3, 0.3);
    const Triangulated placed(line);
    for (std::size_t i = 0; i < line.size(); ++i)
        for (std::size_t j = i + 1; j < line.size(); ++j)
            EXPECT_EQ(placed.mesh.edge(placed.numbers[i], placed.numbers[j]), j == i + 1) << i << ' ' << j;
}

TEST(Delaunay, EdgesAndStarsAreThoseOfTheTetrahedra) {
    const Triangulated placed(scattered(60, 3));
    std::set<std::pair<std::int32_t, std::int32_t>> edges;
    std::map<std::int32_t, std::set<std::int32_t>> stars;
    for (std::size_t t = 0; t < placed.mesh.tets().size(); ++t) {
        const Delaunay::Tet& tet = placed.mesh.tets()[t];
        if (!tet.alive) continue;
        for (const std::int32_t a : tet.node) {
            stars[a].insert(static_cast<std::int32_t>(t));
            for (const std::int32_t b : tet.node)
                if (a != b) edges.insert({a, b});
        }
    }
    for (const std::int32_t a : placed.numbers) {
        std::vector<std::int32_t> star;
        placed.mesh.star(a, star);
        EXPECT_EQ(std::set<std::int32_t>(star.begin(), star.end()), stars[a]);
        EXPECT_EQ(star.size(), stars[a].size());
        EXPECT_EQ(stars[a].count(placed.mesh.tet_at(a)), 1U);
        for (const std::int32_t b : placed.numbers)
            if (a != b) EXPECT_EQ(placed.mesh.edge(a, b), edges.count({a, b}) > 0);
    }
}

TEST(Delaunay, TheOrderOfPointsDoesNotMatter) {
    std::vector<Vec3> points = scattered(80, 11);
    const auto edges_of = [](const std::vector<Vec3>& given) {
        const Triangulated placed(given);
        std::set<std::pair<std::array<double, 3>, std::array<double, 3>>> out;
        const auto key = [&](std::int32_t n) {
            const Vec3& p = placed.at[static_cast<std::size_t>(n)];
            return std::array<double, 3>{p.x(), p.y(), p.z()};
        };
        for (const Delaunay::Tet& t : placed.mesh.tets())
            if (placed.inner(t))
                for (const std::int32_t a : t.node)
                    for (const std::int32_t b : t.node)
                        if (key(a) < key(b)) out.insert({key(a), key(b)});
        return out;
    };
    const auto before = edges_of(points);
    std::reverse(points.begin(), points.end());
    EXPECT_EQ(edges_of(points), before);
}
