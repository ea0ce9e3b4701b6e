// Elements and places of sides against a search through all of them.
#include "mesh/locator.hpp"
#include "mesh/side_place.hpp"

#include "base/angles.hpp"
#include "published.hpp"

#include <cmath>
#include <gtest/gtest.h>
#include <random>

using namespace upright;

namespace {

Mesh bent_block(ElementKind kind, const std::array<int, 3>& n) {
    Mesh mesh = published::unit_mesh(kind, n);
    for (Vec3& p : mesh.nodes) p = Vec3(6 * p.x(), 3 * p.y() + 0.5 * std::sin(3 * p.x()), 2 * p.z());
    mesh.finish();
    return mesh;
}

std::vector<Vec3> places_around(const Bounds& box, int count) {
    std::mt19937 random(17);
    std::uniform_real_distribution<double> in(-0.3, 1.3);
    std::vector<Vec3> out;
    for (int i = 0; i < count; ++i)
        out.push_back(box.low + box.size().cwiseProduct(Vec3(in(random), in(random), in(random))));
    return out;
}

} // namespace

TEST(ElementLocator, FindsTheNearestMiddleFromInsideAndOutside) {
    for (const ElementKind kind : {ElementKind::Hex8, ElementKind::Tet4, ElementKind::Quad4}) {
        const Mesh mesh = bent_block(kind, {7, 4, 3});
        const ElementLocator locator(mesh, 0.9);
        for (const Vec3& p : places_around(mesh.bounds, 200)) {
            double best = 1e300;
            for (const Vec3& c : mesh.element_centers()) best = std::min(best, (c - p).norm());
            EXPECT_NEAR((mesh.center(index(locator.nearest(p))) - p).norm(), best, 1e-12);
        }
        EXPECT_NO_THROW(locator.nearest(Vec3::Constant(1e6)));
    }
}

TEST(ElementLocator, VisitsEveryMiddleInReachOnce) {
    const Mesh mesh = bent_block(ElementKind::Tet4, {6, 4, 3});
    const ElementLocator locator(mesh, 1.2);
    for (const Vec3& p : places_around(mesh.bounds, 100))
        for (const double radius : {0.2, 0.7, 1.2}) {
            std::vector<int> times(mesh.elements(), 0);
            locator.near(p, radius, [&](ElementId e, double distance) {
                ++times[index(e)];
                EXPECT_NEAR(distance, (mesh.center(index(e)) - p).norm(), 1e-12);
            });
            for (std::size_t e = 0; e < mesh.elements(); ++e) {
                const double away = (mesh.center(e) - p).norm();
                if (std::abs(away - radius) > 1e-9) EXPECT_EQ(times[e], away < radius ? 1 : 0);
            }
        }
}

TEST(SideFinder, OfFlatSidesThePlaceIsThatOfThePlane) {
    for (const ElementKind kind :
         {ElementKind::Hex8, ElementKind::Hex20, ElementKind::Tet4, ElementKind::Tet10}) {
        Mesh mesh = published::unit_mesh(kind, {4, 3, 2});
        mesh.finish();
        std::vector<MeshFace> top;
        for (const MeshFace& face : mesh.boundary())
            if (mesh.face_normal(face).z() > 0.9) top.push_back(face);
        const SideFinder finder(mesh, top);
        for (const Vec3& p : {Vec3(0.37, 0.61, 1.4), Vec3(0.9, 0.05, 0.8), Vec3(-0.5, 0.5, 1.0)}) {
            const SidePlace at = finder.nearest(p);
            const Vec3 expected(std::clamp(p.x(), 0.0, 1.0), std::clamp(p.y(), 0.0, 1.0), 1.0);
            EXPECT_NEAR((at.place - expected).norm(), 0.0, 1e-9) << traits(kind).name;
            EXPECT_NEAR(at.distance, (p - expected).norm(), 1e-9);
            EXPECT_NEAR(at.values.sum(), 1.0, 1e-12);
            // The place in the side's own shape functions, and the normal across its tangents.
            Vec3 made = Vec3::Zero();
            for (std::size_t i = 0; i < at.nodes.size(); ++i)
                made += at.values[static_cast<Eigen::Index>(i)] * mesh.nodes[index(at.nodes[i])];
            EXPECT_NEAR((made - at.place).norm(), 0.0, 1e-12);
            EXPECT_NEAR(at.normal.dot(Vec3::UnitZ()), 1.0, 1e-9);
            EXPECT_NEAR(at.along[0].dot(at.normal), 0.0, 1e-9);
            EXPECT_NEAR(at.along[0].dot(at.along[1]), 0.0, 1e-12);
        }
    }
}

