#include "mesh/mesh.hpp"

#include "fem/element.hpp"
#include "support/studies.hpp"

#include <Eigen/Dense>
#include <gtest/gtest.h>

using namespace upright;

TEST(GridMesh, CountsNodesAndElements) {
    const Study study = test::study_from(test::block_study());
    const Mesh mesh =
        make_grid_mesh(make_space(study), paint(make_space(study), make_cell_grid(make_space(study))));
    EXPECT_EQ(mesh.elements(), 128U);
    EXPECT_EQ(mesh.nodes.size(), 9U * 5U * 5U);
    for (std::size_t e = 0; e < mesh.elements(); ++e) {
        const Eigen::MatrixXd c = places_of(mesh, static_cast<ElementId>(e));
        Eigen::Matrix3d edges;
        edges << c.col(1) - c.col(0), c.col(3) - c.col(0), c.col(4) - c.col(0);
        EXPECT_NEAR(edges.determinant(), 1.0, 1e-12); // right-handed and of the right size
    }
}

TEST(GridMesh, LeavesOutNodesOfVoids) {
    const Study study = test::study_from(
        test::block_study("[[region]]\nname = \"gone\"\nrole = \"void\"\nbox = [[4, 0, 0], [7, 4, 4]]\n"));
    const Mesh mesh =
        make_grid_mesh(make_space(study), paint(make_space(study), make_cell_grid(make_space(study))));
    EXPECT_EQ(mesh.elements(), 5U * 16U);
    EXPECT_EQ(mesh.nodes.size(), (5U + 2U) * 25U);
    const std::vector<int> parts = face_connected_parts(mesh);
    EXPECT_EQ(*std::max_element(parts.begin(), parts.end()), 1);
}

TEST(GridMesh, FaceNodesLieOnTheFaceAndTurnOutward) {
    const Study study = test::study_from(test::block_study());
    const Mesh mesh =
        make_grid_mesh(make_space(study), paint(make_space(study), make_cell_grid(make_space(study))));
    for (int side = 0; side < 6; ++side) {
        const MeshFace face{ElementId{5}, side};
        const auto nodes = mesh.face_nodes(face);
        const Vec3 a = mesh.nodes[index(nodes[1])] - mesh.nodes[index(nodes[0])];
        const Vec3 b = mesh.nodes[index(nodes[2])] - mesh.nodes[index(nodes[1])];
        EXPECT_NEAR((a.cross(b) - mesh.face_normal(face)).norm(), 0.0, 1e-12) << side;
        Vec3 mean = Vec3::Zero();
        for (const NodeId n : nodes) mean += 0.25 * mesh.nodes[index(n)];
        EXPECT_NEAR((mean - mesh.face_center(face)).norm(), 0.0, 1e-12);
    }
}

// What a lattice knows of its cells is what the rule of their kind integrates, in the plane with two
// thicknesses as well.
TEST(GridMesh, VolumesAndMiddlesAreThoseOfTheElements) {
    std::string plate = test::half_beam(9, 4, false);
    plate += "[[region]]\nname = \"rib\"\nrole = \"keep\"\nbox = [[2, 0], [4, 4]]\nmaterial = "
             "\"unit\"\nthickness = 2.5\n";
    const std::string hollow =
        test::block_study("[[region]]\nname = \"gone\"\nrole = \"void\"\nbox = [[4, 0, 1], [7, 3, 4]]\n");
    for (const std::string& text : {plate, hollow}) {
        const Space space = make_space(test::study_from(text));
        const Mesh mesh = make_grid_mesh(space, paint(space, make_cell_grid(space)));
        EXPECT_TRUE(mesh.own_volumes.empty() && mesh.own_centers.empty());
        Mesh other = mesh;
        other.cell_of.clear(); // no lattice any more
        other.finish();
        ASSERT_EQ(other.own_volumes.size(), mesh.elements());
        for (std::size_t e = 0; e < mesh.elements(); ++e) {
            EXPECT_NEAR(mesh.volume(e), other.volume(e), 1e-12);
            EXPECT_NEAR((mesh.center(e) - other.center(e)).norm(), 0.0, 1e-12);
            EXPECT_NEAR(mesh.node_volume(static_cast<ElementId>(e), 1),
                        other.node_volume(static_cast<ElementId>(e), 1), 1e-12);
        }
        EXPECT_EQ(mesh.element_volumes().size(), mesh.elements());
        EXPECT_EQ(mesh.element_centers()[3], mesh.center(std::size_t{3}));
    }
}

// Where elements begin is kept only where they have different numbers of nodes.
TEST(Mesh, ElementsOfSeveralKindsKnowTheirNodes) {
    const auto ids = [](std::size_t first, std::size_t count) {
        std::vector<NodeId> out;
        for (std::size_t i = 0; i < count; ++i) out.push_back(static_cast<NodeId>(first + i));
        return out;
    };
    Mesh mesh;
    for (std::size_t e = 0; e < 3; ++e) mesh.add(ElementKind::Quad4, ids(10 * e, 4), RegionId{});
    EXPECT_TRUE(mesh.starts.empty());
    mesh.add(ElementKind::Tri3, ids(30, 3), RegionId{});
    mesh.add(ElementKind::Quad4, ids(40, 4), RegionId{});
    EXPECT_EQ(mesh.starts, (std::vector<std::size_t>{0, 4, 8, 12, 15, 19}));
    for (std::size_t e = 0; e < 5; ++e) {
        const NodeRange nodes = mesh.nodes_of(static_cast<ElementId>(e));
        EXPECT_EQ(nodes.size(), e == 3 ? 3U : 4U);
        EXPECT_EQ(index(nodes[0]), 10 * e);
    }
    mesh.pack_starts(); // they are needed
    EXPECT_EQ(mesh.starts.size(), 6U);
    Mesh even;
    for (std::size_t e = 0; e < 3; ++e) even.add(ElementKind::Tri3, ids(3 * e, 3), RegionId{});
    even.starts = {0, 3, 6, 9};
    even.pack_starts();
    EXPECT_TRUE(even.starts.empty());
    EXPECT_EQ(even.start(3), 9U);
}
