#include "mesh/generators.hpp"

#include "base/angles.hpp"
#include "support/studies.hpp"

#include <cmath>
#include <gtest/gtest.h>
#include <map>

using namespace upright;

namespace {

// A ring of inner radius 10, outer 30 and height 12 about z, with a groove of radius 20 and depth 4 at the
// top.
std::string ring(const std::string& size, const std::string& extra = {}) {
    return std::string("units = [\"mm\", \"N\", \"s\"]\n") + test::steel + R"(
[[frame]]
name = "axle"
kind = "cylindrical"
origin = [5, -3, 2]
axis = [0, 0, 1]
[[region]]
name = "wheel"
role = "design"
material = "steel"
cylinder = { from = [5, -3, 2], to = [5, -3, 14], radius = 30 }
[[region]]
name = "bore"
role = "void"
cylinder = { from = [5, -3, 2], to = [5, -3, 14], radius = 10 }
[[region]]
name = "collar"
role = "keep"
material = "steel"
cylinder = { from = [5, -3, 10], to = [5, -3, 14], radius = 20 }
within = "wheel"
[[surface]]
name = "rim"
on_cylinder = { from = [5, -3, 2], to = [5, -3, 14], radius = 30 }
[[surface]]
name = "seat"
of = "bore"
[[support]]
name = "hub"
on = "seat"
hold = ["x", "y", "z"]
[[load]]
name = "push"
on = "rim"
pressure = 1
[[case]]
name = "squeeze"
supports = ["hub"]
loads = { push = 1 }
[mesh]
kind = "polar"
frame = "axle"
size = )" + size +
           "\n" + extra;
}

double volume_of(const Model& model) {
    double out = 0.0;
    for (std::size_t e = 0; e < model.mesh.elements(); ++e)
        out += model.mesh.volume(static_cast<ElementId>(e));
    return out;
}

// Directions of the nodes about the axis.
std::size_t around(const Mesh& mesh) {
    std::map<long, int> seen;
    for (const Vec3& p : mesh.nodes) ++seen[std::lround(1e6 * std::atan2(p.y() + 3, p.x() - 5))];
    return seen.size();
}

} // namespace

TEST(PolarMesh, HasTheVolumeOfItsPolygon) {
    for (const char* size : {"6", "4", "2.5"}) {
        const Model model = build_model(test::study_from(ring(size)));
        const auto n = static_cast<double>(around(model.mesh));
        const double polygon = 0.5 * n * std::sin(2 * pi / n); // of radius one
        EXPECT_NEAR(volume_of(model), polygon * (30 * 30 - 10 * 10) * 12, 1e-6 * 9000 * 12) << size;
        EXPECT_EQ(static_cast<int>(n) % 12, 0);
    }
}

TEST(PolarMesh, HasLinesAtEveryRadiusAndHeight) {
    const Model model = build_model(test::study_from(ring("7")));
    std::map<long, int> radii;
    std::map<long, int> heights;
    for (const Vec3& p : model.mesh.nodes) {
        ++radii[std::lround(1e6 * std::hypot(p.x() - 5, p.y() + 3))];
        ++heights[std::lround(1e6 * p.z())];
    }
    for (const long r : {10000000L, 20000000L, 30000000L}) EXPECT_TRUE(radii.count(r)) << r;
    for (const long z : {2000000L, 10000000L, 14000000L}) EXPECT_TRUE(heights.count(z)) << z;
    // So regions are met exactly: the collar is the ring from 10 to 20 over 4.
    const auto n = static_cast<double>(around(model.mesh));
    EXPECT_NEAR(model.regions[2].volume, 0.5 * n * std::sin(2 * pi / n) * (400 - 100) * 4, 1e-6 * 3600);
}

TEST(PolarMesh, PicksRoundSurfacesWhole) {
    const Model model = build_model(test::study_from(ring("5")));
    const auto n = static_cast<double>(around(model.mesh));
    const double side = 2 * std::sin(pi / n);
    EXPECT_NEAR(model.surfaces[0].area, n * side * 30 * 12, 1e-6 * 2262);
    // The collar was painted after the bore, around it: its wall there is its own, not one that the void
    // left.
    EXPECT_NEAR(model.surfaces[1].area, n * side * 10 * 8, 1e-6 * 754);
    // Normals point outward: their sum over a closed ring is zero.
    EXPECT_LT(model.surfaces[0].normal.norm(), 1e-9);
}

TEST(PolarMesh, RepeatsWithTheSectorsOfTheForm) {
    const Model model =
        build_model(test::study_from(ring("5", "[form]\nsectors = { frame = \"axle\", count = 7 }\n")));
    EXPECT_EQ(around(model.mesh) % 14, 0U);
}

TEST(PolarMesh, ASolidWheelHasWedgesOnItsAxis) {
    std::string text = ring("5");
    const auto at = text.find("[[region]]\nname = \"bore\"");
    const auto end = text.find("[[region]]\nname = \"collar\"");
    text.erase(at, end - at);
    text.replace(text.find("of = \"bore\""), 11, "facing = [0, 0, -1]");
    const Model model = build_model(test::study_from(text));
    std::map<ElementKind, int> kinds;
    for (std::size_t e = 0; e < model.mesh.elements(); ++e)
        ++kinds[model.mesh.kind(static_cast<ElementId>(e))];
    EXPECT_GT(kinds[ElementKind::Wedge6], 0);
    EXPECT_GT(kinds[ElementKind::Hex8], kinds[ElementKind::Wedge6]);
    EXPECT_EQ(kinds.size(), 2U);
    const auto n = static_cast<double>(around(model.mesh));
    EXPECT_NEAR(volume_of(model), 0.5 * (n - 1 + 1) * std::sin(2 * pi / n) * 900 * 12, 0.02 * 900 * pi * 12);
}

TEST(PolarMesh, RefusesWhatHasNoRoundBody) {
    std::string text = ring("5");
    for (auto at = text.find("cylinder = {"); at != std::string::npos; at = text.find("cylinder = {", at + 1))
        if (text.compare(at - 3, 3, "on_") != 0)
            text.replace(at, text.find('\n', at) - at, "box = [[90, 90, 90], [99, 99, 99]]");
    EXPECT_NE(test::error_of(text), "");
    EXPECT_NE(test::error_of(ring("5", "[symmetry]\nplanes = [\"x = 5\"]\n")).find("takes no symmetry plane"),
              std::string::npos);
    EXPECT_NE(test::error_of(ring("0.01")).find("Write a larger size"), std::string::npos);
}
