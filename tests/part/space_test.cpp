// The tetrahedra of a space: cut by its exact faces, at a level, and made better.
#include "base/angles.hpp"
#include "mesh/quality.hpp"
#include "model/written_volumes.hpp"
#include "part/solid/cut_level.hpp"
#include "part/solid/cut_space.hpp"
#include "part/solid/design_field.hpp"
#include "part/solid/improve.hpp"
#include "part/solid/tet_locator.hpp"
#include "part/triangles.hpp"
#include "support/crossings.hpp"
#include "support/studies.hpp"

namespace upright {
namespace {

using test::block_study;
using test::study_from;

const std::string holes = R"(
[[region]]
name = "hole"
role = "void"
cylinder = { from = [4, 2, 0], to = [4, 2, 4], radius = 1.1 }
[[region]]
name = "ring"
role = "keep"
material = "steel"
skin_of = "hole"
depth = 0.5
within = "block"
[[region]]
name = "dish"
role = "void"
sphere = { center = [8, 2, 4], radius = 1.7 }
)";

double volume_of(const CutTets& tets, std::int32_t label) {
    double out = 0.0;
    for (std::size_t t = 0; t < tets.tets.size(); ++t)
        if (tets.label[t] == label) out += tets.volume(t);
    return out;
}

// Every tetrahedron the right way round, faces shared by two at most, the rest on sheets.
void expect_sound(const SpaceTets& space) {
    for (std::size_t t = 0; t < space.tets.tets.size(); ++t) ASSERT_GT(space.tets.volume(t), 0.0) << t;
    const auto beyond = neighbours_of(space.tets);
    for (std::size_t t = 0; t < beyond.size(); ++t)
        for (std::size_t side = 0; side < 4; ++side) {
            if (beyond[t][side] >= 0) continue;
            const auto& n = space.tets.tets[t];
            bool on = false;
            for (const std::int32_t s : space.tets.on[static_cast<std::size_t>(n[tet_faces[side][0]])])
                on = on || (space.tets.lies_on(n[tet_faces[side][1]], s) &&
                            space.tets.lies_on(n[tet_faces[side][2]], s));
            EXPECT_TRUE(on) << space.tets.points[static_cast<std::size_t>(n[tet_faces[side][0]])].transpose();
        }
    for (std::size_t n = 0; n < space.tets.points.size(); ++n)
        for (const std::int32_t s : space.tets.on[n])
            EXPECT_NEAR(space.sheets[s].value(space.tets.points[n]), 0.0, 1e-6 * space.sheets.size());
}

} // namespace

TEST(CutTets, ALatticeFillsItsBoxes) {
    const CutTets tets = body_centred(LatticeBoxes{Vec3(1, 2, 3), Vec3(1, 0.5, 2), {4, 3, 5}},
                                      [](const Vec3&) { return true; });
    // Between the middles of boxes all is filled; on the rim of the lattice half-octahedra are missing.
    double volume = 0.0;
    for (std::size_t t = 0; t < tets.tets.size(); ++t) {
        ASSERT_GT(tets.volume(t), 0.0);
        volume += tets.volume(t);
    }
    // Each face between two boxes bears a double pyramid of a third of a box.
    const double faces = 3 * 3 * 5 + 4 * 2 * 5 + 4 * 3 * 4;
    EXPECT_NEAR(volume, faces / 3.0, 1e-9);
    // A split leaves the volume, and what is left conforms.
    CutTets split = tets;
    const auto edge = split.edges().at(17);
    const Vec3 middle = 0.5 * (split.points[static_cast<std::size_t>(edge[0])] +
                               split.points[static_cast<std::size_t>(edge[1])]);
    split.split(edge[0], edge[1], split.add_point(middle));
    double after = 0.0;
    for (std::size_t t = 0; t < split.tets.size(); ++t) after += split.volume(t);
    EXPECT_NEAR(after, volume, 1e-9);
    EXPECT_GT(split.tets.size(), tets.tets.size());
}

