#include "store/vtu.hpp"

#include "mesh/vtu_file.hpp"
#include "support/studies.hpp"

#include <gtest/gtest.h>

using namespace upright;

// Nodes and cells of several kinds, as the format numbers them: a wedge's rings run the other way round.
TEST(Vtu, CellsOfSeveralKindsComeBack) {
    const test::TemporaryFolder folder;
    Mesh mesh;
    mesh.nodes = {
        {0, 0, 0}, {1, 0, 0}, {0, 1, 0}, {0, 0, 1}, {1, 0, 1}, {0, 1, 1}, {0.3, 0.3, 2.0 / 3.0 + 1}};
    const auto ids = [](const std::vector<int>& numbers) {
        std::vector<NodeId> out;
        for (const int n : numbers) out.push_back(static_cast<NodeId>(n));
        return out;
    };
    mesh.add(ElementKind::Wedge6, ids({0, 1, 2, 3, 4, 5}), RegionId{});
    mesh.add(ElementKind::Tet4, ids({3, 4, 5, 6}), RegionId{});
    mesh.finish();
    write_vtu(folder.path() / "two.vtu", mesh, {}, {{"part", 1, {1.0, 2.0}}});
    const VtuFile back =
        read_vtu_file(folder.path() / "two.vtu", [](const std::string&, int) { return true; });
    EXPECT_EQ(back.points, mesh.nodes);
    EXPECT_EQ(back.starts, (std::vector<std::int64_t>{0, 6, 10}));
    EXPECT_EQ(back.connectivity, (std::vector<std::int64_t>{0, 2, 1, 3, 5, 4, 3, 4, 5, 6}));
    ASSERT_EQ(back.types.size(), 2U);
    EXPECT_EQ(static_cast<int>(back.types[0]), 13);
    EXPECT_EQ(static_cast<int>(back.types[1]), 10);
    EXPECT_EQ(back.at_cells.at("part").values, (std::vector<double>{1.0, 2.0}));
    EXPECT_EQ(index(mesh.connectivity[1]), 1U); // the mesh itself is as it was
}

TEST(Vtu, ComesBackAsWritten) {
    const test::TemporaryFolder folder;
    const Model model = build_model(test::study_from(test::block_study()));
    Eigen::VectorXd u(static_cast<Eigen::Index>(model.freedoms()));
    for (Eigen::Index i = 0; i < u.size(); ++i) u[i] = std::sin(static_cast<double>(i));
    std::vector<double> density(model.mesh.elements());
    for (std::size_t e = 0; e < density.size(); ++e) density[e] = 1.0 / static_cast<double>(e + 1);
    const auto file = folder.path() / "case é.vtu";
    write_vtu(file, model.mesh, {displacement_field(model.mesh, u)}, {{"density", 1, density}});
    EXPECT_EQ(read_vtu(file, model.mesh, "density", false).values, density);
    const VtuField back = read_vtu(file, model.mesh, "displacement", true);
    ASSERT_EQ(back.components, 3);
    EXPECT_EQ(back.values, displacement_field(model.mesh, u).values);
    EXPECT_THROW(read_vtu(file, model.mesh, "stress", false), Error);
    EXPECT_THROW(read_vtu(folder.path() / "none.vtu", model.mesh, "density", false), Error);
}
