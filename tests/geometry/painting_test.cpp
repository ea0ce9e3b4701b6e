#include "geometry/painting.hpp"

#include "support/studies.hpp"

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
    const CellGrid grid = make_cell_grid(study_from(block_study("", ""), {"mesh.size=1.5"}));
    EXPECT_EQ(grid.count[0], 5);
    EXPECT_DOUBLE_EQ(grid.cell.x(), 1.6);
    EXPECT_EQ(grid.count[1], 3);
}

TEST(CellGrid, RefusesAbsurdSizes) {
    EXPECT_THROW(make_cell_grid(study_from(block_study(), {"mesh.size=1e-4"})), Error);
    EXPECT_THROW(make_cell_grid(study_from(block_study(), {"mesh.size=1e4"})), Error);
}

TEST(CellGrid, IsCutAtSymmetryPlanes) {
    const CellGrid low = make_cell_grid(study_from(block_study("[symmetry]\nplanes = [\"y = 2\"]\n")));
    EXPECT_EQ(low.count[1], 2); // of two equal sides the lower
    EXPECT_TRUE(low.symmetric[1][1]);
    EXPECT_EQ(low.copies(), 2);
    const CellGrid high =
        make_cell_grid(study_from(block_study("[symmetry]\nplanes = [\"x = 0\", \"z = 1 mm\"]\n")));
    EXPECT_EQ(high.count[2], 3); // the larger side
    EXPECT_TRUE(high.symmetric[0][0]);
    EXPECT_TRUE(high.symmetric[2][0]);
    EXPECT_EQ(high.copies(), 4);
    EXPECT_THROW(make_cell_grid(study_from(block_study("[symmetry]\nplanes = [\"x = 20\"]\n"))), Error);
}

TEST(Painting, LaterRegionsWinAndSkinsNeverFillVoids) {
    const Study study = study_from(block_study(hole));
    const Painting p = paint(study, make_cell_grid(study));
    EXPECT_EQ(owned(study, p, "hole"), 16U);
    EXPECT_EQ(owned(study, p, "lining"), 4U * (4 * 4 - 2 * 2)); // corners lie within the depth of 1
    EXPECT_EQ(owned(study, p, "block"), 128U - 16U - 48U);
}

TEST(Painting, ThinSkinsStillTakeOneWholeLayer) {
    const Study study = study_from(block_study(hole), {"region.lining.depth=0.1"});
    const Painting p = paint(study, make_cell_grid(study));
    EXPECT_EQ(owned(study, p, "lining"), 4U * 8U); // the cells that share a face with the hole
}

TEST(Painting, WithinKeepsToARegion) {
    const Study study =
        study_from(block_study("[[region]]\nname = \"pad\"\nrole = \"keep\"\nmaterial = \"steel\"\nbox = "
                               "[[6, 0, 0], [20, 4, 4]]\nwithin = \"block\"\n"));
    const CellGrid grid = make_cell_grid(study);
    EXPECT_EQ(owned(study, paint(study, grid), "pad"), 2U * 16U);
}

TEST(Painting, SkinOfASurfaceLiesUnderIt) {
    const Study study = study_from(block_study(
        "[[region]]\nname = \"pad\"\nrole = \"keep\"\nmaterial = \"steel\"\nskin_of = \"tip\"\ndepth = 2\n"));
    const Painting p = paint(study, make_cell_grid(study));
    EXPECT_EQ(owned(study, p, "pad"), 2U * 16U);
    EXPECT_EQ(p.surfaces[1].size(), 16U); // the surface is still found after the pad was painted over it
}

TEST(Surfaces, TheWallOfAVoidBearsItsName) {
    const Study study = study_from(
        block_study(std::string(hole) + "[[surface]]\nname = \"wall\"\nof = \"hole\"\n[[surface]]\nname = "
                                        "\"side\"\nof = \"block\"\nfacing = [0, 1, 0]\n"));
    const Painting p = paint(study, make_cell_grid(study));
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
    const Painting p = paint(study, make_cell_grid(study));
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