TEST(CutSpace, FacesAreWhereTheyAreWritten) {
    for (const double size : {0.5, 0.8}) {
        const Model model =
            build_model(study_from(block_study(holes), {"mesh.size=" + std::to_string(size)}));
        const SpaceTets space = cut_space(model.mesh, model.shapes);
        expect_sound(space);
        EXPECT_EQ(space.doubtful, 0.0);
        // Closed forms; the faces of bent surfaces are chords, of 30 degrees at most.
        const double ring = pi * (1.6 * 1.6 - 1.1 * 1.1) * 4.0;
        EXPECT_NEAR(volume_of(space.tets, 2), ring, 0.03 * ring);
        const double dish = pi * 1.7 * 1.7 * 1.7 / 3.0; // a quarter of the ball
        EXPECT_NEAR(volume_of(space.tets, 0), 128.0 - 1.6 * 1.6 * pi * 4.0 - dish, 0.02 * 128.0);
        // What is flat is exact.
        Bounds box;
        for (const Vec3& p : space.tets.points) box.include(p);
        EXPECT_NEAR((box.low - Vec3(0, 0, 0)).norm() + (box.high - Vec3(8, 4, 4)).norm(), 0.0, 1e-9);
    }
}

// Holes and balls as small as a cell of the lattice are round all the same.
TEST(CutSpace, SmallRoundFacesAreRound) {
    const std::string small = R"(
[[region]]
name = "hole"
role = "void"
cylinder = { from = [2.1, 2, -1], to = [2.1, 2, 5], radius = 0.4 }
[[region]]
name = "slant"
role = "void"
cylinder = { from = [4, -1, 1], to = [5, 5, 3], radius = 0.3 }
[[region]]
name = "bubble"
role = "void"
sphere = { center = [6.6, 2.2, 2.1], radius = 0.5 }
)";
    for (const double size : {0.5, 0.8, 1.0}) {
        const Model model =
            build_model(study_from(block_study(small), {"mesh.size=" + std::to_string(size)}));
        const SpaceTets space = cut_space(model.mesh, model.shapes);
        expect_sound(space);
        EXPECT_EQ(space.doubtful, 0.0);
        double whole = 0.0;
        for (std::size_t t = 0; t < space.tets.tets.size(); ++t) whole += space.tets.volume(t);
        // What chords of 30 degrees take: 4.5 % of a circle, twice that of a ball.
        const double slant = std::sqrt(1.0 + 36.0 + 4.0) / 6.0 * 4.0;
        const double holes = pi * (0.16 * 4.0 + 0.09 * slant + 4.0 / 3.0 * 0.125);
        EXPECT_LT(128.0 - whole, holes) << size;
        EXPECT_GT(128.0 - whole, 0.92 * holes) << size;
    }
}

TEST(CutSpace, SymmetryPlanesCutTheSpace) {
    const Model model =
        build_model(study_from(block_study(holes + "[symmetry]\nplanes = [\"y = 2\"]\n"), {"mesh.size=0.5"}));
    const SpaceTets space = cut_space(model.mesh, model.shapes);
    expect_sound(space);
    const double ring = pi * (1.6 * 1.6 - 1.1 * 1.1) * 2.0;
    EXPECT_NEAR(volume_of(space.tets, 2), ring, 0.03 * ring);
}

// A prism, a cone, a tilted frame, a half space: other faces than boxes and holes have.
TEST(CutSpace, OtherShapesToo) {
    const std::string text = R"(
[[frame]]
name = "tilted"
kind = "cartesian"
origin = [4, 2, 4]
axis = [0.3, 0.2, 1]
[[region]]
name = "wedge"
role = "void"
prism = { polygon = [[0, 0], [2, 0], [0, 2]], from = [0, 0, 0], to = [0, 0, 4] }
[[region]]
name = "funnel"
role = "void"
cone = { from = [6, 2, 4], to = [6, 2, 1], radii = [1.5, 0.7] }
)";
    const Model model = build_model(study_from(block_study(text), {"mesh.size=0.5"}));
    const SpaceTets space = cut_space(model.mesh, model.shapes);
    expect_sound(space);
    const double funnel = pi * 3.0 / 3.0 * (1.5 * 1.5 + 1.5 * 0.7 + 0.7 * 0.7);
    EXPECT_NEAR(volume_of(space.tets, 0), 128.0 - 8.0 - funnel, 0.01 * 128.0);
}

// The volume below zero of a linear function: a plane through a block, by elementary geometry.
TEST(CutLevel, VolumeBelowIsThatOfAPlaneCut) {
    const Model model = build_model(study_from(block_study()));
    const SpaceTets space = cut_space(model.mesh, model.shapes);
    const auto below = [&](const Vec3& slope, double level) {
        std::vector<double> value;
        for (const Vec3& p : space.tets.points) value.push_back(slope.dot(p));
        return volume_below(space.tets, value, level, {true});
    };
    EXPECT_NEAR(below({1, 0, 0}, 3.3), 3.3 * 16.0, 1e-9);
    EXPECT_NEAR(below({1, 1, 0}, 2.5), 2.5 * 2.5 / 2.0 * 4.0, 1e-9);
    EXPECT_NEAR(below({1, 1, 1}, 3.1), 3.1 * 3.1 * 3.1 / 6.0, 1e-9);
    EXPECT_NEAR(below({1, 0, 0}, 9.0), 128.0, 1e-9);
    EXPECT_NEAR(below({1, 0, 0}, -1.0), 0.0, 1e-12);
}

