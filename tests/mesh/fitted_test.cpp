#include "base/angles.hpp"
#include "mesh/delaunay.hpp"
#include "mesh/fitted_mesh.hpp"
#include "mesh/quality.hpp"
#include "mesh/tet_optimizer.hpp"
#include "support/studies.hpp"

#include <Eigen/Dense>
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <random>

using namespace upright;

namespace {

std::string fitted_study(const std::string& regions, const std::string& mesh = "size = 3\n") {
    return std::string("units = [\"mm\", \"N\", \"s\"]\n") + test::steel + regions +
           "[mesh]\nkind = \"fitted\"\n" + mesh;
}

const char* block = "[[region]]\nname = \"block\"\nrole = \"design\"\nmaterial = \"steel\"\nbox = [[0, 0, "
                    "0], [20, 15, 10]]\n";

double volume_of(const Model& model, const std::string& region) {
    for (const ModelRegion& r : model.regions)
        if (r.name == region) return r.volume;
    return -1.0;
}

} // namespace

TEST(Delaunay, NoPointLiesInsideACircumsphere) {
    std::mt19937 random(3);
    std::uniform_real_distribution<double> uniform(0, 1);
    std::vector<Vec3> points;
    for (int i = 0; i < 120; ++i) points.emplace_back(uniform(random), uniform(random), uniform(random));
    // A lattice as well: many points on one sphere.
    for (int i = 0; i < 27; ++i)
        points.emplace_back(0.2 + 0.2 * (i % 3), 0.2 + 0.2 * (i / 3 % 3), 0.2 + 0.2 * (i / 9));
    Delaunay d(Vec3::Zero(), Vec3::Ones());
    const auto number = d.insert_all(points);
    std::vector<Vec3> at(d.points());
    for (std::size_t i = 0; i < points.size(); ++i) at[static_cast<std::size_t>(number[i])] = points[i];
    double volume = 0.0;
    for (const Delaunay::Tet& t : d.tets()) {
        if (!t.alive || *std::min_element(t.node.begin(), t.node.end()) < Delaunay::hull) continue;
        std::array<Vec3, 4> p;
        for (std::size_t i = 0; i < 4; ++i) p[i] = at[static_cast<std::size_t>(t.node[i])];
        Mat3 A;
        Vec3 b;
        for (int i = 0; i < 3; ++i) {
            A.row(i) = 2 * (p[static_cast<std::size_t>(i) + 1] - p[0]).transpose();
            b[i] = p[static_cast<std::size_t>(i) + 1].squaredNorm() - p[0].squaredNorm();
        }
        const double v = A.determinant() / 48;
        EXPECT_GT(v, -1e-9);
        volume += v;
        if (v < 1e-7) continue;
        const Vec3 center = A.inverse() * b;
        for (const Vec3& q : points) EXPECT_GT((q - center).norm(), (p[0] - center).norm() - 1e-5);
    }
    EXPECT_GT(volume, 0.5);
    EXPECT_LT(volume, 1.0);
}

TEST(TetQuality, KnowsTheRegularTetrahedron) {
    const std::array<Vec3, 4> p{Vec3(1, 1, 1), Vec3(-1, 1, -1), Vec3(1, -1, -1), Vec3(-1, -1, 1)};
    EXPECT_NEAR(least_sine(p), std::sqrt(8.0) / 3.0, 1e-12);
    for (const double a : dihedral_angles(p)) EXPECT_NEAR(a, 70.528779, 1e-5);
    EXPECT_LT(least_sine({p[1], p[0], p[2], p[3]}), 0.0);
}

