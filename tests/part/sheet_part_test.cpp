// Parts of plane and shell meshes from files: sheets as thick as their elements are said to be.
#include "base/angles.hpp"
#include "model/finished.hpp"
#include "model/thickened.hpp"
#include "part/extract.hpp"
#include "part/triangles.hpp"
#include "store/vtu.hpp"
#include "support/crossings.hpp"
#include "support/studies.hpp"

#include <functional>
#include <gtest/gtest.h>

namespace upright {
namespace {

using MidSurface = std::function<Vec3(double u, double v)>;

// Quadrilaterals (or two triangles of each) over a sheet, those in every second column turned over where
// `mixed`; the last column is the second region. `joined`: column `nu` is the first again, met as `meets`
// says.
Mesh sheet_mesh(int nu, int nv, const MidSurface& sheet, bool shell, bool triangles, bool mixed = false,
                bool joined = false, const std::function<int(int)>& meets = {}) {
    Mesh out;
    const int columns = joined ? nu : nu + 1;
    for (int i = 0; i < columns; ++i)
        for (int j = 0; j <= nv; ++j)
            out.nodes.push_back(sheet(static_cast<double>(i) / nu, static_cast<double>(j) / nv));
    const auto node = [&](int i, int j) {
        if (i == columns) return static_cast<NodeId>(meets ? meets(j) : j);
        return static_cast<NodeId>(i * (nv + 1) + j);
    };
    for (int i = 0; i < nu; ++i)
        for (int j = 0; j < nv; ++j) {
            std::vector<NodeId> ring{node(i, j), node(i + 1, j), node(i + 1, j + 1), node(i, j + 1)};
            if (mixed && i % 2 == 1) std::reverse(ring.begin(), ring.end());
            const auto region = static_cast<RegionId>(i == nu - 1 ? 1 : 0);
            if (!triangles) {
                out.add(shell ? ElementKind::ShellQuad4 : ElementKind::Quad4, ring, region);
                continue;
            }
            const ElementKind kind = shell ? ElementKind::ShellTri3 : ElementKind::Tri3;
            out.add(kind, {ring[0], ring[1], ring[2]}, region);
            out.add(kind, {ring[0], ring[2], ring[3]}, region);
        }
    return out;
}

void finish(Mesh& mesh, double thickness, double of_second = 0.0) {
    for (const RegionId r : mesh.region)
        mesh.thickness.push_back(index(r) == 1 && of_second > 0.0 ? of_second : thickness);
    mesh.size = 1.0;
    mesh.finish();
}

double volume_of_solid(const Mesh& mesh) {
    double out = 0.0;
    for (const double v : mesh.volumes) out += v;
    return out;
}

// Mid-surface 6 along x, then 4 up z; 2 wide.
Vec3 angle_sheet(double u, double v) {
    const double s = 10.0 * u;
    return {std::min(s, 6.0), 2.0 * v, std::max(0.0, s - 6.0)};
}

std::string why(const Mesh& mesh) {
    try {
        thickened(mesh, 0.0, {});
    } catch (const Error& error) {
        return error.what();
    }
    return {};
}

// The study of a sheet: x least held, x most (of the mid-surface) loaded; written as VTU and read again.
struct SheetFromFile {
    Study study;
    Model model;
};
SheetFromFile from_file(Mesh mesh, bool shell, const std::string& more = {}) {
    const test::TemporaryFolder folder;
    if (mesh.thickness.empty()) finish(mesh, 1.0);
    std::vector<double> low;
    std::vector<double> high;
    const double least = mesh.bounds.low.x();
    const double most = mesh.bounds.high.x();
    for (const Vec3& p : mesh.nodes) {
        low.push_back(p.x() < least + 1e-9 ? 1.0 : 0.0);
        high.push_back(p.x() > most - 1e-9 ? 1.0 : 0.0);
    }
    std::vector<double> zone;
    for (const RegionId r : mesh.region) zone.push_back(index(r) == 1 ? 2.0 : 1.0);
    write_vtu(folder.path() / "m.vtu", mesh, {{"low", 1, low}, {"high", 1, high}}, {{"zone", 1, zone}});
    test::StudyText text;
    text.material("m", "1000", "0", "1e-9")
        .region("free", "cells = { array = \"zone\", value = 1 }\nthickness = 1")
        .region("kept", "cells = { array = \"zone\", value = 2 }\nthickness = 2", "keep")
        .card("surface", "low", "set = \"low\"")
        .card("surface", "high", "set = \"high\"")
        .support("clamp", "low", shell ? R"(["x", "y", "z", "rx", "ry", "rz"])" : R"(["x", "y"])")
        .force("f", "high", shell ? "[100, 0, 0]" : "[100, 0]")
        .load_case("pull", R"(["clamp"])", "{ f = 1 }")
        .mesh(std::string("kind = \"file\"\nfile = \"m.vtu\"\nthickness = 1\nelement = ") +
              (shell ? "\"shell\"" : "\"plane-stress\"") + "\n")
        .add(more);
    const auto file = folder.write("s.toml", text.str());
    const Study study = load_study(file);
    return {study, finished(build_model(study))};
}

} // namespace

TEST(SheetPart, SheetsThatMeetAtAnAngleAreMitred) {
    for (const bool triangles : {false, true})
        for (const bool mixed : {false, true}) {
            Mesh mesh = sheet_mesh(10, 2, angle_sheet, true, triangles, mixed);
            finish(mesh, 1.0);
            const Thickened solid = thickened(mesh, 0.0, {});
            // A mitre takes inside what it gives outside.
            EXPECT_NEAR(volume_of_solid(solid.mesh), 10.0 * 2.0 * 1.0, 1e-12);
            EXPECT_EQ(solid.mesh.elements(), mesh.elements());
            EXPECT_EQ(solid.mesh.kind(ElementId{0}), triangles ? ElementKind::Wedge6 : ElementKind::Hex8);
            // The outer edge of the corner: a half thickness beyond both.
            double nearest = 1e300;
            for (const Vec3& p : solid.mesh.nodes)
                nearest = std::min(nearest, std::hypot(p.x() - 6.5, p.z() + 0.5));
            EXPECT_LT(nearest, 1e-12);
        }
}

TEST(SheetPart, ARingOfShellsIsAPipe) {
    const MidSurface pipe = [](double u, double v) {
        return Vec3(5.0 * std::cos(2.0 * pi * u), 5.0 * std::sin(2.0 * pi * u), 3.0 * v);
    };
    Mesh mesh = sheet_mesh(24, 3, pipe, true, false, false, true);
    finish(mesh, 1.0);
    const Thickened solid = thickened(mesh, 0.0, {});
    EXPECT_NEAR(volume_of_solid(solid.mesh), 24.0 * 10.0 * std::sin(pi / 24.0) * 3.0, 1e-9);
    EXPECT_EQ(face_connected_parts(solid.mesh).size(), mesh.elements());
    const auto groups = face_connected_parts(solid.mesh);
    EXPECT_EQ(*std::max_element(groups.begin(), groups.end()), 0);
}

TEST(SheetPart, ThicknessesShareTheirNodesWhereTheyMeet) {
    const MidSurface flat = [](double u, double v) { return Vec3(8.0 * u, 3.0 * v, 0.0); };
    Mesh mesh = sheet_mesh(8, 3, flat, false, false);
    finish(mesh, 8.0, 14.0);
    const Thickened solid = thickened(mesh, 4.0, {});
    EXPECT_NEAR(volume_of_solid(solid.mesh), 21.0 * 8.0 + 3.0 * 14.0, 1e-9);
    EXPECT_EQ(solid.mesh.elements(), 21U + 3U * 3U);
    EXPECT_NEAR(solid.mesh.bounds.low.z(), -3.0, 1e-12);
    EXPECT_NEAR(solid.mesh.bounds.high.z(), 11.0, 1e-12);
    const auto groups = face_connected_parts(solid.mesh);
    EXPECT_EQ(*std::max_element(groups.begin(), groups.end()), 0);
    for (std::size_t e = 0; e < solid.of.size(); ++e)
        EXPECT_EQ(solid.mesh.region[e], mesh.region[solid.of[e]]);
}

TEST(SheetPart, WhatHasNoOneSolidIsSaidWithItsPlace) {
    // A third plate on the corner.
    Mesh tee = sheet_mesh(10, 1, angle_sheet, true, false);
    const auto far = static_cast<NodeId>(tee.nodes.size());
    tee.nodes.emplace_back(8.0, 0.0, 0.0);
    tee.nodes.emplace_back(8.0, 2.0, 0.0);
    tee.add(ElementKind::ShellQuad4,
            {static_cast<NodeId>(12), far, static_cast<NodeId>(index(far) + 1), static_cast<NodeId>(13)},
            RegionId{0});
    finish(tee, 0.5);
    EXPECT_NE(why(tee).find("3 shells meet in one edge at (6, 1, 0)"), std::string::npos) << why(tee);
    const MidSurface band = [](double u, double v) {
        const double a = 2.0 * pi * u;
        const double r = 5.0 + (v - 0.5) * std::cos(0.5 * a);
        return Vec3(r * std::cos(a), r * std::sin(a), (v - 0.5) * std::sin(0.5 * a));
    };
    Mesh half_turn = sheet_mesh(24, 2, band, true, false, false, true, [](int j) { return 2 - j; });
    finish(half_turn, 0.1);
    EXPECT_NE(why(half_turn).find("one side only"), std::string::npos) << why(half_turn);
    const MidSurface fold = [](double u, double v) {
        const double s = 2.0 * u;
        return Vec3(s < 1.0 ? s : 2.0 - s, v, std::max(0.0, s - 1.0) * 0.1);
    };
    Mesh folded = sheet_mesh(2, 1, fold, true, false);
    finish(folded, 0.01);
    EXPECT_NE(why(folded).find("folds back on itself at (1, "), std::string::npos) << why(folded);
    const MidSurface pin = [](double u, double v) {
        return Vec3(0.3 * std::cos(2.0 * pi * u), 0.3 * std::sin(2.0 * pi * u), v);
    };
    Mesh thick = sheet_mesh(24, 1, pin, true, false, false, true);
    finish(thick, 1.0);
    EXPECT_NE(why(thick).find("bent more sharply than it is thick"), std::string::npos) << why(thick);
    Mesh many = sheet_mesh(12, 1, angle_sheet, true, false);
    for (std::size_t e = 0; e < many.elements(); ++e)
        many.thickness.push_back(0.1 + 0.01 * static_cast<double>(e));
    many.size = 1.0;
    many.finish();
    EXPECT_NE(why(many).find("12 different thicknesses"), std::string::npos) << why(many);
}

TEST(SheetPart, TheWholeOfAPlaneMeshIsItsPlates) {
    const MidSurface flat = [](double u, double v) { return Vec3(8.0 * u, 4.0 * v, 0.0); };
    for (const bool triangles : {false, true}) {
        const SheetFromFile m = from_file(sheet_mesh(8, 4, flat, false, triangles), false);
        ASSERT_FALSE(why_not_carved(m.model));
        const Part part = PartField(m.model, std::vector<double>(m.model.mesh.elements(), 1.0)).extract({});
        EXPECT_TRUE(part.closed && part.one_piece());
        EXPECT_NEAR(part.volume, 28.0 * 1.0 + 4.0 * 2.0, 1e-9);
        EXPECT_EQ(test::crossings(part.surface, 1.0), 0U);
        ASSERT_EQ(part.regions.size(), 2U);
        EXPECT_NEAR(part.regions[1].volume, 8.0, 1e-9);
    }
}

// Half of the width along an angle of shells, mirrored at its plane of symmetry.
TEST(SheetPart, AHalfOfShellsIsCutAndMirrored) {
    for (const bool triangles : {false, true}) {
        const SheetFromFile m = from_file(sheet_mesh(10, 8, angle_sheet, true, triangles, true), true,
                                          "[symmetry]\nplanes = [\"y = 2\"]\n");
        ASSERT_FALSE(why_not_carved(m.model));
        std::vector<double> density;
        for (const Vec3& c : m.model.mesh.centers) density.push_back(c.y() > 1.0 ? 1.0 : 0.0);
        const Part part = PartField(m.model, density).extract({});
        EXPECT_TRUE(part.closed && part.one_piece());
        EXPECT_EQ(test::crossings(part.surface, 1.0), 0U);
        // The last unit is kept and twice as thick.
        EXPECT_NEAR(part.volume, 2.0 * (9.0 * 1.0 + 2.0 * 2.0), 0.05 * 26.0) << triangles;
        double low = 1e300;
        double high = -1e300;
        for (const Vec3& p : part.surface.points) {
            low = std::min(low, p.y());
            high = std::max(high, p.y());
        }
        EXPECT_NEAR(low + high, 4.0, 1e-12);
        // Nothing that holds or loads is missed.
        EXPECT_TRUE(part.missed.empty());
        for (double& d : density) d = 1.0 - d;
        const Part other = PartField(m.model, density).extract({});
        EXPECT_FALSE(other.pieces.empty());
    }
}

} // namespace upright
