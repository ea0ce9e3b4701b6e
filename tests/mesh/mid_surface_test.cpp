// Middle surfaces of sheets against what folds, ribs, tubes and holes come to by hand.
#include "mesh/mid_surface.hpp"

#include "base/angles.hpp"
#include "mesh/flat_mesher.hpp"
#include "mesh/mesh.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <gtest/gtest.h>
#include <map>
#include <optional>
#include <stdexcept>

using namespace upright;

namespace {

// A stretch of a profile in the plane: a line to a point, or an arc about a centre.
struct Stretch {
    Vec2 to;
    std::optional<Vec2> about = {};
    bool left = true; // an arc that turns to the left
};

// A closed profile, counter-clockwise, drawn along z: every stretch a face, the ends two more. Holes of the
// profile run the other way round.
class Drawn {
  public:
    explicit Drawn(double length) : length_(length) {}

    Drawn& outline(const Vec2& from, const std::vector<Stretch>& stretches) {
        std::vector<Vec2> loop;
        Vec2 at = from;
        for (const Stretch& s : stretches) {
            std::vector<Vec2> points{at};
            FacetFace face;
            face.kind = FaceKind::Plane;
            if (s.about) {
                const Vec2 u = at - *s.about;
                const double start = std::atan2(u.y(), u.x());
                const Vec2 v = s.to - *s.about;
                double turn = std::remainder(std::atan2(v.y(), v.x()) - start, 2.0 * pi);
                if (s.left && turn <= 1e-9) turn += 2.0 * pi;
                if (!s.left && turn >= -1e-9) turn -= 2.0 * pi;
                const int n = std::max(2, static_cast<int>(std::ceil(std::abs(turn) / (6.0 * degree))));
                for (int i = 1; i < n; ++i) {
                    const double a = start + turn * i / n;
                    points.push_back(*s.about + u.norm() * Vec2(std::cos(a), std::sin(a)));
                }
                face.kind = FaceKind::Cylinder;
                face.radius = u.norm();
                face.hole = !s.left;
                face.axis_from = Vec3(s.about->x(), s.about->y(), 0.0);
                face.axis_to = Vec3(s.about->x(), s.about->y(), length_);
            }
            points.push_back(s.to);
            for (std::size_t i = 0; i + 1 < points.size(); ++i) {
                wall(points[i], points[i + 1]);
                loop.push_back(points[i]);
            }
            mesh_.faces.push_back(face);
            at = s.to;
        }
        loops_.push_back(loop);
        return *this;
    }

    FacetBody body() {
        ends();
        for (std::size_t f = 0; f < mesh_.faces.size(); ++f) mesh_.faces[f].number = static_cast<int>(f) + 1;
        measure_faces(mesh_);
        return FacetBody("sheet", mesh_);
    }

  private:
    std::int32_t node(const Vec2& p, double z) {
        const std::array<long, 3> key{std::lround(p.x() * 1e6), std::lround(p.y() * 1e6),
                                      std::lround(z * 1e6)};
        const auto [at, fresh] = nodes_.emplace(key, static_cast<std::int32_t>(mesh_.points.size()));
        if (fresh) mesh_.points.emplace_back(p.x(), p.y(), z);
        return at->second;
    }
    void triangle(std::int32_t a, std::int32_t b, std::int32_t c, std::size_t face) {
        mesh_.triangles.push_back({a, b, c});
        mesh_.face_of.push_back(static_cast<std::int32_t>(face));
    }
    void wall(const Vec2& p, const Vec2& q) {
        const std::size_t face = mesh_.faces.size();
        triangle(node(p, 0), node(q, 0), node(q, length_), face);
        triangle(node(p, 0), node(q, length_), node(p, length_), face);
    }
    // Ears of the outline; a hole is joined to it by the shortest way first.
    void ends() {
        std::vector<Vec2> loop = loops_.front();
        for (std::size_t k = 1; k < loops_.size(); ++k) {
            double best = 1e300;
            std::size_t bi = 0, bj = 0;
            for (std::size_t i = 0; i < loop.size(); ++i)
                for (std::size_t j = 0; j < loops_[k].size(); ++j)
                    if (const double d = (loop[i] - loops_[k][j]).norm(); d < best) best = d, bi = i, bj = j;
            std::vector<Vec2> joined(loop.begin(), loop.begin() + static_cast<std::ptrdiff_t>(bi) + 1);
            for (std::size_t j = 0; j <= loops_[k].size(); ++j)
                joined.push_back(loops_[k][(bj + j) % loops_[k].size()]);
            joined.insert(joined.end(), loop.begin() + static_cast<std::ptrdiff_t>(bi), loop.end());
            loop = joined;
        }
        const auto cross = [](const Vec2& a, const Vec2& b) { return a.x() * b.y() - a.y() * b.x(); };
        const std::size_t low = mesh_.faces.size();
        FacetFace plane;
        plane.kind = FaceKind::Plane;
        mesh_.faces.insert(mesh_.faces.end(), {plane, plane});
        while (loop.size() > 2) {
            bool cut = false;
            for (std::size_t i = 0; i < loop.size() && !cut; ++i) {
                const Vec2& a = loop[(i + loop.size() - 1) % loop.size()];
                const Vec2& b = loop[i];
                const Vec2& c = loop[(i + 1) % loop.size()];
                if (cross(b - a, c - b) <= 1e-12) continue;
                const bool free = std::none_of(loop.begin(), loop.end(), [&](const Vec2& p) {
                    return p != a && p != b && p != c && cross(b - a, p - a) >= 0 &&
                           cross(c - b, p - b) >= 0 && cross(a - c, p - c) >= 0;
                });
                if (!free) continue;
                triangle(node(a, 0), node(c, 0), node(b, 0), low);
                triangle(node(a, length_), node(b, length_), node(c, length_), low + 1);
                loop.erase(loop.begin() + static_cast<std::ptrdiff_t>(i));
                cut = true;
            }
            if (!cut) throw std::logic_error("the profile has no ear");
        }
    }