// A ball and a disk: the finer the angle, the nearer the volume; not below the smallest element.
TEST(Fitted, RoundFacesAreAsFineAsTheStudyAsks) {
    const std::string ball = "[[region]]\nname = \"ball\"\nrole = \"design\"\nmaterial = \"steel\"\nsphere = "
                             "{ center = [0, 0, 0], radius = 10 }\n";
    const auto made = [&](const std::string& keys) {
        const Model m = build_model(test::study_from(fitted_study(ball, "size = 8\n" + keys)));
        return std::pair{m.mesh.elements(), 1.0 - volume_of(m, "ball") / (4.0 / 3.0 * pi * 1000)};
    };
    const auto usual = made("");
    const auto fine = made("curvature = \"12 deg\"\nsmallest = \"1 mm\"\n");
    const auto floored = made("curvature = \"12 deg\"\nsmallest = \"4 mm\"\n");
    const auto coarse = made("curvature = \"60 deg\"\n");
    EXPECT_GT(fine.first, 4 * usual.first);
    // Were all triangles equilateral with edges of 12 degrees, their planes would lie a sixth of its square
    // within.
    EXPECT_LT(fine.second, 3.0 / 6.0 * std::pow(12.0 * degree, 2));
    EXPECT_LT(fine.second, 0.4 * usual.second);
    EXPECT_LT(floored.first, fine.first / 4);
    EXPECT_LT(coarse.first, usual.first);
    EXPECT_GT(coarse.second, usual.second);

    const std::string disk = "[[region]]\nname = \"ball\"\nrole = \"design\"\nmaterial = \"steel\"\ndisk = "
                             "{ center = [0, 0], radius = 10 }\n";
    const auto flat = [&](const std::string& keys) {
        const Model m = build_model(test::study_from(
            fitted_study(disk, "size = 8\nelement = \"plane-stress\"\nthickness = 1\n" + keys)));
        return 1.0 - volume_of(m, "ball") / (pi * 100);
    };
    const double chords = 1.0 - std::sin(6.0 * degree) / (6.0 * degree); // of 6 degrees
    EXPECT_NEAR(flat("curvature = \"6 deg\"\n"), chords, 0.5 * chords);
    EXPECT_GT(flat(""), 3.0 * chords);
}

// How many elements there are where sizes grow by 0.3 of the distance from what a bore asks: the integral of
// one over the volume of an element of that size. Small sizes were kept on a lattice as wide as the asked
// one: a coarser mesh had more elements, up to ten times as many.
TEST(Fitted, AboutABoreThereAreAsManyElementsAsTheSizesAsk) {
    const double radius = 6.0;
    const double at_bore = 25.0 * degree * radius;
    const Vec3 box(120, 120, 60);
    const auto count = [&](double size, const std::string& region, const std::string& keys) {
        const Model m =
            build_model(test::study_from(fitted_study(region, fmt::format("size = {}\n{}", size, keys))));
        return static_cast<double>(m.mesh.elements());
    };
    // By midpoints of squares of a millimetre, in the plane of a section.
    const auto asked = [&](double size, bool solid) {
        double out = 0.0;
        for (int i = 0; i < 120; ++i)
            for (int j = 0; j < 120; ++j) {
                const double far = std::hypot(i - 59.5, j - 59.5) - radius;
                if (far < 0.0) continue;
                const double h = std::min(size, at_bore + 0.3 * far);
                // Regular tetrahedra and triangles with edges of h.
                out += solid ? box.z() * 6.0 * std::sqrt(2.0) / (h * h * h) : 4.0 / std::sqrt(3.0) / (h * h);
            }
        return out;
    };
    const std::string block_with_bore =
        "[[region]]\nname = \"block\"\nrole = \"design\"\nmaterial = \"steel\"\nbox = [[-60, -60, 0], [60, "
        "60, 60]]\n[[region]]\nname = \"bore\"\nrole = \"void\"\ncylinder = { from = [0, 0, -1], to = [0, 0, "
        "61], radius = 6 }\n";
    const std::string plate_with_hole =
        "[[region]]\nname = \"plate\"\nrole = \"design\"\nmaterial = \"steel\"\nbox = [[-60, -60], [60, "
        "60]]\n[[region]]\nname = \"hole\"\nrole = \"void\"\ndisk = { center = [0, 0], radius = 6 }\n";
    double before = 1e300;
    for (const double size : {8.0, 12.0, 20.0, 30.0}) {
        const double there = count(size, block_with_bore, "");
        // Leaves are of sizes by powers of two, and faces and edges take their share.
        EXPECT_LT(there, 2.5 * asked(size, true)) << size;
        EXPECT_GT(there, 0.6 * asked(size, true)) << size;
        EXPECT_LT(there, 1.15 * before) << size;
        before = there;
        const double flat = count(size, plate_with_hole, "element = \"plane-stress\"\nthickness = 1\n");
        EXPECT_LT(flat, 2.0 * asked(size, false)) << size; // borders take their share
        EXPECT_GT(flat, 0.6 * asked(size, false)) << size;
    }
}