TEST(DesignField, KeepsLinesAndHasTheirSlope) {
    for (const std::string mesh : {"", "kind = \"fitted\"\n"}) {
        const Model model = build_model(study_from(block_study({}, mesh)));
        std::vector<double> value;
        const auto line = [](const Vec3& p) { return 0.2 + 0.05 * p.x() + 0.03 * p.y() - 0.02 * p.z(); };
        for (const Vec3& c : model.mesh.element_centers()) value.push_back(line(c));
        const DesignField field(model.mesh, value, std::vector<bool>(value.size(), true), true);
        const double allowed = mesh.empty() ? 1e-6 : 0.01;
        // Well inside: near the border the values go on level.
        EXPECT_NEAR(field.value({4.1, 2.2, 1.9}), line({4.1, 2.2, 1.9}), allowed);
        for (const Vec3& p : {Vec3(4.1, 2.2, 1.9), Vec3(0.3, 3.7, 0.1), Vec3(7.9, 0.2, 3.0)}) {
            const Vec3 slope = field.slope(p);
            for (int a = 0; a < 3; ++a) {
                const Vec3 h = 1e-5 * Vec3::Unit(a);
                EXPECT_NEAR(slope[a], (field.value(p + h) - field.value(p - h)) / 2e-5, 1e-7);
            }
        }
    }
}

TEST(TetLocator, FindsTheTetrahedronOfAPlace) {
    const Model model = build_model(study_from(block_study(holes), {"mesh.size=0.5"}));
    const SpaceTets space = cut_space(model.mesh, model.shapes);
    const TetLocator locator(space.tets.points, space.tets.tets, 1.0);
    for (std::size_t t = 0; t < space.tets.tets.size(); t += 37)
        EXPECT_EQ(locator.find(space.tets.center(t)), static_cast<std::int32_t>(t));
    EXPECT_EQ(locator.find({4, 2, 2}), -1); // in the hole
    EXPECT_EQ(locator.find({-0.1, 2, 2}), -1);
}

namespace {

struct Cut {
    SpaceTets space;
    Improved part;
    Triangles skin;
    double least = 180.0;
    std::size_t filled = 0;
};

// The block (or what is left of it) where a function is above zero.
Cut cut_where(const Model& model, const std::function<double(const Vec3&)>& f, bool eased = false) {
    Cut out{cut_space(model.mesh, model.shapes), {}, {}, 180.0, 0};
    Sheet sheet;
    sheet.kind = Sheet::Kind::Field;
    sheet.with_slope = [f](const Vec3& p, Vec3& slope) {
        for (int a = 0; a < 3; ++a)
            slope[a] = -(f(p + 1e-5 * Vec3::Unit(a)) - f(p - 1e-5 * Vec3::Unit(a))) / 2e-5;
        return -f(p);
    };
    sheet.least_slope = 0.02;
    const std::int32_t level = out.space.sheets.add(std::move(sheet));
    std::vector<double> value;
    for (const Vec3& p : out.space.tets.points) value.push_back(-f(p));
    std::vector<bool> design;
    for (const ModelRegion& r : model.regions) design.push_back(r.role == Role::Design);
    const LevelCut cut = cut_at_level(out.space.tets, out.space.sheets, value, level, design);
    out.filled = cut.filled;
    ImproveOptions options;
    if (eased) options.free = {level};
    out.part = improve(out.space.tets, cut.solid, out.space.sheets, options);
    for (std::size_t t = 0; t < out.part.tets.tets.size(); ++t)
        for (const double a : dihedral_angles(out.part.tets.corners(t))) {
            out.least = std::min(out.least, a);
        }
    out.skin.points = out.part.tets.points;
    for (const Improved::Face& face : out.part.faces)
        if (face.before < 0) out.skin.corners.push_back(face.nodes);
    return out;
}

} // namespace