    double length_;
    FacetMesh mesh_;
    std::map<std::array<long, 3>, std::int32_t> nodes_;
    std::vector<std::vector<Vec2>> loops_;
};

double area(const MidSurface& s) {
    double out = 0.0;
    for (const FacetFace& f : s.mesh.faces) out += f.area;
    return out;
}

// Triangles at each edge.
std::map<std::pair<std::int32_t, std::int32_t>, int> edges(const FacetMesh& mesh) {
    std::map<std::pair<std::int32_t, std::int32_t>, int> out;
    for (const auto& t : mesh.triangles)
        for (std::size_t i = 0; i < 3; ++i) ++out[std::minmax(t[i], t[(i + 1) % 3])];
    return out;
}
// Length of edges where so many triangles meet.
double length_of(const FacetMesh& mesh, int triangles) {
    double out = 0.0;
    for (const auto& [e, n] : edges(mesh))
        if (n == triangles)
            out += (mesh.points[static_cast<std::size_t>(e.first)] -
                    mesh.points[static_cast<std::size_t>(e.second)])
                       .norm();
    return out;
}

// An angle of 60 by 40, 3 thick and 100 long, sharp; its other forms of folds.
FacetBody sharp_angle() {
    return Drawn(100)
        .outline({0, 0}, {{{60, 0}}, {{60, 3}}, {{3, 3}}, {{3, 40}}, {{0, 40}}, {{0, 0}}})
        .body();
}

} // namespace

TEST(MidSurface, OfASharpAngleMeetsInTheLineBetweenTheMiddles) {
    for (const double size : {20.0, 7.0}) {
        const FacetBody body = sharp_angle();
        ASSERT_EQ(body.open_edges(), 0U);
        const MidSurface s = make_mid_surface(body, {size}, {});
        EXPECT_NEAR(area(s), 100 * (58.5 + 38.5), 1e-6);
        EXPECT_EQ(s.walls.size(), 2U);
        EXPECT_EQ(s.pieces, 1);
        EXPECT_TRUE(s.left.empty());
        for (const MidSurface::Wall& w : s.walls) EXPECT_NEAR(w.thickness, 3.0, 1e-9);
        EXPECT_NEAR(length_of(s.mesh, 1), 2 * (58.5 + 38.5) + 200, 1e-6); // free borders
        for (const Vec3& p : s.mesh.points)
            EXPECT_LT(std::min(std::abs(p.x() - 1.5), std::abs(p.y() - 1.5)), 1e-9);
        EXPECT_GT(s.smallest_angle, 15.0);
        EXPECT_NEAR(s.size, size, 0.0);
    }
}

