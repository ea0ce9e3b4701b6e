// Triangles as a body: distances, crossings and patches against closed forms and searches through all.
#include "geometry/facets.hpp"

#include "base/angles.hpp"

#include <algorithm>
#include <cmath>
#include <gtest/gtest.h>
#include <random>

using namespace upright;

namespace {

// A tube of `around` flat pieces between two radii, height 5, about z.
FacetMesh tube(double inner, double outer, int around) {
    FacetMesh out;
    for (const double z : {0.0, 5.0})
        for (const double r : {inner, outer})
            for (int i = 0; i < around; ++i)
                out.points.emplace_back(r * std::cos(2 * pi * i / around), r * std::sin(2 * pi * i / around),
                                        z);
    const auto at = [&](int layer, int ring, int i) { return (2 * layer + ring) * around + i % around; };
    const auto quad = [&](int a, int b, int c, int d) {
        out.triangles.push_back({a, b, c});
        out.triangles.push_back({a, c, d});
    };
    for (int i = 0; i < around; ++i) {
        quad(at(0, 1, i), at(0, 1, i + 1), at(1, 1, i + 1), at(1, 1, i)); // outer wall
        quad(at(0, 0, i + 1), at(0, 0, i), at(1, 0, i), at(1, 0, i + 1)); // inner wall
        quad(at(1, 0, i), at(1, 1, i), at(1, 1, i + 1), at(1, 0, i + 1)); // top
        quad(at(0, 0, i), at(0, 0, i + 1), at(0, 1, i + 1), at(0, 1, i)); // bottom
    }
    return out;
}

FacetBody tube_body(double inner, double outer, int around) {
    FacetMesh mesh = tube(inner, outer, around);
    number_patches(mesh, 40.0);
    return {"tube", std::move(mesh)};
}

std::vector<Vec3> scattered(int n, double reach) {
    std::mt19937 random(3);
    std::uniform_real_distribution<double> in(-reach, reach);
    std::vector<Vec3> out;
    for (int i = 0; i < n; ++i) out.emplace_back(in(random), in(random), in(random));
    return out;
}

} // namespace

TEST(Facets, TheNearestPlaceOfATriangleIsNoFartherThanAnyOther) {
    const Vec3 a(0, 0, 0), b(2, 0.3, 0.1), c(0.4, 1.7, -0.2);
    for (const Vec3& p : scattered(200, 3.0)) {
        const Vec3 found = nearest_on_triangle(p, a, b, c);
        double best = 1e300;
        const int n = 60;
        for (int i = 0; i <= n; ++i)
            for (int j = 0; i + j <= n; ++j) {
                const double u = static_cast<double>(i) / n, v = static_cast<double>(j) / n;
                best = std::min(best, (a + u * (b - a) + v * (c - a) - p).norm());
            }
        EXPECT_LE((found - p).norm(), best + 1e-12);
        EXPECT_GE((found - p).norm(), best - 0.06); // it lies in the triangle
        EXPECT_NEAR((found - a).dot((b - a).cross(c - a)), 0.0, 1e-12);
    }
    EXPECT_EQ(nearest_on_triangle(b, a, b, c), b);
    EXPECT_NO_THROW(nearest_on_triangle(Vec3(1, 1, 1), a, a, a)); // a triangle that is a point
}

TEST(Facets, TheTreeFindsWhatASearchThroughAllFinds) {
    const FacetMesh mesh = tube(2.0, 4.0, 24);
    const FacetTree tree(mesh.points, mesh.triangles);
    for (const Vec3& p : scattered(200, 8.0)) {
        double best = 1e300;
        for (const auto& t : mesh.triangles)
            best = std::min(best, (nearest_on_triangle(p, mesh.points[static_cast<std::size_t>(t[0])],
                                                       mesh.points[static_cast<std::size_t>(t[1])],
                                                       mesh.points[static_cast<std::size_t>(t[2])]) -
                                   p)
                                      .norm());
        const FacetTree::Nearest found = tree.nearest(p);
        EXPECT_NEAR(found.distance, best, 1e-9);
        EXPECT_NEAR((found.place - p).norm(), best, 1e-9);
        EXPECT_EQ(tree.nearest(p, 0.5 * best).triangle, -1);
        EXPECT_GE(tree.nearest(p, 1.01 * best + 1e-9).triangle, 0);
    }
}

