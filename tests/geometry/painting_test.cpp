#include "geometry/painting.hpp"

#include "base/angles.hpp"
#include "support/studies.hpp"

#include <cmath>
#include <gtest/gtest.h>

using namespace upright;
using test::block_study;
using test::study_from;

namespace {

std::size_t owned(const Study& study, const Painting& p, const std::string& name) {
    std::size_t out = 0;
    for (const RegionId r : p.owner)
        if (r != RegionId::None && refers_to(name, study.regions[index(r)].name)) ++out;
    return out;
}

const char* hole = R"(
[[region]]
name = "hole"
role = "void"
box = [[3, 1, 0], [5, 3, 4]]
[[region]]
name = "lining"
role = "keep"
material = "steel"
skin_of = "hole"
depth = 1
)";

} // namespace

TEST(CellGrid, StretchesToFitAndRefusesAbsurdSizes) {
    const CellGrid grid = make_cell_grid(make_space(study_from(block_study("", ""), {"mesh.size=1.5"})));
    EXPECT_EQ(grid.count[0], 5);
    EXPECT_DOUBLE_EQ(grid.cell.x(), 1.6);
    EXPECT_EQ(grid.count[1], 3);
}

TEST(CellGrid, RefusesAbsurdSizes) {
    EXPECT_THROW(make_cell_grid(make_space(study_from(block_study(), {"mesh.size=1e-4"}))), Error);
    EXPECT_THROW(make_cell_grid(make_space(study_from(block_study(), {"mesh.size=1e4"}))), Error);
}

TEST(CellGrid, IsCutAtSymmetryPlanes) {
    const CellGrid low =
        make_cell_grid(make_space(study_from(block_study("[symmetry]\nplanes = [\"y = 2\"]\n"))));
    EXPECT_EQ(low.count[1], 2); // of two equal sides the lower
    EXPECT_TRUE(low.symmetric[1][1]);
    EXPECT_EQ(low.copies(), 2);
    const CellGrid high = make_cell_grid(
        make_space(study_from(block_study("[symmetry]\nplanes = [\"x = 0\", \"z = 1 mm\"]\n"))));
    EXPECT_EQ(high.count[2], 3); // the larger side
    EXPECT_TRUE(high.symmetric[0][0]);
    EXPECT_TRUE(high.symmetric[2][0]);
    EXPECT_EQ(high.copies(), 4);
    EXPECT_THROW(make_cell_grid(make_space(study_from(block_study("[symmetry]\nplanes = [\"x = 20\"]\n")))),
                 Error);
}

TEST(Painting, LaterRegionsWinAndSkinsNeverFillVoids) {
    const Study study = study_from(block_study(hole));
    const Painting p = paint(make_space(study), make_cell_grid(make_space(study)));
    EXPECT_EQ(owned(study, p, "hole"), 16U);
    EXPECT_EQ(owned(study, p, "lining"), 4U * (4 * 4 - 2 * 2)); // corners lie within the depth of 1
    EXPECT_EQ(owned(study, p, "block"), 128U - 16U - 48U);
}

// A layer takes the cells of which it fills half: 0.6 deep comes out one cell deep, 1.4 as well, 1.6 two.
TEST(Painting, SkinsTakeCellsByHalfOfThem) {
    // Around a square of 2 x 2: its sides alone; with the cells at its corners; two rows along the sides.
    for (const auto& [depth, cells] : {std::pair{"0.6", 8U}, {"1.4", 12U}, {"1.6", 20U}}) {
        const Study study = study_from(block_study(hole, ""), {std::string("region.lining.depth=") + depth,
                                                               "region.block.box=[[0, -2, 0], [8, 6, 4]]"});
        EXPECT_EQ(owned(study, paint(make_space(study), make_cell_grid(make_space(study))), "lining"),
                  4U * cells)
            << depth;
    }
    try {
        const Study study = study_from(block_study(hole), {"region.lining.depth=0.4"});
        paint(make_space(study), make_cell_grid(make_space(study)));
        FAIL() << "a layer of less than half a cell was painted";
    } catch (const Error& bad) {
        const std::string message = bad.what();
        EXPECT_NE(message.find("comes to no cell"), std::string::npos) << message;
        EXPECT_NE(message.find("cells of 0.8 or smaller"), std::string::npos) << message;
    }
}