TEST(Fitted, ABlockIsFilledExactly) {
    const Model m = build_model(test::study_from(fitted_study(block)));
    EXPECT_NEAR(volume_of(m, "block"), 3000.0, 1e-6);
    const MeshQuality q = mesh_quality(m.mesh);
    EXPECT_GE(*q.smallest_dihedral, 20.0);
    EXPECT_EQ(face_connected_parts(m.mesh).back(), 0);
    // Watertight: the skin's area vectors sum to zero, its areas to the block's.
    Vec3 sum = Vec3::Zero();
    double area = 0.0;
    for (const MeshFace& f : m.mesh.boundary())
        for (const SidePoint& p : m.mesh.face_points(f)) {
            sum += p.area;
            area += p.area.norm();
        }
    EXPECT_LT(sum.norm(), 1e-9);
    EXPECT_NEAR(area, 2 * (300 + 200 + 150), 1e-6);
}

TEST(Fitted, RegionsMeetAtTheirOwnBoundary) {
    const Model m = build_model(test::study_from(fitted_study(
        std::string(block) + "[[region]]\nname = \"ring\"\nrole = \"keep\"\nmaterial = \"steel\"\ncylinder = "
                             "{ from = [10, 7.5, -1], to = [10, 7.5, 11], radius = 5 }\nwithin = \"block\"\n"
                             "[[region]]\nname = \"hole\"\nrole = \"void\"\ncylinder = { from = [10, 7.5, "
                             "-1], to = [10, 7.5, 11], radius = 3 }\n"
                             "[[surface]]\nname = \"wall\"\nof = \"hole\"\n",
        "size = 1.6\n")));
    EXPECT_NEAR(volume_of(m, "ring") / (pi * 16 * 10), 1.0, 0.01);
    EXPECT_NEAR((volume_of(m, "ring") + volume_of(m, "block")) / (3000 - pi * 9 * 10), 1.0, 0.005);
    EXPECT_GE(*mesh_quality(m.mesh).smallest_dihedral, 20.0);
    EXPECT_NEAR(m.surfaces[0].area / (2 * pi * 3 * 10), 1.0, 0.02);
    // Sharp edges are kept: nodes lie on every edge of the block.
    int on_edge = 0;
    for (const Vec3& p : m.mesh.nodes) on_edge += std::abs(p.x()) < 1e-9 && std::abs(p.y()) < 1e-9 ? 1 : 0;
    EXPECT_GE(on_edge, 5);
}

TEST(Fitted, SecondOrderFollowsTheCurve) {
    const std::string rod = "[[region]]\nname = \"rod\"\nrole = \"design\"\nmaterial = \"steel\"\ncylinder = "
                            "{ from = [0, 0, 0], to = [0, 0, 10], radius = 4 }\n";
    const Model straight = build_model(test::study_from(fitted_study(rod, "size = 2\n")));
    const Model bent = build_model(test::study_from(fitted_study(rod, "size = 2\norder = 2\n")));
    const double exact = pi * 16 * 10;
    EXPECT_GT(std::abs(volume_of(straight, "rod") / exact - 1), 0.01);
    EXPECT_LT(std::abs(volume_of(bent, "rod") / exact - 1), 0.004);
}

TEST(Fitted, ASymmetryPlaneCutsTheBody) {
    const Model m =
        build_model(test::study_from(fitted_study(block) + "[symmetry]\nplanes = [\"x = 10\"]\n"));
    EXPECT_NEAR(volume_of(m, "block"), 1500.0, 1e-6);
    EXPECT_FALSE(m.symmetry.empty());
}