TEST(Facets, ARayThroughATubeCrossesItsWallsInTurn) {
    const FacetMesh mesh = tube(2.0, 4.0, 360);
    const FacetTree tree(mesh.points, mesh.triangles);
    std::vector<FacetTree::Hit> hits;
    tree.crossings(Vec3(-10, 0.013, 2.4), Vec3(2, 0, 0), hits);
    std::sort(hits.begin(), hits.end(), [](const auto& a, const auto& b) { return a.along < b.along; });
    ASSERT_EQ(hits.size(), 4U);
    for (const auto& [at, x] : {std::pair{0, -4.0}, {1, -2.0}, {2, 2.0}, {3, 4.0}})
        EXPECT_NEAR(-10 + 2 * hits[static_cast<std::size_t>(at)].along, x, 1e-3);
    hits.clear();
    tree.crossings(Vec3(-10, 0, 7), Vec3(1, 0, 0), hits); // above it
    EXPECT_TRUE(hits.empty());
}

TEST(Facets, ATubeKnowsItsInsideItsVolumeAndItsDistance) {
    const int around = 120;
    const FacetBody body = tube_body(2.0, 4.0, around);
    EXPECT_EQ(body.open_edges(), 0U);
    const double polygon = 0.5 * around * std::sin(2 * pi / around); // of radius one
    EXPECT_NEAR(body.volume(), 5.0 * polygon * (16.0 - 4.0), 1e-9);
    for (const Vec3& p : scattered(400, 6.0)) {
        const double r = p.head<2>().norm();
        // Of the ring, exact outside of the corners' reach.
        const double across = std::abs(r - 3.0) - 1.0;
        const double along = std::abs(p.z() - 2.5) - 2.5;
        if (std::abs(across) < 0.01 || std::abs(along) < 0.01) continue;
        const double exact = across > 0 && along > 0 ? std::hypot(across, along) : std::max(across, along);
        EXPECT_EQ(body.inside(p), exact < 0.0) << p.transpose();
        EXPECT_NEAR(body.signed_distance(p), exact, 3e-3) << p.transpose();
    }
}

TEST(Facets, PatchesOfATubeAreTwoPlanesAndTwoCylinders) {
    const FacetBody body = tube_body(2.0, 4.0, 72);
    const std::vector<FacetFace>& faces = body.mesh().faces;
    ASSERT_EQ(faces.size(), 4U);
    int planes = 0, holes = 0, bars = 0;
    for (const FacetFace& face : faces) {
        if (face.kind == FaceKind::Plane) {
            ++planes;
            EXPECT_NEAR(std::abs(face.normal.z()), 1.0, 1e-9);
            EXPECT_NEAR(face.area, pi * 12.0, 0.1);
            continue;
        }
        ASSERT_EQ(face.kind, FaceKind::Cylinder);
        EXPECT_NEAR(face.radius, face.hole ? 2.0 : 4.0, 1e-6);
        EXPECT_NEAR((face.axis_to - face.axis_from).norm(), 5.0, 1e-6);
        EXPECT_NEAR(face.axis_from.head<2>().norm(), 0.0, 1e-6);
        (face.hole ? holes : bars)++;
    }
    EXPECT_EQ(planes, 2);
    EXPECT_EQ(holes, 1);
    EXPECT_EQ(bars, 1);
    // Their triangles cover the body, each once.
    double area = 0.0;
    for (const FacetFace& face : faces) area += face.area;
    EXPECT_NEAR(area, 2 * pi * 12.0 + 2 * pi * 6.0 * 5.0, 0.5);
}

TEST(Facets, AHoleInTheSkinIsCounted) {
    FacetMesh mesh = tube(2.0, 4.0, 12);
    mesh.triangles.pop_back();
    number_patches(mesh, 40.0);
    EXPECT_EQ(FacetBody("open", std::move(mesh)).open_edges(), 3U);
}
