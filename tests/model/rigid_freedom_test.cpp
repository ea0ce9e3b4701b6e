#include "model/rigid_freedom.hpp"

#include "support/studies.hpp"

#include <gtest/gtest.h>

using namespace upright;
using test::block_study;
using test::study_from;

namespace {

std::vector<FreeMotion> left_free(const std::string& hold, const std::string& extra = {},
                                  const std::string& on = "\"root\"") {
    const Model model =
        build_model(study_from(block_study(extra), {"support.clamp.hold=" + hold, "support.clamp.on=" + on}));
    return free_motions(model, &model.cases.at(0))[0].motions;
}

} // namespace

TEST(RigidFreedom, ClampHoldsEverything) {
    EXPECT_TRUE(left_free("[\"x\", \"y\", \"z\"]").empty());
}

TEST(RigidFreedom, NothingHeldLeavesSix) {
    const Model model = build_model(study_from(block_study()));
    EXPECT_EQ(free_motions(model, nullptr)[0].motions.size(), 6U);
}

TEST(RigidFreedom, NamesTheTranslation) {
    const auto motions = left_free("[\"x\", \"y\"]");
    ASSERT_EQ(motions.size(), 1U);
    EXPECT_FALSE(motions[0].rotation);
    EXPECT_NEAR(std::abs(motions[0].direction.z()), 1.0, 1e-9);
    EXPECT_EQ(motions[0].text({}), "translation along z");
}

TEST(RigidFreedom, NamesTheRotationAndItsAxis) {
    // One point holds all three translations: three rotations about it are left.
    const auto motions =
        left_free("[\"x\", \"y\", \"z\"]", "[[point]]\nname = \"pin\"\nat = [0, 4, 2]\n", "\"pin\"");
    ASSERT_EQ(motions.size(), 3U);
    for (const FreeMotion& m : motions) {
        EXPECT_TRUE(m.rotation);
        // The axis passes through the pin.
        EXPECT_NEAR((Vec3(0, 4, 2) - m.through).cross(m.direction).norm(), 0.0, 1e-6);
        EXPECT_NEAR(m.pitch, 0.0, 1e-6);
    }
}

TEST(RigidFreedom, HeldAlongOneAxisLeavesPlaneMotion) {
    const auto motions = left_free(
        "[\"z\"]", "[[surface]]\nname = \"floor\"\nof = \"block\"\nfacing = [0, 0, -1]\n", "\"floor\"");
    ASSERT_EQ(motions.size(), 3U);
    EXPECT_EQ(std::count_if(motions.begin(), motions.end(), [](const FreeMotion& m) { return m.rotation; }),
              1);
}

TEST(RigidFreedom, LooksAtEveryPiece) {
    const Model model = build_model(study_from(
        block_study("[[region]]\nname = \"gap\"\nrole = \"void\"\nbox = [[4, 0, 0], [5, 4, 4]]\n")));
    const auto parts = free_motions(model, &model.cases.at(0));
    ASSERT_EQ(parts.size(), 2U);
    EXPECT_TRUE(parts[0].motions.empty());
    EXPECT_EQ(parts[1].motions.size(), 6U);
    EXPECT_EQ(parts[1].elements, 48U);
}

TEST(RigidFreedom, FindsHinges) {
    // A second block hangs on the first along one edge: it can turn about it.
    const std::string hung = "[[region]]\nname = \"hung\"\nrole = \"design\"\nmaterial = \"steel\"\nbox = "
                             "[[8, 4, 0], [12, 8, 4]]\n";
    const Model hinge = build_model(study_from(block_study(hung)));
    const auto parts = free_motions(hinge, &hinge.cases.at(0));
    ASSERT_EQ(parts.size(), 2U);
    EXPECT_TRUE(parts[0].motions.empty());
    ASSERT_EQ(parts[1].motions.size(), 1U);
    const FreeMotion& turn = parts[1].motions[0];
    EXPECT_TRUE(turn.rotation);
    EXPECT_NEAR(std::abs(turn.direction.z()), 1.0, 1e-6);
    EXPECT_NEAR(turn.through.x(), 8.0, 1e-6);
    EXPECT_NEAR(turn.through.y(), 4.0, 1e-6);
    // A third one closes the ring on two more edges: nothing turns any more.
    const Model ring =
        build_model(study_from(block_study(hung + "[[region]]\nname = \"third\"\nrole = \"design\"\nmaterial "
                                                  "= \"steel\"\nbox = [[0, 8, 0], [8, 12, 4]]\n"
                                                  "[[region]]\nname = \"tie\"\nrole = \"design\"\nmaterial = "
                                                  "\"steel\"\nbox = [[0, 4, 0], [2, 8, 4]]\n")));
    for (const FreePart& part : free_motions(ring, &ring.cases.at(0))) EXPECT_TRUE(part.motions.empty());
}

TEST(RigidFreedom, WorksInThePlane) {
    const Model model = build_model(study_from(test::half_beam(6, 2, false)));
    EXPECT_TRUE(free_motions(model, &model.cases.at(0))[0].motions.empty());
    EXPECT_EQ(free_motions(model, nullptr)[0].motions.size(), 3U);
}