// A roller on a block, tangent: nothing fills the cusp fairly, the mesh goes in as far as it can and says so.
TEST(Fitted, ACuspIsMeshedAndNamedWithItsPlace) {
    const Model m = build_model(test::study_from(fitted_study(
        std::string(block) + "[[region]]\nname = \"roller\"\nrole = \"keep\"\nmaterial = \"steel\"\ncylinder "
                             "= { from = [0, 7.5, 15], to = [20, 7.5, 15], radius = 5 }\n")));
    EXPECT_NEAR(volume_of(m, "block") / 3000.0, 1.0, 0.01);
    EXPECT_NEAR(volume_of(m, "roller") / (pi * 25 * 20), 1.0, 0.04); // chords
    std::string said;
    for (const std::string& r : m.remarks) said += r + "\n";
    EXPECT_NE(said.find("cusp"), std::string::npos) << said;
    EXPECT_EQ(face_connected_parts(m.mesh).back(), 0); // no scraps of its own
    for (const double v : m.mesh.element_volumes()) EXPECT_GT(v, 0.0);
}

// A wedge of 4 degrees: its elements are as sharp, its volume is right, and the word says where.
TEST(Fitted, AWedgeIsFilledToItsTip) {
    const double rise = 40.0 * std::tan(4.0 * pi / 180.0);
    for (const double size : {3.0, 1.7}) {
        const Model m = build_model(test::study_from(fitted_study(
            fmt::format("[[region]]\nname = \"wedge\"\nrole = \"design\"\nmaterial = \"steel\"\nprism = {{ "
                        "polygon = [[0, 0], [40, 0], [40, {:.12g}]], from = [0, 0, 0], to = [0, 0, 20] }}\n",
                        rise),
            fmt::format("size = {}\n", size))));
        EXPECT_NEAR(volume_of(m, "wedge") / (0.5 * 40 * rise * 20), 1.0, 0.002) << size;
        EXPECT_GT(*mesh_quality(m.mesh).smallest_dihedral, 0.3) << size;
        std::string said;
        for (const std::string& r : m.remarks) said += r + "\n";
        EXPECT_NE(said.find("cusp of 4 deg"), std::string::npos) << said;
        // It is one piece that can be analysed.
        EXPECT_EQ(face_connected_parts(m.mesh).back(), 0) << size;
    }
}

// Walls far below the smallest size: a box section of 40 x 30 with walls of 0.4 at a size of 5.
TEST(Fitted, ThinWallsTakeElementsOfTheirOwnSize) {
    const Model m = build_model(test::study_from(fitted_study(
        "[[region]]\nname = \"tube\"\nrole = \"design\"\nmaterial = \"steel\"\nbox = [[0, 0, 0], [40, 30, "
        "8]]\n"
        "[[region]]\nname = \"inside\"\nrole = \"void\"\nbox = [[0.4, 0.4, -1], [39.6, 29.6, 9]]\n",
        "size = 5\n")));
    EXPECT_NEAR(volume_of(m, "tube") / ((40 * 30 - 39.2 * 29.2) * 8), 1.0, 1e-6);
    std::string said;
    for (const std::string& r : m.remarks) said += r + "\n";
    EXPECT_NE(said.find("a wall is 0.4 thick"), std::string::npos) << said;
    EXPECT_EQ(face_connected_parts(m.mesh).back(), 0);
}

// Bodies that touch but for a hair are refused with the gap; a real gap is meshed as one.
TEST(Fitted, ABodyAHairFromTheNextIsRefused) {
    const auto two = [](double gap) {
        return fitted_study(
            std::string(block) +
            fmt::format("[[region]]\nname = \"lid\"\nrole = \"keep\"\nmaterial = \"steel\"\nbox = "
                        "[[0, 0, {:.8g}], [20, 15, 14]]\n",
                        10 + gap));
    };
    const std::string message = test::error_of(two(0.002));
    EXPECT_NE(message.find("\"block\" and \"lid\" are 0.002 apart"), std::string::npos) << message;
    const Model apart = build_model(test::study_from(two(0.5)));
    EXPECT_NEAR(volume_of(apart, "lid"), 20 * 15 * 3.5, 1e-6);
    const Model touching = build_model(test::study_from(two(0.0)));
    EXPECT_NEAR(volume_of(touching, "lid"), 20 * 15 * 4, 1e-6);
    EXPECT_EQ(face_connected_parts(touching.mesh).back(), 0);
}