TEST(MidSurface, OfABendIsRoundAboutItsAxis) {
    // Inner radius 4, outer 7, about (7, 7).
    const FacetBody body = Drawn(50)
                               .outline({7, 0}, {{{60, 0}},
                                                 {{60, 3}},
                                                 {{7, 3}},
                                                 {{3, 7}, Vec2(7, 7), false},
                                                 {{3, 40}},
                                                 {{0, 40}},
                                                 {{0, 7}},
                                                 {{7, 0}, Vec2(7, 7), true}})
                               .body();
    ASSERT_EQ(body.open_edges(), 0U);
    for (const double size : {12.0, 2.0}) {
        const MidSurface s = make_mid_surface(body, {size}, {});
        EXPECT_EQ(s.walls.size(), 3U);
        EXPECT_EQ(s.pieces, 1);
        EXPECT_TRUE(s.left.empty());
        int bent = 0;
        for (std::size_t t = 0; t < s.mesh.triangles.size(); ++t) {
            const FacetFace& f = s.mesh.faces[static_cast<std::size_t>(s.mesh.face_of[t])];
            if (f.kind != FaceKind::Cylinder) continue;
            ++bent;
            EXPECT_NEAR(f.radius, 5.5, 1e-9);
            for (const std::int32_t v : s.mesh.triangles[t]) {
                const Vec3& p = s.mesh.points[static_cast<std::size_t>(v)];
                EXPECT_NEAR(std::hypot(p.x() - 7, p.y() - 7), 5.5, 1e-9);
            }
        }
        EXPECT_GT(bent, 0);
        const double flat = 50 * (53 + 33);
        EXPECT_NEAR(area(s), flat + 50 * 5.5 * pi / 2, 0.03 * 50 * 5.5 * pi / 2); // chords
        EXPECT_NEAR(length_of(s.mesh, 1), 100 + 2 * (53 + 33 + 5.5 * pi / 2), 0.8);
    }
}

TEST(MidSurface, OfARibMeetsThePlateInOneLineOfThree) {
    // A plate of 80 by 4, a rib of 2 by 30 upon it.
    const FacetBody body =
        Drawn(60)
            .outline({0, 0},
                     {{{80, 0}}, {{80, 4}}, {{51, 4}}, {{51, 34}}, {{49, 34}}, {{49, 4}}, {{0, 4}}, {{0, 0}}})
            .body();
    const MidSurface s = make_mid_surface(body, {6.0}, {});
    EXPECT_EQ(s.pieces, 1);
    EXPECT_NEAR(area(s), 60 * (80 + 32), 1e-6);
    EXPECT_NEAR(s.volume, 60 * (80 * 4 + 32 * 2), 1e-6);
    EXPECT_NEAR(length_of(s.mesh, 3), 60.0, 1e-9);
    EXPECT_NEAR(length_of(s.mesh, 1), 2 * (80 + 32) + 3 * 60, 1e-6);
    EXPECT_TRUE(s.left.empty());
}

// In whatever order the elements come.
TEST(MidSurface, ShellsOfThreeAtAnEdgeAreOnePiece) {
    const std::array<std::array<int, 3>, 3> triangles{{{0, 1, 2}, {1, 0, 3}, {0, 1, 4}}};
    std::array<std::size_t, 3> order{0, 1, 2};
    do {
        Mesh mesh;
        mesh.nodes = {{0, 0, 0}, {1, 0, 0}, {0, 1, 0}, {0, -1, 0},
                      {0, 0, 1}, {5, 5, 5}, {6, 5, 5}, {5, 6, 5}};
        const auto add = [&](const std::array<int, 3>& t) {
            mesh.add(ElementKind::ShellTri3,
                     {static_cast<NodeId>(t[0]), static_cast<NodeId>(t[1]), static_cast<NodeId>(t[2])},
                     RegionId::None);
        };
        add({5, 6, 7});
        for (const std::size_t i : order) add(triangles[i]);
        mesh.finish();
        EXPECT_EQ(face_connected_parts(mesh), (std::vector<int>{0, 1, 1, 1}));
    } while (std::next_permutation(order.begin(), order.end()));
}

TEST(MidSurface, OfARoundedInnerCornerGoesOnToWhereTheMiddlesCross) {
    // As the sharp angle, with a radius of 6 inside.
    const FacetBody body =
        Drawn(100)
            .outline(
                {0, 0},
                {{{60, 0}}, {{60, 3}}, {{9, 3}}, {{3, 9}, Vec2(9, 9), false}, {{3, 40}}, {{0, 40}}, {{0, 0}}})
            .body();
    const MidSurface s = make_mid_surface(body, {8.0}, {});
    EXPECT_EQ(s.pieces, 1);
    EXPECT_EQ(s.walls.size(), 2U);
    EXPECT_TRUE(s.left.empty());
    EXPECT_NEAR(area(s), 100 * (58.5 + 38.5), 1e-6);
}

