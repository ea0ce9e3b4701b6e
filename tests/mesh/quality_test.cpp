#include "mesh/quality.hpp"

#include "base/angles.hpp"
#include "published.hpp"

#include <Eigen/Geometry>
#include <gtest/gtest.h>

using namespace upright;

namespace {

Mesh mapped(ElementKind kind, const std::function<Vec3(const Vec3&)>& map,
            const std::array<int, 3>& n = {1, 1, 1}) {
    Mesh mesh = published::unit_mesh(kind, n);
    for (Vec3& p : mesh.nodes) p = map(p);
    mesh.finish();
    return mesh;
}

constexpr double degrees = 180.0 / pi;

} // namespace

TEST(Quality, CubesAndSquaresAreIdeal) {
    for (const ElementKind kind : {ElementKind::Hex8, ElementKind::Quad4, ElementKind::Hex20}) {
        const MeshQuality q = mesh_quality(mapped(kind, [](const Vec3& p) { return p; }, {2, 2, 2}));
        EXPECT_NEAR(q.scaled_jacobian, 1.0, 1e-12);
        EXPECT_NEAR(q.mean_scaled_jacobian, 1.0, 1e-12);
        EXPECT_NEAR(q.aspect, 1.0, 1e-12);
        EXPECT_FALSE(q.smallest_dihedral);
    }
}

TEST(Quality, ABoxKeepsItsAnglesAndLosesItsAspect) {
    const MeshQuality q = mesh_quality(
        mapped(ElementKind::Hex8, [](const Vec3& p) { return Vec3(p.x(), 2 * p.y(), 5 * p.z()); }));
    EXPECT_NEAR(q.scaled_jacobian, 1.0, 1e-12);
    EXPECT_NEAR(q.aspect, 5.0, 1e-12);
}

// A cell sheared by an angle has the cosine of it at every corner.
TEST(Quality, ShearCostsTheCosineOfItsAngle) {
    for (const double angle : {10.0, 45.0, 70.0}) {
        const double t = std::tan(angle / degrees);
        const MeshQuality q = mesh_quality(
            mapped(ElementKind::Hex8, [&](const Vec3& p) { return Vec3(p.x() + t * p.y(), p.y(), p.z()); }));
        EXPECT_NEAR(q.scaled_jacobian, std::cos(angle / degrees), 1e-12) << angle;
    }
}

TEST(Quality, ATurnedInsideOutCellIsBelowZero) {
    Mesh mesh = published::unit_mesh(ElementKind::Hex8, {1, 1, 1});
    mesh.nodes[0] = Vec3(0.9, 0.9, 0.9); // one corner pushed through the middle
    mesh.own_centers.clear();
    EXPECT_LT(scaled_jacobians(mesh).front(), 0.0);
}

TEST(Quality, DihedralAnglesOfKnownTetrahedra) {
    const std::array<Vec3, 4> regular{Vec3(1, 1, 1), Vec3(1, -1, -1), Vec3(-1, 1, -1), Vec3(-1, -1, 1)};
    for (const double angle : dihedral_angles(regular))
        EXPECT_NEAR(angle, std::acos(1.0 / 3.0) * degrees, 1e-10);
    // The corner of a cube: three right angles, three of acos(1 / sqrt 3).
    std::array<double, 6> corner =
        dihedral_angles({Vec3(0, 0, 0), Vec3(1, 0, 0), Vec3(0, 1, 0), Vec3(0, 0, 1)});
    std::sort(corner.begin(), corner.end());
    for (std::size_t i = 0; i < 3; ++i)
        EXPECT_NEAR(corner[i], std::acos(1.0 / std::sqrt(3.0)) * degrees, 1e-10);
    for (std::size_t i = 3; i < 6; ++i) EXPECT_NEAR(corner[i], 90.0, 1e-10);
}

TEST(Quality, ARegularTetrahedronIsIdeal) {
    Mesh mesh;
    mesh.nodes = {Vec3(1, 1, 1), Vec3(1, -1, -1), Vec3(-1, 1, -1), Vec3(-1, -1, 1)};
    std::vector<NodeId> ids{NodeId{0}, NodeId{1}, NodeId{2}, NodeId{3}};
    if ((mesh.nodes[1] - mesh.nodes[0])
            .cross(mesh.nodes[2] - mesh.nodes[0])
            .dot(mesh.nodes[3] - mesh.nodes[0]) < 0)
        std::swap(ids[1], ids[2]);
    mesh.add(ElementKind::Tet4, ids, RegionId{0});
    mesh.finish();
    const MeshQuality q = mesh_quality(mesh);
    EXPECT_NEAR(q.scaled_jacobian, 1.0, 1e-12);
    EXPECT_NEAR(*q.smallest_dihedral, *q.largest_dihedral, 1e-9);
}

TEST(Quality, TheTenWorstComeWorstFirst) {
    const MeshQuality q = mesh_quality(
        mapped(ElementKind::Hex8,
               [](const Vec3& p) { return Vec3(p.x() + 0.4 * p.y() * p.y(), p.y(), p.z()); }, {4, 4, 1}));
    ASSERT_EQ(q.worst.size(), 10U);
    EXPECT_DOUBLE_EQ(q.worst.front().scaled_jacobian, q.scaled_jacobian);
    for (std::size_t i = 1; i < q.worst.size(); ++i)
        EXPECT_GE(q.worst[i].scaled_jacobian, q.worst[i - 1].scaled_jacobian);
}