namespace {

// A box of 10 x 10 x 10 whose top has a strip of its own face, `wide` across, as CAD leaves them.
FittedInput box_with_strip(double wide) {
    FittedInput in;
    const double y = 4.0;
    for (const double z : {0.0, 10.0})
        for (const double v : {0.0, y, y + wide, 10.0})
            for (const double x : {0.0, 10.0}) in.points.emplace_back(x, v, z);
    const auto quad = [&](std::int32_t a, std::int32_t b, std::int32_t c, std::int32_t d, std::int32_t face) {
        for (const auto& t : {std::array<std::int32_t, 3>{a, b, c}, std::array<std::int32_t, 3>{a, c, d}}) {
            in.triangles.push_back(t);
            in.face_of.push_back(face);
            in.regions.push_back({0, -1});
        }
    };
    // Points 2k, 2k + 1: x = 0 and 10 at step k of y; from 8 on at the top.
    for (std::int32_t k = 0; k < 3; ++k) {
        quad(2 * k, 2 * k + 2, 2 * k + 3, 2 * k + 1, 0);
        quad(8 + 2 * k, 9 + 2 * k, 11 + 2 * k, 10 + 2 * k, 1 + k);
        quad(2 * k, 8 + 2 * k, 10 + 2 * k, 2 * k + 2, 4);
        quad(2 * k + 1, 2 * k + 3, 11 + 2 * k, 9 + 2 * k, 5);
    }
    quad(0, 1, 9, 8, 6);
    quad(6, 14, 15, 7, 7);
    in.face_radius.assign(8, 0.0);
    return in;
}

} // namespace

TEST(Fitted, ANarrowFaceGoesIntoItsNeighbour) {
    FittedOptions options;
    options.size = 2.5;
    const FittedTets with = make_fitted_tets(box_with_strip(0.01), options);
    double volume = 0.0;
    for (const auto& t : with.tets) {
        const auto p = [&](std::size_t i) -> const Vec3& {
            return with.points[static_cast<std::size_t>(t[i])];
        };
        volume += (p(1) - p(0)).cross(p(2) - p(0)).dot(p(3) - p(0)) / 6.0;
    }
    EXPECT_NEAR(volume, 1000.0, 1e-6);
    EXPECT_LT(with.tets.size(), 2500U); // as many as without the strip
    EXPECT_GE(with.smallest_dihedral, 20.0);
    ASSERT_FALSE(with.remarks.empty());
    EXPECT_NE(with.remarks.back().find("1 narrow face is meshed as one"), std::string::npos)
        << with.remarks.back();
    // A strip that elements can see keeps its edges.
    const FittedTets wide = make_fitted_tets(box_with_strip(2.0), options);
    bool on_edge = false;
    for (const Vec3& p : wide.points)
        on_edge = on_edge || (std::abs(p.y() - 6.0) < 1e-9 && std::abs(p.z() - 10.0) < 1e-9 && p.x() > 0.5 &&
                              p.x() < 9.5);
    EXPECT_TRUE(on_edge);
}

// Before anything is triangulated for it: the CAD library fails, or works for ever, at such sizes.
TEST(Fitted, AnAbsurdSizeIsAnsweredAtOnce) {
    const std::string step =
        "[[region]]\nname = \"part\"\nrole = \"design\"\nmaterial = \"steel\"\nfile = \"" +
        std::string(UPRIGHT_TEST_BODIES) + "/bracket.step\"\n";
    for (const std::string& body : {std::string(block), step}) {
        const std::string message = test::error_of(fitted_study(body, "size = 1e-6\n"));
        EXPECT_NE(message.find("makes about"), std::string::npos) << message;
        EXPECT_NE(message.find("Write a larger size"), std::string::npos) << message;
    }
}

// An L of 19500 mm3 with a square hole, lined by 2 mm and hulled by 2 mm.
TEST(Fitted, SkinsOfPrismsKeepTheirDepth) {
    const Model m = build_model(test::study_from(fitted_study(R"(
[[region]]
name = "ell"
role = "design"
material = "steel"
prism = { polygon = [[0, 0], [40, 0], [40, 15], [15, 15], [15, 40], [0, 40]], from = [0, 0, 0], to = [0, 0, 20] }
[[region]]
name = "hole"
role = "void"
prism = { polygon = [[25, 4], [34, 4], [34, 11], [25, 11]], from = [0, 0, 0], to = [0, 0, 20] }
[[region]]
name = "lining"
role = "keep"
material = "steel"
skin_of = "hole"
depth = 2
[[region]]
name = "hull"
role = "keep"
material = "steel"
skin_of = "ell"
into = "body"
depth = 2
)",
                                                              "size = 5\n")));
    EXPECT_NEAR(volume_of(m, "lining"), (13 * 11 - 9 * 7) * 16, 1e-6);
    EXPECT_NEAR(volume_of(m, "hull") + volume_of(m, "lining") + volume_of(m, "ell"), (975 - 63) * 20, 1e-6);
    EXPECT_NEAR(volume_of(m, "ell"), 8448, 1e-6);
}

