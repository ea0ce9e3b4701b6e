#include "store/vtu.hpp"

#include "support/studies.hpp"

#include <gtest/gtest.h>

using namespace upright;

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