TEST(SideFinder, OfACylinderInSecondOrderThePlaceLiesOnTheCurve) {
    // A quarter of a ring, its middles of edges on the circle: off a true one by the fourth power of the
    // angle.
    Mesh mesh = published::unit_mesh(ElementKind::Hex20, {2, 6, 1});
    for (Vec3& p : mesh.nodes) {
        const double r = 4.0 + p.x(), angle = 0.5 * pi * p.y();
        p = Vec3(r * std::cos(angle), r * std::sin(angle), p.z());
    }
    mesh.finish();
    std::vector<MeshFace> outer;
    for (const MeshFace& face : mesh.boundary())
        if (mesh.face_center(face).head<2>().norm() > 4.9) outer.push_back(face);
    ASSERT_EQ(outer.size(), 6U);
    const SideFinder finder(mesh, outer);
    for (const double angle : {0.1, 0.4, 0.77, 1.3})
        for (const double r : {4.7, 5.6}) {
            const Vec3 p(r * std::cos(angle), r * std::sin(angle), 0.4);
            const SidePlace at = finder.nearest(p);
            EXPECT_NEAR(at.distance, std::abs(r - 5.0), 2e-4);
            EXPECT_NEAR((at.place - 5.0 / r * Vec3(p.x(), p.y(), 0.0) - Vec3(0, 0, 0.4)).norm(), 0.0, 3e-3);
            EXPECT_NEAR(at.normal.dot(p.cwiseProduct(Vec3(1, 1, 0)).normalized()), 1.0, 1e-4);
            // The nearest place: what leads to the point is at right angles to the side.
            EXPECT_NEAR((p - at.place).dot(at.along[0]), 0.0, 1e-6);
            EXPECT_NEAR((p - at.place).dot(at.along[1]), 0.0, 1e-6);
        }
}

TEST(SideFinder, SlopesAreThoseOfWalkingAlongTheSide) {
    const Mesh mesh = bent_block(ElementKind::Hex8, {5, 2, 2});
    std::vector<MeshFace> high;
    for (const MeshFace& face : mesh.boundary())
        if (mesh.face_normal(face).y() > 0.6) high.push_back(face);
    const SideFinder finder(mesh, high);
    const SidePlace at = finder.nearest(Vec3(2.3, 4.0, 0.7));
    // Of the identity: the places of the nodes weighed by the slopes are the tangents themselves.
    for (int a = 0; a < at.tangents; ++a) {
        Vec3 sum = Vec3::Zero();
        for (std::size_t i = 0; i < at.nodes.size(); ++i)
            sum += at.slopes(a, static_cast<Eigen::Index>(i)) * mesh.nodes[index(at.nodes[i])];
        EXPECT_NEAR((sum - at.along[static_cast<std::size_t>(a)]).norm(), 0.0, 1e-9);
    }
}

TEST(SideFinder, AnEdgeOfAPlaneMeshHasOneTangent) {
    Mesh mesh = published::unit_mesh(ElementKind::Quad8, {3, 3, 1});
    mesh.finish();
    std::vector<MeshFace> right;
    for (const MeshFace& face : mesh.boundary())
        if (mesh.face_normal(face).x() > 0.9) right.push_back(face);
    const SidePlace at = SideFinder(mesh, right).nearest(Vec3(1.5, 0.4, 0.0));
    EXPECT_EQ(at.tangents, 1);
    EXPECT_NEAR((at.place - Vec3(1.0, 0.4, 0.0)).norm(), 0.0, 1e-9);
    EXPECT_NEAR(at.normal.x(), 1.0, 1e-9);
    EXPECT_TRUE(SideFinder(mesh, {}).empty());
}
