#include "geometry/region_field.hpp"
#include "geometry/space.hpp"
#include "support/studies.hpp"

namespace upright {
namespace {

using test::study_from;
using test::StudyText;

// A plate with a hole through it, a ring around the hole, a layer on its inside, and a pad that is confined.
RegionField plate() {
    return RegionField(study_from(
        StudyText()
            .steel()
            .region("plate", "box = [[0, 0, 0], [40, 40, 10]]")
            .region("hole", "cylinder = { from = [20, 20, -5], to = [20, 20, 15], radius = 5 }", "void")
            .region("rim", "ring = { around = \"hole\", width = 3, depth = 2 }", "keep")
            .region("pad", "box = [[30, 30, 0], [60, 60, 10]]\nwithin = \"plate\"", "keep")
            .mesh("size = 5\n")));
}

} // namespace

TEST(RegionField, ResolvesItsNamesOnce) {
    const RegionField field = plate();
    ASSERT_EQ(field.size(), 4U);
    EXPECT_TRUE(field[1].inside_of.empty());
    EXPECT_EQ(field[3].inside_of, std::vector<std::size_t>{0});
    EXPECT_EQ(field.holes({}, {}).size(), 1U);
    EXPECT_TRUE(field.holes({}, 4.0).empty());
    // Rings at both mouths of the hole.
    ASSERT_EQ(field.extents().rings[2].size(), 2U);
    for (const Ring& ring : field.extents().rings[2]) {
        EXPECT_DOUBLE_EQ(ring.inner, 5.0);
        EXPECT_DOUBLE_EQ(ring.outer, 8.0);
        EXPECT_NEAR((ring.to - ring.from).norm(), 2.0, 1e-9);
        EXPECT_NEAR(std::min(std::abs(ring.from.z()), std::abs(ring.from.z() - 10.0)), 0.0, 1e-6);
    }
}

TEST(RegionField, DistancesOfBodyAndKeptPartAgainstClosedForms) {
    const RegionField field = plate();
    const auto at = [&](double x, double y, double z) { return field.parts(Vec3(x, y, z)); };
    // In the middle of the plate's corner piece: nearest the lower face.
    EXPECT_NEAR(at(5, 5, 4).body, -4.0, 1e-9);
    EXPECT_GT(at(5, 5, 4).kept, 0.0);
    // On the hole's axis the wall is a radius away; beside it, inside of the ring, a kept place.
    EXPECT_NEAR(at(20, 20, 5).body, 5.0, 1e-9);
    EXPECT_NEAR(at(26.5, 20, 1).kept, -1.0, 1e-6);
    EXPECT_NEAR(at(26.5, 20, 5).kept, 3.0,
                1e-6); // between the rings, 3 below the upper one and above the lower
    // The pad is cut to the plate.
    EXPECT_NEAR(at(50, 35, 5).kept, 10.0, 1e-9);
    EXPECT_NEAR(at(50, 35, 5).body, 10.0, 1e-9);
    EXPECT_NEAR(at(35, 35, 5).kept, -5.0, 1e-9);
    // One composition: what carving is told is what painting and cutting are told.
    for (const Vec3& p : {Vec3(5, 5, 4), Vec3(20, 20, 5), Vec3(-3, 5, 5), Vec3(27, 20, 9)})
        EXPECT_NEAR(field.parts(p).body, field.body_distance(p), 1e-12) << p.transpose();
}

TEST(RegionField, TheLastToPaintOwns) {
    const RegionField field = plate();
    EXPECT_EQ(field.owner(Vec3(5, 5, 5)), static_cast<RegionId>(0));
    EXPECT_EQ(field.owner(Vec3(20, 20, 5)), static_cast<RegionId>(1));
    EXPECT_EQ(field.owner(Vec3(26, 20, 9)), static_cast<RegionId>(2));
    EXPECT_EQ(field.owner(Vec3(35, 35, 5)), static_cast<RegionId>(3));
    EXPECT_EQ(field.owner(Vec3(50, 50, 5)), RegionId::None); // the pad is confined
    EXPECT_EQ(field.owner(Vec3(0, 0, 50)), RegionId::None);
}

TEST(RegionField, ARingWithoutAHoleIsSaid) {
    const std::string text =
        StudyText()
            .steel()
            .region("plate", "box = [[0, 0, 0], [40, 40, 10]]")
            .region("hole", "cylinder = { from = [90, 90, 0], to = [90, 90, 10], radius = 5 }", "void")
            .region("rim", "ring = { around = \"hole\", width = 3, depth = 2 }", "keep")
            .mesh("size = 5\n");
    try {
        make_space(study_from(text));
        FAIL();
    } catch (const Error& bad) {
        EXPECT_NE(std::string(bad.what()).find("lie outside of the body"), std::string::npos) << bad.what();
    }
}

} // namespace upright
