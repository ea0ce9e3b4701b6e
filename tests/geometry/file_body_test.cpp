#include "geometry/file_body.hpp"
#include "geometry/step_apart.hpp"
#include "support/folder.hpp"
#include "support/sanitized.hpp"
#include "support/studies.hpp"

#include <gtest/gtest.h>

using namespace upright;

namespace {

// A box as ASCII STL; `turned` flips every triangle, `open` leaves all but the floor and one wall out.
std::string stl_box(bool turned, bool open) {
    const std::vector<Vec3> p{{0, 0, 0}, {2, 0, 0}, {2, 3, 0}, {0, 3, 0},
                              {0, 0, 4}, {2, 0, 4}, {2, 3, 4}, {0, 3, 4}};
    const std::vector<std::array<std::size_t, 3>> t{{0, 2, 1}, {0, 3, 2}, {4, 5, 6}, {4, 6, 7},
                                                    {0, 1, 5}, {0, 5, 4}, {1, 2, 6}, {1, 6, 5},
                                                    {2, 3, 7}, {2, 7, 6}, {3, 0, 4}, {3, 4, 7}};
    std::string out = "solid box\n";
    for (std::size_t i = 0; i < t.size() - (open ? 8 : 0); ++i) {
        out += "facet normal 0 0 0\nouter loop\n";
        for (std::size_t k = 0; k < 3; ++k) {
            const Vec3& v = p[t[i][turned ? 2 - k : k]];
            out += "vertex " + std::to_string(v.x()) + " " + std::to_string(v.y()) + " " +
                   std::to_string(v.z()) + "\n";
        }
        out += "endloop\nendfacet\n";
    }
    return out + "endsolid box\n";
}

std::string bodies(const char* name) {
    return std::string(UPRIGHT_TEST_BODIES) + "/" + name;
}

} // namespace

TEST(Facets, DistanceAndInside) {
    const test::TemporaryFolder folder;
    const BodyFile file = read_bodies(folder.write("box.stl", stl_box(false, false)), {}, 1.0, 1e-3, false);
    ASSERT_EQ(file.bodies.size(), 1U);
    const FacetBody& body = *file.bodies[0];
    EXPECT_NEAR(body.volume(), 24.0, 1e-9);
    EXPECT_EQ(body.mesh().faces.size(), 6U);
    EXPECT_NEAR(body.signed_distance({1, 1, 1}), -1.0, 1e-12);
    EXPECT_NEAR(body.signed_distance({3, 1, 1}), 1.0, 1e-12);
    EXPECT_NEAR(body.signed_distance({5, 7, 4}), 5.0, 1e-12);
    EXPECT_FALSE(body.inside({1, 1, -0.01}));
    EXPECT_TRUE(file.remarks.empty());
}

TEST(Facets, InsideOutIsTurnedAndSaid) {
    const test::TemporaryFolder folder;
    const BodyFile file = read_bodies(folder.write("box.stl", stl_box(true, false)), {}, 1.0, 1e-3, false);
    EXPECT_NEAR(file.bodies[0]->volume(), 24.0, 1e-9);
    ASSERT_EQ(file.remarks.size(), 1U);
    EXPECT_NE(file.remarks[0].find("inside out"), std::string::npos);
}

TEST(Facets, AnOpenSurfaceIsRefusedWithAPlace) {
    const test::TemporaryFolder folder;
    try {
        read_bodies(folder.write("box.stl", stl_box(false, true)), {}, 1.0, 1e-3, false);
        FAIL();
    } catch (const Error& bad) {
        EXPECT_NE(std::string(bad.what()).find("not closed"), std::string::npos) << bad.what();
    }
}