TEST(CutLevel, ABallIsABall) {
    const Model model = build_model(study_from(block_study(), {"mesh.size=0.4"}));
    const Vec3 middle(4.03, 1.97, 2.05);
    const Cut cut = cut_where(model, [&](const Vec3& p) { return 1.5 - (p - middle).norm(); });
    EXPECT_TRUE(closed(cut.skin));
    EXPECT_EQ(test::crossings(cut.skin, 0.4), 0U);
    const double ball = 4.0 / 3.0 * pi * 1.5 * 1.5 * 1.5;
    EXPECT_NEAR(volume(cut.skin), ball, 0.03 * ball);
    for (const Improved::Face& face : cut.part.faces)
        for (const std::int32_t n : face.nodes)
            EXPECT_NEAR((cut.part.tets.points[static_cast<std::size_t>(n)] - middle).norm(), 1.5, 1e-6);
    EXPECT_GT(cut.least, 17.0);
}

// Where the level grazes a face it may leave its place by a twentieth of a cell rather than keep sharp
// tetrahedra; exact faces stay.
TEST(CutLevel, GrazingFacesItGivesWay) {
    const Model model = build_model(study_from(block_study(holes), {"mesh.size=0.5"}));
    int sharp = 0; // of them, which rounding may change: another compiler has another mesh
    for (const Vec3& middle : {Vec3(4.369, 2.03, 2.95), Vec3(3.666, 2.03, 2.0)}) {
        const auto f = [&](const Vec3& p) { return 1.9 - (p - middle).norm(); };
        const Cut plain = cut_where(model, f);
        const Cut eased = cut_where(model, f, true);
        sharp += plain.least < 18.0 ? 1 : 0;
        EXPECT_GT(eased.least, plain.least < 18.0 ? std::max(18.0, plain.least + 1.0) : plain.least - 1e-9);
        EXPECT_TRUE(closed(eased.skin));
        EXPECT_EQ(test::crossings(eased.skin, 0.5), 0U);
        // Farthest off the level, and off any other face.
        const auto farthest = [](const Cut& cut) {
            std::array<double, 2> out{};
            const auto level = static_cast<std::int32_t>(cut.space.sheets.count()) - 1;
            for (const Improved::Face& face : cut.part.faces)
                for (const std::int32_t n : face.nodes) {
                    const Vec3& p = cut.part.tets.points[static_cast<std::size_t>(n)];
                    double& most = out[face.sheet == level ? 0 : 1];
                    most = std::max(most, std::abs(cut.space.sheets[face.sheet].value(p)));
                }
            return out;
        };
        EXPECT_LE(farthest(eased)[0], std::max(farthest(plain)[0], 0.05 * 0.5) + 1e-9);
        EXPECT_LE(farthest(eased)[1], farthest(plain)[1] + 1e-9);
        EXPECT_NEAR(volume(eased.skin), volume(plain.skin), 1e-4 * volume(plain.skin));
    }
    EXPECT_GT(sharp, 0);
}

// Thin members, islands and gaps narrower than a cell: closed, free of crossings, no flat tetrahedra; kept
// faces where they are.
TEST(CutLevel, WhatIsThinStaysSound) {
    const Model model = build_model(study_from(block_study(holes), {"mesh.size=0.5"}));
    for (const double period : {3.1, 1.7}) {
        const double k = 2.0 * pi / period;
        const Cut cut = cut_where(model, [&](const Vec3& p) {
            return std::sin(k * p.x()) * std::cos(k * p.y()) + std::sin(k * p.y()) * std::cos(k * p.z()) +
                   std::sin(k * p.z()) * std::cos(k * p.x()) - 0.3;
        });
        EXPECT_TRUE(closed(cut.skin)) << period;
        EXPECT_EQ(test::crossings(cut.skin, 0.5), 0U) << period;
        // The level meets the dish and the top at sharper angles than tetrahedra like.
        EXPECT_GT(cut.least, 10.0) << period;
        for (const Improved::Face& face : cut.part.faces) {
            if (face.sheet < 0) continue;
            for (const std::int32_t n : face.nodes)
                EXPECT_LT(std::abs(cut.space.sheets[face.sheet].value(
                              cut.part.tets.points[static_cast<std::size_t>(n)])),
                          face.sheet + 1 == static_cast<std::int32_t>(cut.space.sheets.count()) ? 0.2 : 1e-6)
                    << period;
        }
    }
}

