// Parts of plane and shell meshes from files: sheets as thick as their elements are said to be.
#include "base/angles.hpp"
#include "model/finished.hpp"
#include "model/thickened.hpp"
#include "part/extract.hpp"
#include "part/part_mesh.hpp"
#include "part/solid/mesh_space.hpp"
#include "part/triangles.hpp"
#include "response/case_report.hpp"
#include "store/vtu.hpp"
#include "support/crossings.hpp"
#include "support/studies.hpp"

#include <functional>
#include <gtest/gtest.h>
#include <map>
#include <random>

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
    for (const double v : mesh.element_volumes()) out += v;
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

TEST(SheetPart, ElementsMuchSmallerThanASheetIsThickFitIntoItsBend) {
    for (const bool triangles : {false, true}) {
        Mesh mesh = sheet_mesh(40, 8, angle_sheet, true, triangles, true);
        finish(mesh, 1.8);
        const Thickened solid = thickened(mesh, 0.0, {});
        EXPECT_NEAR(volume_of_solid(solid.mesh), 10.0 * 2.0 * 1.8, 1e-9);
        const auto [low, high] = std::pair(solid.mesh.bounds.low, solid.mesh.bounds.high);
        EXPECT_NEAR((low - Vec3(0.0, 0.0, -0.9)).norm(), 0.0, 1e-9);
        EXPECT_NEAR((high - Vec3(6.9, 2.0, 4.0)).norm(), 0.0, 1e-9);
    }
    // No slide is left where the upright is shorter than the sheet is thick.
    const MidSurface brief = [](double u, double v) {
        const double s = 7.0 * u;
        return Vec3(std::min(s, 6.0), 2.0 * v, std::max(0.0, s - 6.0));
    };
    Mesh mesh = sheet_mesh(28, 8, brief, true, false);
    finish(mesh, 2.5);
    EXPECT_NE(why(mesh).find("bent more sharply than it is thick"), std::string::npos) << why(mesh);
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

// Plates that meet in threes and more.
namespace joint {

struct Plate {
    Vec3 corner, u, v; // its edges
    int nu = 1, nv = 1;
    double thickness = 1.0;
    int region = 0;
};

// Nodes at one place are one; every second element is turned over.
Mesh mesh_of(const std::vector<Plate>& plates, bool triangles) {
    Mesh out;
    const auto node = [&](const Vec3& p) {
        for (std::size_t n = 0; n < out.nodes.size(); ++n)
            if ((out.nodes[n] - p).norm() < 1e-9) return static_cast<NodeId>(n);
        out.nodes.push_back(p);
        return static_cast<NodeId>(out.nodes.size() - 1);
    };
    int count = 0;
    for (const Plate& plate : plates)
        for (int i = 0; i < plate.nu; ++i)
            for (int j = 0; j < plate.nv; ++j) {
                const auto at = [&](int a, int b) {
                    return node(plate.corner + plate.u * a / plate.nu + plate.v * b / plate.nv);
                };
                std::vector<NodeId> ring{at(i, j), at(i + 1, j), at(i + 1, j + 1), at(i, j + 1)};
                if (count++ % 2 == 1) std::reverse(ring.begin(), ring.end());
                const auto region = static_cast<RegionId>(plate.region);
                const auto add = [&](ElementKind kind, const std::vector<NodeId>& nodes) {
                    out.add(kind, nodes, region);
                    out.thickness.push_back(plate.thickness);
                };
                if (triangles) {
                    add(ElementKind::ShellTri3, {ring[0], ring[1], ring[2]});
                    add(ElementKind::ShellTri3, {ring[0], ring[2], ring[3]});
                } else {
                    add(ElementKind::ShellQuad4, ring);
                }
            }
    out.size = 1.0;
    out.finish();
    return out;
}

// The solid's volume and the area of what belongs to one tetrahedron alone, once every side of an element is
// divided as the carver does; no side belongs to three.
std::pair<double, double> volume_and_area(const Thickened& solid) {
    const SpaceTets space = space_of_mesh(solid.mesh, {});
    double volume = 0.0;
    double area = 0.0;
    std::map<std::array<std::int32_t, 3>, int> uses;
    for (std::size_t t = 0; t < space.tets.tets.size(); ++t) {
        volume += space.tets.volume(t);
        for (const auto& side : tet_faces) {
            std::array<std::int32_t, 3> face{};
            for (std::size_t k = 0; k < 3; ++k) face[k] = space.tets.tets[t][side[k]];
            std::sort(face.begin(), face.end());
            ++uses[face];
        }
    }
    for (const auto& [face, count] : uses) {
        EXPECT_LE(count, 2);
        if (count > 1) continue;
        const auto& corners = face;
        const auto p = [&](std::size_t k) { return space.tets.points[static_cast<std::size_t>(corners[k])]; };
        area += 0.5 * (p(1) - p(0)).cross(p(2) - p(0)).norm();
    }
    const auto groups = face_connected_parts(solid.mesh);
    EXPECT_EQ(*std::max_element(groups.begin(), groups.end()), 0);
    return {volume, area};
}

struct Wanted {
    const char* name;
    std::vector<Plate> plates;
    double volume, area;
};

std::vector<Wanted> closed_forms() {
    const Vec3 x = Vec3::UnitX();
    const Vec3 y = Vec3::UnitY();
    const Vec3 z = Vec3::UnitZ();
    const Vec3 o = Vec3::Zero();
    const Plate plate{o, 8 * x, 4 * y, 8, 4, 1.0};
    std::vector<Wanted> out;
    // A rib half as thick on a plate, from end to end; one that begins and one that lies within it.
    const double bare = 2.0 * 32.0 + 24.0;
    out.push_back({"tee",
                   {plate, {4 * x, 4 * y, 5 * z, 4, 5, 0.5}},
                   32.0 + 4.5 * 4.0 * 0.5,
                   bare + 2.0 * (4.5 * 4.0 + 4.5 * 0.5)});
    out.push_back({"rib to the middle",
                   {plate, {4 * x, 2 * y, 5 * z, 2, 5, 0.5}},
                   32.0 + 4.5 * 2.0 * 0.5,
                   bare + 2.0 * (4.5 * 2.0 + 4.5 * 0.5)});
    out.push_back({"rib within",
                   {plate, {4 * x + y, 2 * y, 5 * z, 2, 5, 0.5}},
                   32.0 + 4.5 * 2.0 * 0.5,
                   bare + 2.0 * (4.5 * 2.0 + 4.5 * 0.5)});
    // Two plates through each other; and a third rib on one side of their cross, within the plate.
    out.push_back({"cross",
                   {{-4 * x, 8 * x, 4 * y, 8, 4, 1.0}, {-3 * z, 6 * z, 4 * y, 6, 4, 0.5}},
                   32.0 + 5.0 * 4.0 * 0.5,
                   bare - 2.0 * 2.0 + 2.0 * (5.0 * 4.0 + 5.0 * 0.5) + 2.0 * 2.0});
    out.push_back({"ribs that cross",
                   {plate, {2 * x + 2 * y, 4 * x, 3 * z, 4, 3, 0.5}, {4 * x + y, 2 * y, 3 * z, 2, 3, 0.25}},
                   32.0 + 2.5 * (4.0 * 0.5 + 2.0 * 0.25 - 0.5 * 0.25),
                   bare + 2.5 * (2.0 * (4.0 + 0.5) + 2.0 * (2.0 + 0.25) - 2.0 * (0.25 + 0.5))});
    // A rib round a corner within the plate.
    out.push_back({"rib round a corner",
                   {plate, {3 * x + y, 2 * x, 3 * z, 2, 3, 0.5}, {5 * x + y, 2 * y, 3 * z, 2, 3, 0.5}},
                   32.0 + 2.5 * 4.0 * 0.5,
                   bare + 2.5 * (2.0 * 4.0 + 2.0 * 0.5)});
    // Three at 120 degrees.
    Wanted star{"star", {}, 5.0 * (3.0 * 4.0 - std::sqrt(3.0) * 0.25), 0.0};
    for (const double a : {0.0, 120.0, 240.0})
        star.plates.push_back(
            {o, 4.0 * (std::cos(a * degree) * x + std::sin(a * degree) * z), 5 * y, 4, 5, 1.0});
    star.area = 2.0 * star.volume / 5.0 + 5.0 * (3.0 + 6.0 * (4.0 - 0.5 / std::tan(60.0 * degree)));
    out.push_back(star);
    return out;
}

} // namespace joint

TEST(SheetPart, SheetsThatMeetInThreesAndMoreAreOneSolid) {
    for (const joint::Wanted& wanted : joint::closed_forms())
        for (const auto& [triangles, finer] : {std::pair(false, 1), {true, 1}, {false, 4}, {true, 4}}) {
            // Of elements much smaller than they are thick the faces slide along beside the joints.
            std::vector<joint::Plate> plates = wanted.plates;
            for (joint::Plate& plate : plates) {
                plate.nu *= finer;
                plate.nv *= finer;
            }
            const Mesh mesh = joint::mesh_of(plates, triangles);
            const auto [volume, area] = joint::volume_and_area(thickened(mesh, 0.0, {}));
            EXPECT_NEAR(volume, wanted.volume, 1e-9) << wanted.name << triangles << finer;
            EXPECT_NEAR(area, wanted.area, 1e-9) << wanted.name << triangles << finer;
        }
}

// The plate is thicker on one side of the rib than on the other: its lower face changes in the elements
// beside.
TEST(SheetPart, AThicknessThatChangesAtARibStaysOneSolid) {
    using joint::Plate;
    const Vec3 x = Vec3::UnitX();
    const Vec3 y = Vec3::UnitY();
    for (const bool triangles : {false, true})
        for (const double other : {0.4, 1.6}) {
            const Mesh mesh = joint::mesh_of({{Vec3::Zero(), 4 * x, 4 * y, 4, 4, 1.0},
                                              {4 * x, 4 * x, 4 * y, 4, 4, other},
                                              {4 * x, 4 * y, 3 * Vec3::UnitZ(), 4, 3, 0.5}},
                                             triangles);
            const auto [volume, area] = joint::volume_and_area(thickened(mesh, 0.0, {}));
            // Below, what one side gains the other loses; above, the rib's two feet lie on either plate.
            EXPECT_NEAR(volume, 16.0 + 16.0 * other + 4.0 * 0.5 * (3.0 - 0.25 * (1.0 + other)), 1e-9)
                << triangles << other;
            EXPECT_GT(area, 64.0);
        }
}

TEST(SheetPart, JointsThatHaveNoSolidAreSaidWithTheirPlace) {
    using joint::Plate;
    const Vec3 x = Vec3::UnitX();
    const Vec3 y = Vec3::UnitY();
    const Vec3 leaning = 3.0 * Vec3(std::cos(25.0 * degree), 0.0, std::sin(25.0 * degree));
    const Plate plate{Vec3::Zero(), 8 * x, 4 * y, 8, 4, 0.2};
    EXPECT_NE(why(joint::mesh_of({plate, {4 * x, 4 * y, leaning, 4, 3, 0.2}}, false))
                  .find("shells meet at a sharp angle in one edge at (4, 0, 0)"),
              std::string::npos);
    // Thicker half way along.
    EXPECT_NE(why(joint::mesh_of({{Vec3::Zero(), 8 * x, 2 * y, 8, 2, 0.2},
                                  {2 * y, 8 * x, 2 * y, 8, 2, 0.4},
                                  {4 * x, 4 * y, 3 * Vec3::UnitZ(), 4, 3, 0.2}},
                                 false))
                  .find("the thickness of a shell changes where several meet in one edge at (4, 2, 0)"),
              std::string::npos);
    // Thicker than the plate is long beside it.
    EXPECT_NE(why(joint::mesh_of({plate, {x, 4 * y, 3 * Vec3::UnitZ(), 4, 3, 2.5}}, false))
                  .find("no room is left beside an edge that several shells meet in"),
              std::string::npos);
}

// Leaning ribs, within a plate or through it, of any thickness, nodes shaken: a solid that is sound, or an
// error with a place.
TEST(SheetPart, JointsOfAnyShapeAreSoundOrRefused) {
    using joint::Plate;
    const Vec3 x = Vec3::UnitX();
    const Vec3 y = Vec3::UnitY();
    const Vec3 z = Vec3::UnitZ();
    int made = 0;
    for (unsigned seed = 0; seed < 60; ++seed) {
        std::mt19937 random(seed);
        std::uniform_real_distribution<double> share(0.0, 1.0);
        const double thick = 0.2 + 1.2 * share(random);
        const double other = 0.2 + 1.2 * share(random);
        const Vec3 up = 3.0 * z + 3.0 * std::tan(1.6 * (share(random) - 0.5)) * y;
        std::vector<Plate> plates{{Vec3::Zero(), 8 * x, 6 * y, 8, 6, thick}};
        if (seed % 3 == 0) plates.push_back({2 * x + 3 * y, 4 * x, up, 4, 3, other});
        if (seed % 3 == 1) plates.push_back({3 * y - up, 8 * x, 2 * up, 8, 6, other});
        if (seed % 3 == 2) {
            plates.push_back({2 * x + 3 * y, 4 * x, 3 * z, 4, 3, other});
            plates.push_back({4 * x + y, 4 * y, 3 * z, 4, 3, thick});
        }
        Mesh mesh = joint::mesh_of(plates, seed % 2 == 0);
        const double shaken = 0.04 * (seed % 4);
        for (Vec3& p : mesh.nodes)
            p += shaken * (Vec3(share(random), share(random), share(random)) - Vec3::Constant(0.5));
        mesh.finish();
        double shells = 0.0;
        for (const double v : mesh.element_volumes()) shells += v;
        try {
            const auto [volume, area] = joint::volume_and_area(thickened(mesh, 0.0, {}));
            EXPECT_GT(volume, 0.6 * shells) << seed;
            EXPECT_LT(volume, 1.05 * shells) << seed;
            ++made;
        } catch (const Error& error) {
            EXPECT_EQ(error.code(), ExitCode::Input) << seed << error.what();
            EXPECT_NE(std::string(error.what()).find('('), std::string::npos) << error.what();
        }
    }
    EXPECT_GT(made, 30);
}

// What is carved of a ribbed plate, and whether it holds what it held.
TEST(SheetPart, ARibbedPlateIsCutInOnePiece) {
    const joint::Plate plate{Vec3::Zero(), 16 * Vec3::UnitX(), 12 * Vec3::UnitY(), 8, 6, 1.0};
    const joint::Plate rib{6 * Vec3::UnitY(), 12 * Vec3::UnitX(), 6 * Vec3::UnitZ(), 6, 3, 1.0, 1};
    for (const bool triangles : {false, true}) {
        Mesh mesh = joint::mesh_of({plate, rib}, triangles);
        mesh.thickness.clear();
        finish(mesh, 1.0);
        mesh.size = 2.0;
        const SheetFromFile m = from_file(mesh, true);
        if (const auto reason = why_not_carved(m.model)) FAIL() << reason->what();
        std::vector<double> density(m.model.mesh.elements(), 1.0);
        const Part whole = PartField(m.model, density).extract({});
        EXPECT_TRUE(whole.closed && whole.one_piece());
        // The rib is kept and twice as thick.
        EXPECT_NEAR(whole.volume, 192.0 + 5.5 * 12.0 * 2.0, 1e-6);
        EXPECT_EQ(test::crossings(whole.surface, 1.0), 0U);
        for (std::size_t e = 0; e < density.size(); ++e)
            if (m.model.mesh.center(e).y() > 9.5) density[e] = 0.0;
        const Part less = PartField(m.model, density).extract({});
        EXPECT_TRUE(less.closed && less.one_piece());
        EXPECT_NEAR(less.volume, 160.0 + 132.0, 3.0);
        EXPECT_EQ(test::crossings(less.surface, 1.0), 0U);
        EXPECT_TRUE(less.missed.empty());
    }
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
        for (const Vec3& c : m.model.mesh.element_centers()) density.push_back(c.y() > 1.0 ? 1.0 : 0.0);
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

// The part is loaded and held as the shells are, and as stiff, pressed on either side of every element.
TEST(SheetPart, WhatActsOnShellsActsOnTheirPart) {
    const MidSurface flat = [](double u, double v) { return Vec3(16.0 * u, 4.0 * v, 0.0); };
    for (const char* facing : {"[0, 0, 1]", "[0, 0, -1]"}) {
        Mesh mesh = sheet_mesh(16, 4, flat, true, true, true);
        for (std::size_t e = 0; e < mesh.elements(); ++e)
            mesh.region[e] = static_cast<RegionId>(e < 64 ? 0 : 1);
        mesh.thickness.clear();
        finish(mesh, 1.0);
        const SheetFromFile m =
            from_file(mesh, true,
                      std::string("[[surface]]\nname = \"face\"\nfacing = ") + facing +
                          "\n[[load]]\nname = \"p\"\non = \"face\"\npressure = 0.1\n[[case]]\nname = "
                          "\"press\"\nsupports = [\"clamp\"]\nloads = { p = 1 }\n");
        const std::vector<double> full(m.model.mesh.elements(), 1.0);
        const Part whole = PartField(m.model, full).extract({});
        const Model part = build_part_model(m.study, *whole.solid, true, m.model);
        ASSERT_EQ(part.surfaces.size(), m.model.surfaces.size());
        for (std::size_t s = 0; s < part.surfaces.size(); ++s)
            EXPECT_NEAR(part.surfaces[s].area, m.model.surfaces[s].area,
                        0.03 * m.model.surfaces[s].area) // a step of the thickness
                << part.surfaces[s].name;
        const AnalysisReport shells = analyze(m.model, {});
        const AnalysisReport solid = analyze(part, {});
        // Pulled: two lengths of different sections.
        const double pulled = 100.0 * 100.0 * (8.0 / (1000.0 * 4.0) + 8.0 / (1000.0 * 8.0));
        EXPECT_NEAR(solid.statics.at(0).compliance, pulled, 0.03 * pulled); // the step is softer
        // Bent: a beam of two sections under its pressure, with what shear adds.
        const double q = 0.1 * 4.0;
        const auto moment = [&](double x) { return 0.5 * q * (16.0 - x) * (16.0 - x); };
        double bent = 0.0;
        for (int k = 0; k < 1600; ++k) {
            const double x = 0.01 * (k + 0.5);
            const double t = x < 8.0 ? 1.0 : 2.0;
            bent += 0.01 * moment(x) * moment(x) / (1000.0 * 4.0 * t * t * t / 12.0);
        }
        EXPECT_NEAR(shells.statics.at(1).compliance, bent, 0.03 * bent) << facing;
        EXPECT_NEAR(solid.statics.at(1).compliance, bent, 0.03 * bent) << facing;
        const double way =
            solid.statics.at(1)
                .displacement[static_cast<Eigen::Index>(part.freedom(part.surfaces.at(1).nodes.front(), 2))];
        EXPECT_EQ(way < 0.0, facing[7] == '1') << way;
    }
}

TEST(SheetPart, WhatTurnsShellsByThemselvesHasNoPart) {
    const MidSurface flat = [](double u, double v) { return Vec3(16.0 * u, 4.0 * v, 0.0); };
    const SheetFromFile m = from_file(sheet_mesh(16, 4, flat, true, false), true,
                                      "[[support]]\nname = \"twist\"\non = \"high\"\nhold = "
                                      "[\"rx\"]\nmove = { rx = 0.01 }\n");
    const std::vector<double> full(m.model.mesh.elements(), 1.0);
    const Part whole = PartField(m.model, full).extract({});
    try {
        build_part_model(m.study, *whole.solid, false, m.model);
        FAIL();
    } catch (const Error& error) {
        EXPECT_EQ(error.code(), ExitCode::Input);
        EXPECT_NE(std::string(error.what()).find("\"twist\" turns shells"), std::string::npos)
            << error.what();
    }
}

} // namespace upright
