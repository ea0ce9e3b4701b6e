// Parts as STEP: read again by the program's own reader, against closed forms.
#include "base/angles.hpp"
#include "geometry/cad_module.hpp"
#include "model/finished.hpp"
#include "part/extract.hpp"
#include "part/format.hpp"
#include "part/formats/step_skin.hpp"
#include "support/studies.hpp"

#include <cmath>
#include <random>

namespace upright {
namespace {

using test::study_from;

// 40 x 20 x 20 mm with a bore of 5 mm along y, a countersink at its near end and a ball cut out of the top
// corner.
std::string drilled(const std::string& more = {}) {
    return test::StudyText()
        .add("title = \"Lager é\"\n")
        .steel()
        .region("block", "box = [[0, 0, 0], [40, 20, 20]]")
        .region("bore", "cylinder = { from = [15, -1, 10], to = [15, 21, 10], radius = 5 }", "void")
        .region("sink", "cone = { from = [15, -1, 10], to = [15, 3, 10], radii = [8, 4] }", "void")
        .region("dent", "sphere = { center = [34, 20, 20], radius = 4 }", "void")
        .add("[[surface]]\nname = \"root\"\nof = \"block\"\nfacing = [-1, 0, 0]\n"
             "[[surface]]\nname = \"tip\"\nof = \"block\"\nfacing = [1, 0, 0]\n")
        .support("clamp", "root", R"(["x", "y", "z"])")
        .force("pull", "tip", "[0, 0, -100]")
        .load_case("bend", R"(["clamp"])", "{ pull = 1 }")
        .response("stiffness", "compliance")
        .minimize("stiffness")
        .mesh("size = 2.5")
        .add(more);
}

struct Written {
    cad::StepResult result;
    cad::File read;
    std::vector<std::string> said;
};

Written written(const Model& model, const Part& part, bool facets = false) {
    const test::TemporaryFolder folder;
    const auto file = folder.path() / "teil é.step";
    Written out;
    PartToWrite to{part.surface, model.units.length,
                   model.title,  &part,
                   &model,       {},
                   facets,       [&](const std::string& text) { out.said.push_back(text); },
                   &out.result};
    format_of(part_formats(), file).write(to, file);
    out.read = cad::module().read_step(file, 1e-3, 1e-3, 0.0);
    return out;
}

Part part_of(const Model& model, const std::function<bool(const Vec3&)>& solid) {
    std::vector<double> density;
    for (const Vec3& c : model.mesh.element_centers()) density.push_back(solid(c) ? 1.0 : 0.0);
    return PartField(model, density).extract({});
}

} // namespace

// Where all faces are exact the solid is the space itself.
TEST(Step, TheWholeSpaceIsExact) {
    const Model model = build_model(study_from(drilled()));
    const Part part = part_of(model, [](const Vec3&) { return true; });
    const Written w = written(model, part);
    EXPECT_TRUE(w.result.valid) << w.result.trouble;
    EXPECT_EQ(w.result.solids, 1);
    EXPECT_EQ(w.result.planes, 6);
    EXPECT_EQ(w.result.cylinders, 1);
    EXPECT_EQ(w.result.cones, 1);
    EXPECT_EQ(w.result.spheres, 1);
    EXPECT_EQ(w.result.patches + w.result.others, 0);
    // The cone has 7 mm at the face and reaches the bore's 5 mm two further on; a quarter of the ball is cut.
    const double bore = pi * (5.0 * 5.0 * 18.0 + 2.0 / 3.0 * (49.0 + 35.0 + 25.0));
    const double exact = 40.0 * 20.0 * 20.0 - bore - pi / 3.0 * 64.0;
    EXPECT_NEAR(w.result.volume / exact, 1.0, 1e-6);
    ASSERT_EQ(w.read.bodies.size(), 1U);
    EXPECT_NEAR(w.read.bodies[0].volume / exact, 1.0, 1e-6);
    for (const FacetFace& face : w.read.bodies[0].mesh.faces)
        if (face.kind == FaceKind::Cylinder) {
            EXPECT_NEAR(face.radius, 5.0, 1e-9);
            EXPECT_TRUE(face.hole);
        }
}

// A design with free faces, smooth and flat.
TEST(Step, FreeFacesAreSmoothOrFlat) {
    const Model model = build_model(study_from(drilled()));
    const Part part =
        part_of(model, [](const Vec3& c) { return std::hypot(c.x() - 15, c.z() - 8) < 9.0 || c.z() < 6.0; });
    const Written smooth = written(model, part);
    EXPECT_TRUE(smooth.result.valid) << smooth.result.trouble;
    EXPECT_GT(smooth.result.patches, 50);
    EXPECT_EQ(smooth.result.others, 0);
    EXPECT_GE(smooth.result.cylinders, 1);
    EXPECT_NEAR(smooth.result.volume / part.volume, 1.0, 0.015);
    EXPECT_GT(smooth.result.within_a_degree, 0.97);
    EXPECT_NEAR(smooth.read.bodies.at(0).volume / smooth.result.volume, 1.0, 1e-4);
    // Places of the free faces are where the design ends; as the file is read again as well.
    const SheetSet& sheets = *part.solid->sheets;
    EXPECT_LT(smooth.result.off, 0.3);
    EXPECT_LT(smooth.result.mean_off, 0.02);
    EXPECT_GT(smooth.result.within_a_tenth, 0.99);
    std::size_t beyond = 0;
    for (const Vec3& p : smooth.read.bodies.at(0).mesh.points) {
        double off = 1e300;
        for (std::size_t s = 0; s < sheets.count(); ++s)
            off = std::min(off, std::abs(sheets[static_cast<std::int32_t>(s)].value(p)));
        beyond += off > 0.1 * model.mesh.size ? 1 : 0;
    }
    EXPECT_LT(static_cast<double>(beyond),
              0.01 * static_cast<double>(smooth.read.bodies[0].mesh.points.size()));
    const Written flat = written(model, part, true);
    EXPECT_TRUE(flat.result.valid) << flat.result.trouble;
    EXPECT_GT(flat.result.planes, 50);
    EXPECT_NEAR(flat.result.volume / smooth.result.volume, 1.0, 0.001);
    EXPECT_EQ(flat.result.cylinders, smooth.result.cylinders);
}

// Wedges whose tips are about an edge of the space: no point is put outside, and volumes are those of the
// part.
TEST(Step, FreeFacesStayInTheSpace) {
    const Model model =
        build_model(study_from(drilled(), {"region.sink.active=false", "region.dent.active=false"}));
    for (int k = 0; k < 24; ++k) {
        std::vector<double> density;
        for (const Vec3& c : model.mesh.element_centers())
            density.push_back(std::clamp(
                0.5 + 0.2 * (0.35 * (k - 8) + 0.4 * (40.0 - c.x()) + 0.8 * std::sin(0.6 * c.y()) - c.z()),
                0.0, 1.0));
        const Part part = PartField(model, density).extract({});
        const StepSkin divided = step_skin(model, *part.solid, StepFaces::Divided);
        const StepSkin plain = step_skin(model, *part.solid, StepFaces::Smooth);
        Bounds box;
        for (const Vec3& p : divided.skin.points) box.include(p);
        EXPECT_GT(box.low.minCoeff(), -1e-6) << k;
        EXPECT_LT((box.high - Vec3(40, 20, 20)).maxCoeff(), 1e-6) << k;
        EXPECT_GE(divided.skin.triangles.size(), plain.skin.triangles.size());
        const double before = volume({plain.skin.points, plain.skin.triangles});
        EXPECT_NEAR(volume({divided.skin.points, divided.skin.triangles}) / before, 1.0, 0.005) << k;
    }
}

// Two caps of a ball of radius 20 on each other, whose rim is a crease; all free. Rings of points that are
// turned by half a step each, so that triangles have no neighbour of their own shape.
cad::Skin lens(int rings, int round) {
    cad::Skin out;
    out.title = "lens";
    const double radius = 20.0;
    const double opening = 50.0 * degree;
    const double low = radius * std::cos(opening); // of the rim above the ball's middle
    std::vector<std::vector<int>> row(static_cast<std::size_t>(2 * rings + 1));
    for (int i = -rings; i <= rings; ++i) {
        std::vector<int>& points = row[static_cast<std::size_t>(i + rings)];
        const double angle = opening * (1.0 - std::abs(i) / static_cast<double>(rings));
        const double height = (i < 0 ? -1.0 : 1.0) * (radius * std::cos(angle) - low);
        const int count = std::abs(i) == rings ? 1 : round;
        for (int k = 0; k < count; ++k) {
            points.push_back(static_cast<int>(out.points.size()));
            const double turn = 2.0 * pi * (k + 0.5 * std::abs(i)) / round;
            out.points.emplace_back(radius * std::sin(angle) * std::cos(turn),
                                    radius * std::sin(angle) * std::sin(turn), height);
        }
    }
    const auto add = [&](int a, int b, int c) {
        const Vec3& p = out.points[static_cast<std::size_t>(a)];
        const Vec3& q = out.points[static_cast<std::size_t>(b)];
        const Vec3& r = out.points[static_cast<std::size_t>(c)];
        if (Vec3(q - p).cross(Vec3(r - p)).dot(p + q + r) < 0.0) std::swap(b, c);
        out.triangles.push_back({a, b, c});
        out.surface_of.push_back(-1);
    };
    for (std::size_t i = 0; i + 1 < row.size(); ++i) {
        const std::vector<int>& near = row[i];
        const std::vector<int>& far = row[i + 1];
        const bool outwards = i < static_cast<std::size_t>(rings);
        for (int k = 0; k < round; ++k) {
            const auto at = [&](const std::vector<int>& of, int n) {
                return of[static_cast<std::size_t>(n) % of.size()];
            };
            // The ring that is turned further lies half a step ahead of the other.
            const std::vector<int>& ahead = outwards ? near : far;
            const std::vector<int>& back = outwards ? far : near;
            if (back.size() > 1) add(at(back, k), at(back, k + 1), at(ahead, k));
            if (ahead.size() > 1) add(at(ahead, k), at(ahead, k + 1), at(back, k + 1));
        }
    }
    return out;
}

// Free faces meet in one tangent plane but at the rim, enclose what their facets do, and stay at the ball.
TEST(Step, SmoothFacesMeetWithinADegreeButAtCreases) {
    const test::TemporaryFolder folder;
    for (const auto& [rings, round] : {std::pair{4, 15}, {5, 17}}) {
        cad::Skin skin = lens(rings, round);
        const cad::StepResult smooth = cad::module().write_step(skin, folder.path() / "smooth.step");
        ASSERT_TRUE(smooth.valid) << smooth.trouble;
        EXPECT_EQ(smooth.patches, static_cast<int>(skin.triangles.size()));
        EXPECT_LT(smooth.bend, 1.0) << rings;
        EXPECT_EQ(smooth.within_a_degree, 1.0);
        const cad::File read = cad::module().read_step(folder.path() / "smooth.step", 1e-3, 1e-3, 0.0);
        skin.facets = true;
        const cad::StepResult flat = cad::module().write_step(skin, folder.path() / "flat.step");
        ASSERT_TRUE(flat.valid) << flat.trouble;
        EXPECT_NEAR(smooth.volume / flat.volume, 1.0, 1e-3) << rings;
        // What the middles of the longest chords are inside it by.
        const double chord = 2.0 * pi * 20.0 * std::sin(50.0 * degree) / round;
        const double sag = chord * chord / (8.0 * 20.0);
        const double low = 20.0 * std::cos(50.0 * degree);
        for (const Vec3& p : read.bodies.at(0).mesh.points) {
            const double off = std::hypot(p.x(), p.y(), std::abs(p.z()) + low) - 20.0;
            if (std::abs(p.z()) > 0.5) EXPECT_NEAR(off, 0.0, sag) << rings;
        }
    }
}

// Coarse and uneven: with two normals in common (a degree of five) 85 to 99 % of the places are within a
// degree, and all within 4.4.
TEST(Step, SmoothFacesOfUnevenSkinsMeetWithinADegree) {
    const test::TemporaryFolder folder;
    std::mt19937 any(5);
    for (const auto& [rings, round] : {std::pair{3, 11}, {4, 12}, {2, 9}}) {
        cad::Skin skin = lens(rings, round);
        for (Vec3& p : skin.points)
            for (int axis = 0; axis < 3; ++axis)
                p[axis] += 1.2 * (static_cast<double>(any()) / 4294967295.0 - 0.5);
        const cad::StepResult smooth = cad::module().write_step(skin, folder.path() / "uneven.step");
        EXPECT_TRUE(smooth.valid) << smooth.trouble;
        EXPECT_LT(smooth.bend, 1.6) << rings;
        EXPECT_GT(smooth.within_a_degree, 0.997) << rings;
    }
}

// A needle with a bump at its tip, whose curved sides would cross and its face turn over.
TEST(Step, NeedlesDoNotTurnOver) {
    const test::TemporaryFolder folder;
    for (const auto& [deep, bump] : {std::pair{0.01, 0.2}, {0.02, 0.3}, {0.03, 0.4}}) {
        cad::Skin skin = lens(2, 9);
        const std::size_t t = skin.triangles.size() / 4;
        const auto [a, b, c] = skin.triangles[t];
        const auto at = [&](std::int32_t p) { return skin.points[static_cast<std::size_t>(p)]; };
        const Vec3 out = Vec3(at(b) - at(a)).cross(Vec3(at(c) - at(a))).normalized();
        const auto tip = static_cast<std::int32_t>(skin.points.size());
        skin.points.emplace_back((1.0 - deep) * (0.3 * at(a) + 0.7 * at(b)) + deep * at(c) + bump * out);
        skin.triangles[t] = {a, b, tip};
        skin.triangles.push_back({b, c, tip});
        skin.triangles.push_back({c, a, tip});
        skin.surface_of.resize(skin.triangles.size(), -1);
        const cad::StepResult smooth = cad::module().write_step(skin, folder.path() / "needle.step");
        EXPECT_TRUE(smooth.valid) << smooth.trouble;
        EXPECT_LT(smooth.bend, 75.0) << bump;
    }
}

// Holes drilled through a free face, whose arcs bulge into the triangles about them.
TEST(Step, SmoothFacesDoNotFoldAboutDrilledHoles) {
    std::string holes;
    for (int k = 0; k < 4; ++k)
        holes += "[[finish]]\nname = \"hole-" + std::to_string(k) +
                 "\"\nrole = \"cut\"\ncylinder = { from = [" + std::to_string(22 + 4 * k) + ", " +
                 std::to_string(5 + 3 * k) + ", -1], to = [" + std::to_string(22 + 4 * k) + ", " +
                 std::to_string(5 + 3 * k) + ", 21], radius = " + std::to_string(1.0 + 0.3 * k) + " }\n";
    const Model model = finished(
        build_model(study_from(drilled(holes), {"region.sink.active=false", "region.dent.active=false"})));
    const Part part = part_of(model, [](const Vec3& c) { return c.z() < 14.0 - 0.2 * (c.x() - 20.0); });
    const Written w = written(model, part);
    EXPECT_TRUE(w.result.valid) << w.result.trouble;
    EXPECT_EQ(w.result.cylinders, 5);
    EXPECT_LT(w.result.bend, 20.0);
    EXPECT_GT(w.result.within_a_degree, 0.97);
}

// The whole of a half model: faces go on across the plane of symmetry.
TEST(Step, MirroredHalvesAreOneSolid) {
    const Model model =
        build_model(study_from(drilled("[symmetry]\nplanes = [\"y = 0\"]\n"), {"region.sink.active=false"}));
    const Part part = part_of(model, [](const Vec3&) { return true; });
    const Written w = written(model, part);
    EXPECT_TRUE(w.result.valid) << w.result.trouble;
    EXPECT_EQ(w.result.planes, 6);
    EXPECT_EQ(w.result.cylinders, 1);
    EXPECT_EQ(w.result.spheres, 2);
    EXPECT_NEAR(w.result.volume, 40.0 * 40.0 * 20.0 - pi * 25.0 * 40.0 - 2.0 * pi / 3.0 * 64.0, 1e-2);
}

// A hollow that nothing leads to, and two pieces.
TEST(Step, HollowsAndPieces) {
    const Model model =
        build_model(study_from(drilled(), {"region.bore.active=false", "region.sink.active=false"}));
    const Part hollow = part_of(model, [](const Vec3& c) { return (c - Vec3(15, 10, 10)).norm() > 6.0; });
    const Written w = written(model, hollow);
    EXPECT_TRUE(w.result.valid) << w.result.trouble;
    EXPECT_EQ(w.result.solids, 1);
    EXPECT_NEAR(w.result.volume / hollow.volume, 1.0, 5e-3);
    const Part two = part_of(model, [](const Vec3& c) { return std::abs(c.x() - 20) > 5.0; });
    const Written both = written(model, two);
    EXPECT_TRUE(both.result.valid) << both.result.trouble;
    EXPECT_EQ(both.result.solids, 2);
    EXPECT_EQ(both.read.bodies.size(), 2U);
}

TEST(Step, PartsWithoutTetrahedraAreRefused) {
    const Model model = build_model(study_from(test::half_beam(6, 4, false)));
    const Part part = part_of(model, [](const Vec3&) { return true; });
    EXPECT_THROW(written(model, part), Error);
}

} // namespace upright