TEST(StepFile, BodiesNamesFacesAndHoles) {
    const BodyFile file = read_bodies(bodies("two-bodies.step"), {}, 1.0, 1e-3, false);
    ASSERT_EQ(file.bodies.size(), 2U);
    EXPECT_EQ(file.bodies[0]->name(), "plate");
    EXPECT_EQ(file.bodies[1]->name(), "post");
    EXPECT_NEAR(file.bodies[0]->volume(), 6000.0, 1e-6);
    EXPECT_EQ(file.bodies[0]->mesh().faces.size(), 6U);
    const BodyFile holes = read_bodies(bodies("bracket.step"), {}, 1.0, 1e-3, false);
    int count = 0;
    for (const FacetFace& f : holes.bodies[0]->mesh().faces)
        if (f.kind == FaceKind::Cylinder && f.hole && std::abs(f.radius - 1.0) < 1e-9) ++count;
    EXPECT_EQ(count, 3);
}

TEST(StepFile, AnInchFileComesOutInMillimetres) {
    const BodyFile file = read_bodies(bodies("inch-plate.step"), {}, 1.0, 1e-3, false);
    EXPECT_EQ(file.unit, "in");
    EXPECT_NEAR(file.bodies[0]->bounds().size().x(), 101.6, 1e-6);
}

TEST(StepFile, PaintsAGridThroughTheStudy) {
    const Model m = build_model(
        test::study_from(std::string("units = [\"mm\", \"N\", \"s\"]\n") + test::steel +
                         "[[region]]\nname = \"b\"\nrole = \"design\"\nmaterial = \"steel\"\nfile = \"" +
                         bodies("two-bodies.step") +
                         "\"\nbody = \"plate\"\n[[surface]]\nname = \"top\"\ncad = 6\n[mesh]\nsize = 2.5\n"));
    EXPECT_NEAR(m.regions[0].volume, 6000.0, 1e-6);
    EXPECT_NEAR(m.surfaces[0].area, 1200.0, 1e-6);
}

// The CAD library crashes on a line whose direction is none: that is a message, and the program goes on.
TEST(FileBody, WhatBreaksTheCadLibraryIsAMessage) {
    std::ifstream in(bodies("inch-plate.step"));
    std::string text{std::istreambuf_iterator<char>(in), std::istreambuf_iterator<char>()};
    const std::string line = "LINE('',#28,#29);";
    ASSERT_NE(text.find(line), std::string::npos);
    text.replace(text.find(line), line.size(), "LINE('',#28,#11);");
    const test::TemporaryFolder folder;
    const auto file = folder.write("platte é.step", text);
    try {
        read_bodies(file, {}, 1.0, 1e-3, false);
        FAIL() << "it was read";
    } catch (const Error& bad) {
        EXPECT_NE(std::string(bad.what()).find("the CAD library breaks down on it"), std::string::npos)
            << bad.what();
    }
    // A file that takes long, and one that takes much memory.
    ApartLimits little;
    little.memory = 1e6;
    if (!test::sanitized)
        EXPECT_THROW(read_step_apart(bodies("hundred-faces.step"), 1e-3, 1e-5, 0.0, little),
                     std::runtime_error);
    const cad::File whole = read_step_apart(bodies("hundred-faces.step"), 1e-3, 1e-3, 0.0);
    const cad::File here = cad::module().read_step(bodies("hundred-faces.step"), 1e-3, 1e-3, 0.0);
    ASSERT_EQ(whole.bodies.size(), here.bodies.size());
    EXPECT_EQ(whole.unit, here.unit);
    for (std::size_t b = 0; b < whole.bodies.size(); ++b) {
        EXPECT_EQ(whole.bodies[b].name, here.bodies[b].name);
        EXPECT_EQ(whole.bodies[b].volume, here.bodies[b].volume);
        EXPECT_EQ(whole.bodies[b].mesh.triangles, here.bodies[b].mesh.triangles);
        EXPECT_EQ(whole.bodies[b].mesh.points, here.bodies[b].mesh.points);
        EXPECT_EQ(whole.bodies[b].mesh.faces.size(), here.bodies[b].mesh.faces.size());
    }
}