// A layer under a bore that a channel cuts two millimetres above its end: faces that nearly meet, on lattices
// of many sizes. Whatever the lattice makes of them, no region may be lost to its neighbour.
TEST(CutSpace, NoRegionIsLostOnAnyLattice) {
    for (const char* size : {"6.5", "7", "8", "8.5", "9", "10", "11", "12.5"}) {
        const Model model =
            build_model(study_from(test::StudyText()
                                       .steel()
                                       .region("block", "box = [[100, 0, 0], [300, 200, 160]]")
                                       .region("bore",
                                               "cylinder = { from = [200, 100, 60], to = [200, "
                                               "100, 160], radius = 40 }",
                                               "void")
                                       .add("[[region]]\nname = \"wall\"\nrole = \"keep\"\nmaterial = "
                                            "\"steel\"\nskin_of = \"bore\"\ndepth = 12\nwithin = "
                                            "\"block\"\n")
                                       .region("channel", "box = [[100, 70, 0], [300, 130, 50]]", "void")
                                       .mesh("size = " + std::string(size))
                                       .add("[symmetry]\nplanes = [\"y = 100\"]\n")));
        const SpaceTets space = cut_space(model.mesh, model.shapes);
        const auto written = written_volumes(model);
        ASSERT_TRUE(written.has_value());
        for (std::size_t r = 0; r < model.regions.size(); ++r) {
            if (model.regions[r].role == Role::Void) continue;
            EXPECT_NEAR(volume_of(space.tets, static_cast<std::int32_t>(r)), (*written)[r],
                        0.025 * (*written)[r])
                << model.regions[r].name << " at " << size;
        }
        EXPECT_LT(space.doubtful, 0.02) << size;
    }
}

// Planes of shapes elsewhere that run through a bore's side, or through the lattice's nodes: they end near
// where their shapes end (cuts reach a few steps beyond), and bind nothing further out.
TEST(CutSpace, PlanesEndWithTheirFaces) {
    for (const char* size : {"4", "8", "10"}) {
        const Model model = build_model(study_from(
            test::StudyText()
                .steel()
                .region("block", "box = [[0, 0, 0], [200, 120, 40]]")
                .region("bore", "cylinder = { from = [140, 80, 0], to = [140, 80, 40], radius = 40 }", "void")
                // Its side y = 40 would touch the bore, its side x = 40 runs through nodes.
                .region("pad", "box = [[0, 0, 0], [40, 40, 40]]", "keep")
                .mesh("size = " + std::string(size))));
        const SpaceTets space = cut_space(model.mesh, model.shapes);
        std::size_t on_side = 0;
        for (std::size_t i = 0; i < space.tets.points.size(); ++i)
            for (const std::int32_t s : space.tets.on[i]) {
                const Sheet& sheet = space.sheets[s];
                if (sheet.kind != Sheet::Kind::Plane || std::abs(sheet.axis.z()) > 0.5) continue;
                const Vec3& p = space.tets.points[i];
                const bool of_pad =
                    std::abs(sheet.value(Vec3::Zero())) > 39.0 && std::abs(sheet.value(Vec3::Zero())) < 41.0;
                if (!of_pad) continue;
                ++on_side;
                EXPECT_LT(p.x(), 40.0 + 3.6 * model.mesh.size) << size;
                EXPECT_LT(p.y(), 40.0 + 3.6 * model.mesh.size) << size;
            }
        EXPECT_GT(on_side, 10U);
        EXPECT_NEAR(volume_of(space.tets, 2), 40.0 * 40.0 * 40.0, 1e-6) << size;
    }
}