TEST(MidSurface, OfTubesIsClosed) {
    Drawn tube(70);
    tube.outline({20, 0}, {{{-20, 0}, Vec2(0, 0), true}, {{20, 0}, Vec2(0, 0), true}});
    tube.outline({17, 0}, {{{-17, 0}, Vec2(0, 0), false}, {{17, 0}, Vec2(0, 0), false}});
    const FacetBody body = tube.body();
    ASSERT_EQ(body.open_edges(), 0U);
    const MidSurface s = make_mid_surface(body, {4.0}, {});
    EXPECT_EQ(s.pieces, 1);
    EXPECT_NEAR(area(s), 70 * 2 * pi * 18.5, 0.01 * 70 * 2 * pi * 18.5);
    EXPECT_NEAR(length_of(s.mesh, 1), 4 * pi * 18.5, 0.01 * 4 * pi * 18.5); // the two ends alone
    for (const Vec3& p : s.mesh.points) EXPECT_NEAR(std::hypot(p.x(), p.y()), 18.5, 1e-9);

    // One face about the whole axis, as other programs write it.
    FacetMesh whole = body.mesh();
    std::vector<FacetFace> faces;
    for (const std::size_t f : {0U, 2U, 4U, 5U}) faces.push_back(whole.faces[f]);
    for (std::size_t f = 0; f < faces.size(); ++f) faces[f].number = static_cast<int>(f) + 1;
    for (std::int32_t& f : whole.face_of) f = f < 4 ? f / 2 : f - 2;
    whole.faces = faces;
    measure_faces(whole);
    const MidSurface one = make_mid_surface(FacetBody("tube", whole), {4.0}, {});
    EXPECT_EQ(one.walls.size(), 1U);
    EXPECT_EQ(one.pieces, 1);
    EXPECT_NEAR(area(one), area(s), 0.01 * area(s));
    EXPECT_NEAR(length_of(one.mesh, 1), 4 * pi * 18.5, 0.01 * 4 * pi * 18.5);
}

TEST(MidSurface, OfABoxSectionWithAWallInside) {
    Drawn box(90);
    box.outline({0, 0}, {{{80, 0}}, {{80, 40}}, {{0, 40}}, {{0, 0}}});
    box.outline({2, 2}, {{{2, 38}}, {{38, 38}}, {{38, 2}}, {{2, 2}}});
    box.outline({42, 2}, {{{42, 38}}, {{78, 38}}, {{78, 2}}, {{42, 2}}});
    const FacetBody body = box.body();
    ASSERT_EQ(body.open_edges(), 0U);
    const MidSurface s = make_mid_surface(body, {9.0}, {});
    EXPECT_EQ(s.pieces, 1);
    EXPECT_NEAR(area(s), 90 * (2 * 78 + 3 * 38), 1e-6);
    EXPECT_NEAR(length_of(s.mesh, 3), 180.0, 1e-6);
    EXPECT_NEAR(length_of(s.mesh, 1), 2 * (2 * 78 + 3 * 38), 1e-6);
    EXPECT_TRUE(s.left.empty());
}

TEST(MidSurface, OfAPlateThatGetsThickerHasBothThicknesses) {
    const FacetBody body =
        Drawn(40).outline({0, 0}, {{{60, 0}}, {{60, 3}}, {{30, 3}}, {{30, 5}}, {{0, 5}}, {{0, 0}}}).body();
    const MidSurface s = make_mid_surface(body, {5.0}, {});
    ASSERT_EQ(s.walls.size(), 2U);
    EXPECT_NEAR(s.walls[0].thickness, 3.0, 1e-9);
    EXPECT_NEAR(s.walls[1].thickness, 5.0, 1e-9);
    EXPECT_EQ(s.pieces, 1);
    EXPECT_NEAR(s.volume, body.volume(), 0.01 * body.volume());
    // Each in its own plane, but for the edge where they are joined.
    for (const Vec3& p : s.mesh.points)
        EXPECT_NEAR(p.y(), p.x() > 30 + 1e-6 ? 1.5 : p.x() < 30 - 1e-6 ? 2.5 : 2.0, 1e-9);
}

