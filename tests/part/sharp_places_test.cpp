// Sharp tetrahedra are named with their place, and those that the shape makes are told apart.
#include "base/angles.hpp"
#include "part/extract.hpp"
#include "part/solid/sharp_places.hpp"
#include "support/studies.hpp"
#include "tell/part_text.hpp"

#include <fmt/format.h>

namespace upright {
namespace {

using test::block_study;
using test::study_from;

// One tetrahedron on the edge from (0, 0, 0) to (1, 0, 0) with the angle there; its two faces at the edge
// lie on the sheets.
SolidPart wedge(double degrees, std::int32_t first, std::int32_t second) {
    SolidPart out;
    const double a = degrees * degree;
    out.points = {{0, 0, 0}, {1, 0, 0}, {0.5, 1, 0}, {0.5, std::cos(a), std::sin(a)}};
    out.tets = {{0, 1, 2, 3}};
    out.region = {RegionId{}};
    out.faces.push_back({{0, 2, 1}, 0, -1, first});
    out.faces.push_back({{0, 1, 3}, 0, -1, second});
    return out;
}

} // namespace

TEST(SharpPlaces, AWedgeOfTheShapeIsItsOwn) {
    const std::vector<SharpPlace> found = sharp_places(wedge(12.0, 3, 4));
    ASSERT_EQ(found.size(), 1U);
    EXPECT_NEAR(found[0].angle, 12.0, 1e-9);
    EXPECT_NEAR((found[0].at - Vec3(0.5, 0, 0)).norm(), 0.0, 1e-12);
    EXPECT_TRUE(found[0].own);
    EXPECT_EQ(found[0].sheets[0] + found[0].sheets[1], 7);
    EXPECT_TRUE(sharp_places(wedge(20.0, 3, 4)).empty());
    // Two triangles of one face make no edge of the shape.
    EXPECT_FALSE(sharp_places(wedge(12.0, 3, 3)).at(0).own);
}

// Two of 12 degrees side by side: the shape has 24, and one would do.
TEST(SharpPlaces, AWideWedgeThatIsDividedIsNotTheShapes) {
    SolidPart two = wedge(12.0, 3, 4);
    const double a = -12.0 * degree;
    two.points.emplace_back(0.5, std::cos(a), std::sin(a));
    two.tets.push_back({0, 1, 4, 2});
    two.region.push_back(RegionId{});
    two.faces[0] = {{0, 4, 1}, 0, -1, 3};
    const std::vector<SharpPlace> found = sharp_places(two);
    ASSERT_EQ(found.size(), 2U);
    for (const SharpPlace& p : found) EXPECT_FALSE(p.own);
}

// Through the whole way: a lip with an edge of 11.3 degrees has tetrahedra of that angle along it, and says
// between which faces; so does one that ends a hair beside the edge it was drawn to, as CAD has them.
TEST(SharpPlaces, ALipNamesItsFaces) {
    for (const double off : {0.0, 1e-6, -1e-6, -1e-4, 5e-4}) {
        const Study study = study_from(block_study(fmt::format(R"(
[[region]]
name = "undercut"
role = "void"
prism = {{ polygon = [[8.5, {}], [4, {}], [4, 2], [8.5, 2]], from = [0, 0, -1], to = [0, 0, 5] }}
)",
                                                               4.1 + off, 3.2 + off)));
        const Model model = build_model(study);
        const Part part = PartField(model, std::vector<double>(model.mesh.elements(), 1.0)).extract({});
        ASSERT_TRUE(part.solid) << off;
        EXPECT_TRUE(part.closed) << off;
        EXPECT_NEAR(part.volume, 128.0 - 0.5 * 4.0 * 4.0 * (1.2 + 2.0), 0.02) << off;
        const std::vector<SharpPlace> found = sharp_places(*part.solid);
        ASSERT_FALSE(found.empty()) << off;
        EXPECT_NEAR(found[0].angle, std::atan(0.2) / degree, 0.1) << off;
        EXPECT_LT(part.solid->most_angle, 165.0) << off;
        const std::string text = sharp_text(model, *part.solid, found);
        EXPECT_NE(text.find("because the shape is as sharp: a plane of "), std::string::npos) << text;
    }
    // Nothing is said where nothing is sharp.
    const Model plain = build_model(study_from(block_study()));
    const Part whole = PartField(plain, std::vector<double>(plain.mesh.elements(), 1.0)).extract({});
    EXPECT_TRUE(sharp_text(plain, *whole.solid, sharp_places(*whole.solid)).empty());
}

} // namespace upright