TEST(Fitted, ASkinOfAStepBody) {
    const std::string body =
        "[[region]]\nname = \"part\"\nrole = \"design\"\nmaterial = \"steel\"\nfile = \"" +
        std::string(UPRIGHT_TEST_BODIES) + "/bracket.step\"\n";
    const auto hull = [](const char* depth) {
        return std::string("[[region]]\nname = \"hull\"\nrole = \"keep\"\nmaterial = \"steel\"\nskin_of = "
                           "\"part\"\ninto = \"body\"\ndepth = ") +
               depth + "\n";
    };
    // A layer deeper than the walls are thick is a message.
    const std::string message = test::error_of(fitted_study(body + hull("200"), "size = 4\n"));
    EXPECT_NE(message.find("a layer of this depth cannot be made"), std::string::npos) << message;
}

TEST(Fitted, ALayerUnderASurfaceIsWhole) {
    const Model m = build_model(test::study_from(fitted_study(
        std::string(block) + "[[surface]]\nname = \"end\"\nof = \"block\"\nfacing = [1, 0, 0]\n"
                             "[[region]]\nname = \"pad\"\nrole = \"keep\"\nmaterial = \"steel\"\n"
                             "skin_of = \"end\"\ndepth = 4\n")));
    EXPECT_GT(volume_of(m, "pad"), 0.7 * 4 * 150);
    EXPECT_LT(volume_of(m, "pad"), 1.6 * 4 * 150);
    EXPECT_NEAR(volume_of(m, "pad") + volume_of(m, "block"), 3000, 1e-6);
    // Nothing but the pad touches the face.
    for (const NodeId n : m.surfaces[0].nodes)
        for (std::size_t e = 0; e < m.mesh.elements(); ++e)
            for (const NodeId other : m.mesh.nodes_of(static_cast<ElementId>(e)))
                if (other == n) EXPECT_EQ(m.role(static_cast<ElementId>(e)), Role::Keep);
    ASSERT_FALSE(m.remarks.empty());
}

TEST(Fitted, TheSameStudyGivesTheSameMesh) {
    const Model a = build_model(test::study_from(fitted_study(block)));
    const Model b = build_model(test::study_from(fitted_study(block)));
    ASSERT_EQ(a.mesh.nodes.size(), b.mesh.nodes.size());
    EXPECT_EQ(a.mesh.connectivity, b.mesh.connectivity);
}

namespace {

std::string flat_study(const std::string& mesh) {
    return std::string("units = [\"mm\", \"N\", \"s\"]\n") + test::steel + R"(
[[region]]
name = "plate"
role = "design"
material = "steel"
polygon = [[0, 0], [120, 10], [120, 50], [0, 60]]
[[region]]
name = "eye"
role = "void"
disk = { center = [90, 30], radius = 12 }
[[region]]
name = "ring"
role = "keep"
material = "steel"
skin_of = "eye"
depth = 5
[[region]]
name = "slot"
role = "void"
box = [[20, 26], [50, 34]]
[[region]]
name = "rim"
role = "keep"
material = "steel"
skin_of = "plate"
into = "body"
depth = 2
[[surface]]
name = "root"
of = "plate"
facing = [-1, 0]
[[surface]]
name = "wall"
of = "eye"
[mesh]
kind = "fitted"
)" + mesh;
}

} // namespace