TEST(MidSurface, SaysWhatIsLeftAndWhatIsNotJoined) {
    // A plate of two thicknesses with a thick foot: the foot is no wall.
    const FacetBody body =
        Drawn(60).outline({0, 0}, {{{80, 0}}, {{80, 3}}, {{30, 3}}, {{30, 60}}, {{0, 60}}, {{0, 0}}}).body();
    const MidSurface s = make_mid_surface(body, {}, {});
    EXPECT_FALSE(s.left.empty());
    EXPECT_LT(s.volume, 0.6 * body.volume());

    // Two plates at a block: nothing stands for it, and the plates are 30 apart.
    const MidSurface two = make_mid_surface(Drawn(60)
                                                .outline({0, 0}, {{{40, 0}},
                                                                  {{40, -15}},
                                                                  {{70, -15}},
                                                                  {{70, 0}},
                                                                  {{110, 0}},
                                                                  {{110, 3}},
                                                                  {{70, 3}},
                                                                  {{70, 15}},
                                                                  {{40, 15}},
                                                                  {{40, 3}},
                                                                  {{0, 3}},
                                                                  {{0, 0}}})
                                                .body(),
                                            {5.0}, {});
    EXPECT_EQ(two.walls.size(), 2U);
    EXPECT_EQ(two.pieces, 2);
    EXPECT_NEAR(two.gap, 30.0, 1e-9);
    EXPECT_FALSE(two.left.empty());

    const FacetBody block = Drawn(50).outline({0, 0}, {{{50, 0}}, {{50, 50}}, {{0, 50}}, {{0, 0}}}).body();
    try {
        make_mid_surface(block, {}, {"block.step"});
        FAIL() << "a cube has no middle surface";
    } catch (const Error& bad) {
        EXPECT_NE(std::string(bad.what()).find("no thin wall"), std::string::npos) << bad.what();
    }
}

// A wide flange with a narrow lip, whose edges are short at any size: about the lip sizes grow with the
// distance, so that larger sizes elsewhere never have more triangles.
TEST(MidSurface, AboutANarrowWallThereAreNoMoreTrianglesAtALargerSize) {
    const FacetBody body =
        Drawn(200)
            .outline({0, 0}, {{{200, 0}}, {{200, 8}}, {{198, 8}}, {{198, 2}}, {{0, 2}}, {{0, 0}}})
            .body();
    std::size_t before = 1000000;
    for (const double size : {10.0, 20.0, 40.0, 80.0}) {
        const MidSurface s = make_mid_surface(body, {size}, {});
        EXPECT_NEAR(area(s), 200.0 * (199.0 + 7.0), 1.0) << size;
        EXPECT_LE(s.mesh.triangles.size(), before) << size;
        before = s.mesh.triangles.size();
    }
}

TEST(MidSurface, BordersThatAreKeptHaveNoOtherNodes) {
    FlatInput square;
    square.points = {{0, 0}, {10, 0}, {10, 10}, {0, 10}};
    square.triangles = {{0, 1, 2}, {0, 2, 3}};
    square.region = {0, 0};
    square.kept_borders = {{{0, 0}, {3, 0}, {10, 0}},
                           {{10, 0}, {10, 10}},
                           {{10, 10}, {0, 10}, {0, 0}},
                           {{4, 4}, {6, 6}}}; // a slit inside
    FlatOptions options;
    options.size = 1.5;
    const FlatTriangles out = make_flat_triangles(square, options);
    double sum = 0.0;
    int slit = 0;
    for (const auto& t : out.triangles) {
        const Vec2& a = out.points[static_cast<std::size_t>(t[0])];
        const Vec2 u = out.points[static_cast<std::size_t>(t[1])] - a;
        const Vec2 v = out.points[static_cast<std::size_t>(t[2])] - a;
        sum += 0.5 * (u.x() * v.y() - u.y() * v.x());
        for (std::size_t i = 0; i < 3; ++i) {
            const Vec2& p = out.points[static_cast<std::size_t>(t[i])];
            const Vec2& q = out.points[static_cast<std::size_t>(t[(i + 1) % 3])];
            slit += (p == Vec2(4, 4) && q == Vec2(6, 6)) || (p == Vec2(6, 6) && q == Vec2(4, 4)) ? 1 : 0;
        }
    }
    EXPECT_NEAR(sum, 100.0, 1e-9);
    EXPECT_EQ(slit, 2);
    int on_border = 0;
    for (const Vec2& p : out.points)
        on_border += p.x() < 1e-9 || p.y() < 1e-9 || p.x() > 10 - 1e-9 || p.y() > 10 - 1e-9 ? 1 : 0;
    EXPECT_EQ(on_border, 5);
    EXPECT_GT(out.points.size(), 12U);
}
