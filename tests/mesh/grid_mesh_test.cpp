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