// The skin of a blind bore ends in a plane below it, here in one that runs through the lattice's nodes: the
// bore's side, which is cut some way beyond its end, is no face there, and that of the channel meets it at an
// angle.
// The cylinder of a kept ring is cut some way below it. Nothing is there: no point inside the block may be
// held to it, and a wall of the design that comes by at another radius is not drawn onto it.
TEST(CutSpace, PointsBeyondAFaceAreFree) {
    const Model model = build_model(study_from(block_study() + R"(
[[region]]
name = "ring"
role = "keep"
material = "steel"
cylinder = { from = [4, 2, 3], to = [4, 2, 4], radius = 1.5 }
)"));
    const SpaceTets space = cut_space(model.mesh, model.shapes);
    expect_sound(space);
    int below = 0;
    int of_ring = 0;
    for (std::size_t n = 0; n < space.tets.points.size(); ++n) {
        const Vec3& p = space.tets.points[n];
        bool on_cylinder = false;
        for (const std::int32_t s : space.tets.on[n])
            on_cylinder = on_cylinder || space.sheets[s].kind == Sheet::Kind::Cylinder;
        below += on_cylinder && p.z() < 3.0 - 1e-6 ? 1 : 0;
        of_ring += on_cylinder ? 1 : 0;
    }
    EXPECT_EQ(below, 0);
    EXPECT_GT(of_ring, 20);
    // A pillar under the ring, a little thinner than it.
    SheetSet sheets = space.sheets;
    Sheet pillar;
    pillar.kind = Sheet::Kind::Field;
    pillar.least_slope = 1.0;
    pillar.with_slope = [](const Vec3& p, Vec3& slope) {
        const double r = std::hypot(p.x() - 4, p.y() - 2);
        slope = r > 0.0 ? Vec3((p.x() - 4) / r, (p.y() - 2) / r, 0.0) : Vec3::Zero();
        return r - 1.38;
    };
    std::vector<double> value;
    for (const Vec3& p : space.tets.points) value.push_back(std::hypot(p.x() - 4, p.y() - 2) - 1.38);
    const std::int32_t level = sheets.add(pillar);
    CutTets tets = space.tets;
    std::vector<bool> design;
    for (const ModelRegion& r : model.regions) design.push_back(r.role == Role::Design);
    const LevelCut cut = cut_at_level(tets, sheets, value, level, design);
    const Improved part = improve(tets, cut.solid, sheets, {25.0, {level}});
    int walls = 0;
    for (const Improved::Face& f : part.faces) {
        if (f.before >= 0) continue;
        bool low = true;
        bool side = true;
        for (const std::int32_t n : f.nodes) {
            const Vec3& p = part.tets.points[static_cast<std::size_t>(n)];
            low = low && p.z() > 0.1 && p.z() < 2.9;
            side = side && std::hypot(p.x() - 4, p.y() - 2) < 1.6;
        }
        if (!low || !side) continue;
        ++walls;
        for (const std::int32_t n : f.nodes) {
            const Vec3& p = part.tets.points[static_cast<std::size_t>(n)];
            EXPECT_NEAR(std::hypot(p.x() - 4, p.y() - 2), 1.38, 0.01) << p.transpose();
        }
    }
    EXPECT_GT(walls, 30);
}

TEST(CutSpace, TheEndOfASkinIsAWallWhereItRunsThroughNodes) {
    for (const char* size : {"8", "4", "6", "5.5"}) {
        const Model model = build_model(study_from(
            test::StudyText()
                .steel()
                .region("block", "box = [[0, 0, 0], [160, 96, 96]]")
                .region("bore", "cylinder = { from = [80, 48, 60], to = [80, 48, 96], radius = 24 }", "void")
                .region("wall", "skin_of = \"bore\"\ndepth = 12\nwithin = \"block\"", "keep")
                .region("channel", "box = [[0, 32, 0], [160, 64, 52]]", "void")
                .mesh("size = " + std::string(size))));
        const SpaceTets space = cut_space(model.mesh, model.shapes);
        expect_sound(space);
        EXPECT_LT(space.doubtful, 1e-9) << size;
    }
}

// A bore that leaves walls of a fraction of the lattice's step: whatever plane runs through them, no region
// leaks into another.
TEST(PartSpace, WallsThinnerThanTheLatticeHold) {
    for (const char* size : {"0.5", "0.4", "1"})
        for (const double radius : {0.6, 0.8, 0.9}) {
            const Study study = study_from(
                block_study(
                    "[[region]]\nname = \"head\"\nrole = \"keep\"\nmaterial = \"steel\"\nbox = [[6, 0, "
                    "0], [8, 4, 4]]\n[[region]]\nname = \"bore\"\nrole = \"void\"\ncylinder = { from = "
                    "[7, 2, 0], to = [7, 2, 4], radius = " +
                    std::to_string(radius) + " }\n[symmetry]\nplanes = [\"y = 2\"]\n"),
                {"surface.tip.of=head", std::string("mesh.size=") + size});
            const Model model = build_model(study);
            const SpaceTets space = cut_space(model.mesh, model.shapes);
            const double head = 0.5 * (32.0 - 4.0 * pi * radius * radius);
            EXPECT_NEAR(volume_of(space.tets, 1), head, 0.03 * head) << size << " " << radius;
            EXPECT_NEAR(volume_of(space.tets, 0), 48.0, 0.02) << size << " " << radius;
            EXPECT_LT(space.doubtful, 1e-9) << size << " " << radius;
        }
}

} // namespace upright