// A plane that cuts a box: half the box where it goes through the middle, the corner's pyramid where it cuts
// one off, and what a grid of points says elsewhere.
TEST(Painting, SharesOfABoxAreThoseBelowThePlane) {
    CellPiece box;
    box.at = Vec3(1, 2, 3);
    box.half.diagonal() = Vec3(1, 0.5, 2);
    box.volume = 1.0;
    const auto below = [&](const Vec3& n, double at) {
        return share_below({box}, [&](const Vec3& p) { return n.normalized().dot(p - box.at) - at; });
    };
    EXPECT_NEAR(below(Vec3(1, 1, 1), 0.0), 0.5, 1e-12);
    EXPECT_NEAR(below(Vec3(1, 0, 0), -0.26), 0.37, 1e-12);
    EXPECT_NEAR(below(Vec3(0, 0, -1), 1.0), 0.75, 1e-12);
    // The corner (-1, -0.5, -2) cut at 0.3 along each edge direction of (1, 1, 1).
    EXPECT_NEAR(below(Vec3(1, 1, 1), (0.3 - 3.5) / std::sqrt(3.0)), 0.3 * 0.3 * 0.3 / 6.0 / 8.0, 1e-12);
    const Vec3 n(0.3, -1.2, 0.5);
    std::size_t in = 0;
    constexpr int steps = 60;
    for (int k = 0; k < steps; ++k)
        for (int j = 0; j < steps; ++j)
            for (int i = 0; i < steps; ++i) {
                const Vec3 s((i + 0.5) / steps * 2 - 1, (j + 0.5) / steps * 2 - 1, (k + 0.5) / steps * 2 - 1);
                in += n.normalized().dot(box.half * s) < 0.2 ? 1 : 0;
            }
    EXPECT_NEAR(below(n, 0.2), static_cast<double>(in) / (steps * steps * steps), 2e-4);
}

TEST(Painting, ACellBelongsToAShapeThatHoldsHalfOfIt) {
    for (const auto& [to, layers] : {std::pair{"2.37", 2U}, {"2.38", 2U}, {"2.49", 2U}, {"2.51", 3U}}) {
        const Study study = study_from(block_study(
            std::string(
                "[[region]]\nname = \"pad\"\nrole = \"keep\"\nmaterial = \"steel\"\nbox = [[0, 0, 0], [") +
            to + ", 4, 4]]\n"));
        EXPECT_EQ(owned(study, paint(make_space(study), make_cell_grid(make_space(study))), "pad"),
                  layers * 16U)
            << to;
    }
}

// A bore takes as much wherever it lies on the lattice.
TEST(Painting, EqualBoresTakeAboutTheSame) {
    std::size_t least = 1000000;
    std::size_t most = 0;
    for (int k = 0; k < 8; ++k) {
        const std::string y = std::to_string(6.0 + 0.13 * k);
        const std::string z = std::to_string(6.0 + 0.29 * k);
        const Study study =
            study_from(block_study("[[region]]\nname = \"bore\"\nrole = \"void\"\ncylinder = { from = [0, " +
                                   y + ", " + z + "], to = [8, " + y + ", " + z + "], radius = 3.3 }\n"),
                       {"region.block.box=[[0, 0, 0], [8, 14, 14]]"});
        const std::size_t taken =
            owned(study, paint(make_space(study), make_cell_grid(make_space(study))), "bore");
        least = std::min(least, taken);
        most = std::max(most, taken);
        EXPECT_NEAR(static_cast<double>(taken), 8 * 3.14159265 * 3.3 * 3.3, 0.08 * 8 * 34.2) << k;
    }
    EXPECT_LT(static_cast<double>(most), 1.13 * static_cast<double>(least));
}

// What faces a direction is told by the wall's own shape, not by the stairs that stand for it.
TEST(Surfaces, FaceByTheShapeOfTheirWall) {
    const std::string bore = "[[region]]\nname = \"bore\"\nrole = \"void\"\ncylinder = { from = [0, 10, 10], "
                             "to = [8, 10, 10], radius = 6 }\n";
    const auto picked = [&](const std::string& rule) {
        const Study study =
            study_from(block_study(bore + "[[surface]]\nname = \"wall\"\nof = \"bore\"\n" + rule),
                       {"region.block.box=[[0, 0, 0], [8, 20, 20]]"});
        return paint(make_space(study), make_cell_grid(make_space(study))).surfaces.back().size();
    };
    const std::size_t all = picked("");
    const std::size_t up = picked("facing = [0, 0, 1]\ntilt = 90\n"); // the half below the axis
    const std::size_t down = picked("facing = [0, 0, -1]\ntilt = 90\n");
    EXPECT_EQ(up + down, all);
    EXPECT_EQ(up, down);
    // Several directions: any of them.
    EXPECT_EQ(picked("facing = [[0, 0, 1], [0, 0, -1]]\ntilt = 90\n"), all);
    EXPECT_EQ(picked("facing = [[0, 0, 1], [0, 1, 0]]\ntilt = 20\n"), 2 * picked("facing = [0, 0, 1]\n"));
}