TEST(Flat, TrianglesFollowEveryBorder) {
    const Model m = build_model(test::study_from(flat_study(
        "size = 3\nelement = \"plane-stress\"\nthickness = 4\n[[mesh.refine]]\non = \"ring\"\nsize = 1\n")));
    EXPECT_NEAR(volume_of(m, "ring") / (4 * pi * (17 * 17 - 12 * 12)), 1.0, 0.005);
    double whole = 0.0;
    for (const ModelRegion& r : m.regions) whole += r.volume;
    EXPECT_NEAR(whole / (4 * (6000 - 144 * pi - 240)), 1.0, 0.002);
    // A rim of 2 all round: what is left of the plate is the polygon moved inward.
    EXPECT_GT(volume_of(m, "rim"), 4 * 2 * 320);
    EXPECT_LT(volume_of(m, "rim"), 4 * 2 * 345);
    for (std::size_t e = 0; e < m.mesh.elements(); ++e) EXPECT_GT(m.mesh.volume(e), 0.0);
    EXPECT_GE(mesh_quality(m.mesh).scaled_jacobian,
              0.45); // sine of the smallest angle over that of 60 degrees
    // Walls of voids bear the void's name, and not that of the plate.
    EXPECT_NEAR(m.surfaces[0].area, 4 * 60, 1e-6);
    EXPECT_NEAR(m.surfaces[1].area / (4 * 2 * pi * 12), 1.0, 0.005);
}

TEST(Flat, SecondOrderAndShells) {
    const Model bent = build_model(
        test::study_from(flat_study("size = 4\norder = 2\nelement = \"plane-stress\"\nthickness = 4\n")));
    double whole = 0.0;
    for (const ModelRegion& r : bent.regions) whole += r.volume;
    EXPECT_NEAR(whole / (4 * (6000 - 144 * pi - 240)), 1.0, 2e-4);
    EXPECT_EQ(bent.mesh.kinds[0], ElementKind::Tri6);
    const Model shell =
        build_model(test::study_from(flat_study("size = 4\nelement = \"shell\"\nthickness = 4\n")));
    EXPECT_EQ(shell.mesh.kinds[0], ElementKind::ShellTri3);
    EXPECT_NEAR(shell.mesh.bounds.high.x(), 120.0, 1e-9);
}

TEST(Flat, ASymmetryPlaneHalvesThePlate) {
    const Model m = build_model(test::study_from(flat_study(
        "size = 4\nelement = \"plane-strain\"\nthickness = 4\n[symmetry]\nplanes = [\"y = 30\"]\n")));
    double whole = 0.0;
    for (const ModelRegion& r : m.regions) whole += r.volume;
    EXPECT_NEAR(whole / (2 * (6000 - 144 * pi - 240)), 1.0, 0.004);
    EXPECT_FALSE(m.symmetry.empty());
}

// In space too: the wall of a void is no face of the block that it was cut from.
TEST(Fitted, WallsOfVoidsAreNotThoseOfTheBlock) {
    const Model m = build_model(test::study_from(
        fitted_study(std::string(block) +
                     "[[region]]\nname = \"slot\"\nrole = \"void\"\nbox = [[5, 5, -1], [15, 10, 11]]\n"
                     "[[surface]]\nname = \"left\"\nof = \"block\"\nfacing = [-1, 0, 0]\n"
                     "[[surface]]\nname = \"wall\"\nof = \"slot\"\n")));
    EXPECT_NEAR(m.surfaces[0].area, 150, 1e-6);
    EXPECT_NEAR(m.surfaces[1].area, 300, 1e-6);
}

// Split by a curved surface: what lies outside of a cylinder is kept.
TEST(Fitted, ARegionIsSplitByASurface) {
    const std::string split =
        std::string(block) +
        "[[region]]\nname = \"outer\"\nrole = \"keep\"\nmaterial = \"steel\"\nwithin = \"block\"\n"
        "side_of = { cylinder = { from = [0, 0, -1], to = [0, 0, 11], radius = 9 } }\n";
    const double inner = 0.25 * pi * 81 * 10;
    const Model fitted = build_model(test::study_from(fitted_study(split, "size = 1.5\n")));
    EXPECT_NEAR(volume_of(fitted, "block") / inner, 1.0, 0.008); // chords
    EXPECT_NEAR(volume_of(fitted, "outer") + volume_of(fitted, "block"), 3000, 1e-6);
    const Model grid = build_model(test::study_from(std::string("units = [\"mm\", \"N\", \"s\"]\n") +
                                                    test::steel + split + "[mesh]\nsize = 0.5\n"));
    EXPECT_NEAR(volume_of(grid, "block") / inner, 1.0, 0.02);
}
