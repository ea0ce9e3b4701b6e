#include "model/model.hpp"

#include "support/studies.hpp"

#include <gtest/gtest.h>

using namespace upright;
using test::block_study;
using test::study_from;

namespace {

const ModelLoad& load_named(const Model& model, const std::string& name) {
    for (const ModelLoad& l : model.loads)
        if (l.name == name) return l;
    throw std::runtime_error(name);
}

} // namespace

TEST(Model, SurfacesHaveAreaCentroidAndNormal) {
    const Model model = build_model(study_from(block_study()));
    const ModelSurface& tip = model.surfaces[1];
    EXPECT_NEAR(tip.area, 16.0, 1e-12);
    EXPECT_NEAR((tip.centroid - Vec3(8, 2, 2)).norm(), 0.0, 1e-12);
    EXPECT_NEAR((tip.normal - Vec3(1, 0, 0)).norm(), 0.0, 1e-12);
    EXPECT_EQ(tip.nodes.size(), 25U);
}

// The nodal forces of every kind of load sum to the force and moment meant.
TEST(Model, ResultantsAreThoseMeant) {
    const Model model = build_model(study_from(block_study(R"(
[[load]]
name = "push"
on = "tip"
pressure = 2.5
[[load]]
name = "weight"
gravity = [0, 0, -9810]
[[point]]
name = "corner"
at = [8, 4, 4]
[[load]]
name = "hook"
on = "corner"
force = [1, 2, 3]
[[load]]
name = "each"
on = "tip"
force = [1, 0, 0]
spread = "each-face"
)")));
    const Resultant pull = resultant(model, load_named(model, "pull"));
    EXPECT_NEAR((pull.force - Vec3(0, 0, -100)).norm(), 0.0, 1e-9);
    EXPECT_NEAR((pull.moment - Vec3(8, 2, 2).cross(Vec3(0, 0, -100))).norm(), 0.0, 1e-9);
    const Resultant push = resultant(model, load_named(model, "push"));
    EXPECT_NEAR((push.force - Vec3(-40, 0, 0)).norm(), 0.0, 1e-9);
    EXPECT_NEAR((push.moment - Vec3(8, 2, 2).cross(Vec3(-40, 0, 0))).norm(), 0.0, 1e-9);
    const Resultant hook = resultant(model, load_named(model, "hook"));
    EXPECT_NEAR((hook.moment - Vec3(8, 4, 4).cross(Vec3(1, 2, 3))).norm(), 0.0, 1e-9);
    EXPECT_NEAR(resultant(model, load_named(model, "each")).force.x(), 16.0, 1e-9);
    const double mass = 128 * 7.85e-9;
    const Resultant weight = resultant(model, load_named(model, "weight"));
    EXPECT_NEAR(weight.force.z(), -9810 * mass, 1e-12);
    EXPECT_NEAR((weight.moment - Vec3(4, 2, 2).cross(Vec3(0, 0, -9810 * mass))).norm(), 0.0, 1e-12);
}

TEST(Model, GravityForcesFollowTheDensity) {
    const Model model = build_model(
        study_from(block_study("[[load]]\nname = \"weight\"\ngravity = [0, 0, -1e9]\n[[case]]\nname = "
                               "\"w\"\nsupports = \"clamp\"\nloads = { weight = 2 }\n")));
    std::vector<double> density(model.mesh.elements(), 0.25);
    const Eigen::VectorXd f = model.forces(model.cases.at(1), density);
    double sum = 0.0;
    for (Eigen::Index i = 2; i < f.size(); i += 3) sum += f[i];
    EXPECT_NEAR(sum, -2 * 0.25 * 128 * 7.85, 1e-9);
}

TEST(Model, SymmetryPlanesHoldTheirNormal) {
    const Model model = build_model(study_from(block_study("[symmetry]\nplanes = [\"y = 2\"]\n")));
    EXPECT_EQ(model.symmetry.size(), 9U * 5U);
    for (const Equation& e : model.symmetry) {
        ASSERT_EQ(e.terms.size(), 1U);
        const Model::Spot spot = model.spot(e.terms[0].freedom);
        EXPECT_EQ(spot.component, 1);
        EXPECT_DOUBLE_EQ(spot.at.y(), 2.0);
    }
    // Nobody loads the plane: it is no surface.
    for (const ModelSurface& s : model.surfaces)
        for (const MeshFace& f : s.faces) EXPECT_NE(f.side, 3);
}

TEST(Model, PointsOffTheBodyAreRefused) {
    EXPECT_NE(test::error_of(block_study("[[point]]\nname = \"far\"\nat = [20, 0, 0]\n[[load]]\nname = "
                                         "\"l\"\non = \"far\"\nforce = [1, 0, 0]\n"))
                  .find("off the body"),
              std::string::npos);
}