TEST(Surfaces, BeyondASymmetryPlaneSaySo) {
    const std::string half = "[symmetry]\nplanes = [\"y = 2\"]\n";
    EXPECT_NE(
        test::error_of(block_study("[[surface]]\nname = \"far\"\non_plane = { point = [0, 4, 0], normal "
                                   "= [0, 1, 0] }\n" +
                                   half))
            .find("lies beyond the symmetry plane y = 2"),
        std::string::npos);
    EXPECT_NE(test::error_of(block_study("[[surface]]\nname = \"far\"\nof = \"block\"\ninside = { box = [[0, "
                                         "3, 0], [8, 4, 4]] }\n" +
                                         half))
                  .find("lies beyond the symmetry plane y = 2"),
              std::string::npos);
}

TEST(Painting, WithinKeepsToARegion) {
    const Study study =
        study_from(block_study("[[region]]\nname = \"pad\"\nrole = \"keep\"\nmaterial = \"steel\"\nbox = "
                               "[[6, 0, 0], [20, 4, 4]]\nwithin = \"block\"\n"));
    const CellGrid grid = make_cell_grid(make_space(study));
    EXPECT_EQ(owned(study, paint(make_space(study), grid), "pad"), 2U * 16U);
}

TEST(Painting, SkinOfASurfaceLiesUnderIt) {
    const Study study = study_from(block_study(
        "[[region]]\nname = \"pad\"\nrole = \"keep\"\nmaterial = \"steel\"\nskin_of = \"tip\"\ndepth = 2\n"));
    const Painting p = paint(make_space(study), make_cell_grid(make_space(study)));
    EXPECT_EQ(owned(study, p, "pad"), 2U * 16U);
    EXPECT_EQ(p.surfaces[1].size(), 16U); // the surface is still found after the pad was painted over it
}

TEST(Surfaces, TheWallOfAVoidBearsItsName) {
    const Study study = study_from(
        block_study(std::string(hole) + "[[surface]]\nname = \"wall\"\nof = \"hole\"\n[[surface]]\nname = "
                                        "\"side\"\nof = \"block\"\nfacing = [0, 1, 0]\n"));
    const Painting p = paint(make_space(study), make_cell_grid(make_space(study)));
    EXPECT_EQ(p.surfaces[2].size(), 4U * 8U);
    EXPECT_EQ(p.surfaces[3].size(), 8U * 4U); // the wall of the hole that faces +y is not a side of the block
}

TEST(Surfaces, RulesCombine) {
    const Study study = study_from(block_study(R"(
[[surface]]
name = "patch"
on_plane = { point = [0, 0, 4], normal = [0, 0, 1] }
inside = { box = [[2, 0, 3], [4, 4, 5]] }
[[region]]
name = "bore"
role = "void"
cylinder = { from = [4, 2, 0], to = [4, 2, 4], radius = 1.5 }
[[surface]]
name = "bore-wall"
on_cylinder = { from = [4, 2, 0], to = [4, 2, 4], radius = 1.5 }
)"));
    const Painting p = paint(make_space(study), make_cell_grid(make_space(study)));
    for (const CellFace& f : p.surfaces[2]) EXPECT_EQ(f.side, 5);
    EXPECT_GE(p.surfaces[2].size(), 5U);
    EXPECT_FALSE(p.surfaces[3].empty());
    for (const CellFace& f : p.surfaces[3]) EXPECT_LT(f.side, 4);
}

TEST(Surfaces, PickingNothingSaysWhichRuleLeftNothing) {
    const std::string message =
        test::error_of(block_study("[[surface]]\nname = \"lid\"\nof = \"block\"\nfacing = [1, 1, 1]\n"));
    EXPECT_NE(message.find("\"of\" leaves 160, \"facing\" leaves 0"), std::string::npos) << message;
}
