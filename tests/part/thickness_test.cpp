// Thickness and gaps by inscribed spheres, on bodies of unit cubes whose sizes are plain.
#include "part/making_check.hpp"
#include "part/thickness.hpp"
#include "support/studies.hpp"

#include <map>

namespace upright {
namespace {

using test::study_from;
using test::StudyText;

// A block of 60 x 30 x 30 mm in cells of 2 mm.
Study thick_study(const std::string& form = {}) {
    return study_from(StudyText()
                          .steel()
                          .region("block", "box = [[0, 0, 0], [60, 30, 30]]")
                          .surface("root", "facing = [-1, 0, 0]")
                          .support("clamp", "root", R"(["x", "y", "z"])")
                          .mesh("size = 2")
                          .add(form));
}

// The border of the unit cubes for which `in` holds of their middles, in `body`'s free faces.
template <class In> Part cubes(const Eigen::Vector3i& count, const In& in, bool free) {
    Part out;
    std::map<std::array<int, 3>, std::int32_t> number;
    const auto point = [&](const Eigen::Vector3i& at) {
        const auto [found, fresh] = number.emplace(std::array<int, 3>{at.x(), at.y(), at.z()},
                                                   static_cast<std::int32_t>(out.surface.points.size()));
        if (fresh) out.surface.points.push_back(at.cast<double>());
        return found->second;
    };
    const auto solid = [&](const Eigen::Vector3i& c) {
        return (c.array() >= 0).all() && (c.array() < count.array()).all() &&
               in(Vec3(c.cast<double>() + Vec3::Constant(0.5)));
    };
    for (int z = 0; z < count.z(); ++z)
        for (int y = 0; y < count.y(); ++y)
            for (int x = 0; x < count.x(); ++x) {
                const Eigen::Vector3i c(x, y, z);
                if (!solid(c)) continue;
                for (int axis = 0; axis < 3; ++axis)
                    for (const int side : {0, 1}) {
                        Eigen::Vector3i beyond = c;
                        beyond[axis] += side == 1 ? 1 : -1;
                        if (solid(beyond)) continue;
                        const int u = (axis + 1) % 3;
                        const int v = (axis + 2) % 3;
                        std::array<std::int32_t, 4> q{};
                        for (std::size_t k = 0; k < 4; ++k) {
                            Eigen::Vector3i at = c;
                            at[axis] += side;
                            at[u] += k == 1 || k == 2 ? 1 : 0;
                            at[v] += k >= 2 ? 1 : 0;
                            q[k] = point(at);
                        }
                        if (side == 0) std::swap(q[1], q[3]);
                        out.surface.corners.push_back({q[0], q[1], q[2]});
                        out.surface.corners.push_back({q[0], q[2], q[3]});
                        out.free.insert(out.free.end(), 2, free);
                    }
            }
    return out;
}

bool dumbbell(const Vec3& p) {
    const bool slot = p.x() > 7 && p.x() < 12 && p.y() > 14; // 5 wide
    if (p.x() < 20) return !slot;
    if (p.x() > 40) return true;
    return p.y() > 11 && p.y() < 16 && p.z() > 12 && p.z() < 17; // a bar 5 thick
}

TEST(ThicknessTest, SeesTheBarTheBlockAndTheSlot) {
    const Model model = build_model(thick_study());
    const Part part = cubes({60, 30, 30}, dumbbell, true);
    ASSERT_TRUE(closed(part.surface));
    const Thickness found = measure_thickness(model, part, 12.0);
    ASSERT_TRUE(found.thinnest && found.thickest && found.narrowest);
    EXPECT_NEAR(found.thinnest->across, 5.0, 0.05);
    EXPECT_NEAR(found.thinnest->at.y(), 13.5, 0.5);
    EXPECT_NEAR(found.thinnest->at.z(), 14.5, 0.5);
    EXPECT_GT(found.thinnest->at.x(), 20.0);
    EXPECT_LT(found.thinnest->at.x(), 40.0);
    EXPECT_NEAR(found.thickest->across, 20.3, 0.4);
    EXPECT_NEAR(found.narrowest->across, 5.0, 0.05);
    EXPECT_NEAR(found.narrowest->at.x(), 9.5, 0.3);
    // The bar's share of the material, without what lies within a cell of the blocks.
    const double bar = 5.0 * 5.0 * 16.0;
    const double all = 20.0 * 30 * 30 * 2 - 5.0 * 16 * 30 + 5.0 * 5.0 * 20.0;
    EXPECT_NEAR(found.thinner_than(4.9), 0.0, 1e-12);
    EXPECT_NEAR(found.thinner_than(5.5), bar / all, 0.3 * bar / all);
    // The walls beside the slot are 7 and 8 thick.
    EXPECT_NEAR(found.thinner_than(7.5), (bar + 7.0 * 16 * 30) / all, 0.3 * 7.0 * 16 * 30 / all);
    EXPECT_NEAR(found.thicker_than(19.0), 0.6, 0.2);
    ASSERT_EQ(found.at_points.size(), part.surface.points.size());
    for (std::size_t i = 0; i < found.at_points.size(); ++i) {
        const Vec3& p = part.surface.points[i];
        if (p.x() > 24 && p.x() < 36) {
            EXPECT_NEAR(found.at_points[i], 5.0, 0.05);
        }
        if (p.x() == 60 && std::abs(p.y() - 15.0) < 4 && std::abs(p.z() - 15.0) < 4) {
            EXPECT_NEAR(found.at_points[i], 20.3, 0.5);
        }
    }
}

TEST(ThicknessTest, WhatEndsOnTheSpaceAloneIsNotOfTheDesign) {
    const Model model = build_model(thick_study());
    // The block's end sees a little of the bar beyond it.
    const Thickness found = measure_thickness(model, cubes({60, 30, 30}, dumbbell, false), 12.0);
    EXPECT_FALSE(found.thinnest.has_value());
    EXPECT_FALSE(found.narrowest.has_value());
    ASSERT_TRUE(found.thickest.has_value());
    EXPECT_NEAR(found.thickest->across, 20.3, 0.4);
}

TEST(ThicknessTest, TurnsTheSameWhicheverAxisTheBarLiesAlong) {
    // The mesh size is another as well: 3 mm does not divide the bar's 5.
    Study study = study_from(StudyText()
                                 .steel()
                                 .region("block", "box = [[0, 0, 0], [30, 30, 60]]")
                                 .surface("root", "facing = [0, 0, -1]")
                                 .support("clamp", "root", R"(["x", "y", "z"])")
                                 .mesh("size = 3"));
    const Model model = build_model(study);
    const Part part = cubes(
        {30, 30, 60},
        [](const Vec3& p) {
            return dumbbell({p.z(), p.x(), p.y()});
        },
        true);
    const Thickness found = measure_thickness(model, part, 12.0);
    ASSERT_TRUE(found.thinnest && found.narrowest);
    EXPECT_NEAR(found.thinnest->across, 5.0, 0.05);
    EXPECT_NEAR(found.narrowest->across, 5.0, 0.05);
}

TEST(ThicknessTest, RulesOfSizeAreJudgedWithACellOfSlack) {
    const Part part = cubes({60, 30, 30}, dumbbell, true);
    const auto judged = [&](const std::string& form) {
        const Model model = build_model(thick_study("[form]\n" + form));
        Part with_mesh = part;
        with_mesh.solid = std::make_shared<SolidPart>();
        return check_making(model, with_mesh, 0.0, measure_thickness(model, part, 0.0));
    };
    for (const auto& [asked, holds] : std::map<std::string, bool>{{"6.9", true}, {"7.2", false}}) {
        const auto found = judged("min_feature = " + asked);
        ASSERT_EQ(found.size(), 1U);
        EXPECT_EQ(found[0].holds(), holds) << asked;
        EXPECT_NEAR(found[0].value, 5.0, 0.05);
    }
    for (const auto& [asked, holds] : std::map<std::string, bool>{{"19", true}, {"17.5", false}}) {
        const auto found = judged("max_feature = " + asked);
        ASSERT_EQ(found.size(), 1U);
        EXPECT_EQ(found[0].holds(), holds) << asked;
        EXPECT_NEAR(found[0].value, 20.3, 0.4);
    }
}

// Two cheeks on a base: what lies between them is no undercut of a design, for the space has nothing there.
TEST(MakingTest, GapsOfTheSpaceAreNoUndercuts) {
    const auto space = [](const Vec3& p) { return p.z() < 6.0 || p.x() < 20.0 || p.x() > 40.0; };
    for (const std::string dies : {"1", "2, parting = \"found\""}) {
        const Model model =
            build_model(study_from(StudyText()
                                       .steel()
                                       .region("left", "box = [[0, 0, 6], [20, 30, 30]]")
                                       .region("right", "box = [[40, 0, 6], [60, 30, 30]]")
                                       .region("base", "box = [[0, 0, 0], [60, 30, 6]]")
                                       .surface("root", "facing = [0, 0, -1]")
                                       .support("clamp", "root", R"(["x", "y", "z"])")
                                       .mesh("size = 3")
                                       .add("[form]\ndraw = { along = [1, 0, 0], dies = " + dies + " }\n")));
        const auto judged = [&](const std::function<bool(const Vec3&)>& inside) {
            Part part = cubes({60, 30, 30}, inside, true);
            part.solid = std::make_shared<SolidPart>();
            const auto found = check_making(model, part, 0.0, {});
            return found.at(0).value;
        };
        EXPECT_EQ(judged(space), 0.0) << dies;
        const double notch =
            judged([&](const Vec3& p) { return space(p) && !(p.z() < 6.0 && std::abs(p.x() - 30) < 4); });
        EXPECT_GT(notch, 3.0) << dies;
    }
}

// Void shapes before and behind the design hide none of it, as empty space does not; where every line meets a
// kept shape nothing is looked at, and that is said.
TEST(MakingTest, VoidShapesBesideTheDesignHideNoUndercuts) {
    for (const std::string dies : {"1", "2", "2, parting = \"found\""}) {
        const auto study = [&](bool kept) {
            StudyText text;
            text.steel()
                .region("block", "box = [[0, 0, 0], [60, 30, 30]]")
                .region("before", "box = [[0, 0, 0], [12, 30, 30]]", "void")
                .region("behind", "box = [[48, 0, 0], [60, 30, 30]]", "void");
            if (kept) text.region("core", "box = [[27, 0, 0], [33, 30, 30]]", "keep");
            return study_from(text.add("[[surface]]\nname = \"root\"\nof = \"block\"\nfacing = [0, 0, -1]\n")
                                  .support("clamp", "root", R"(["x", "y", "z"])")
                                  .mesh("size = 3")
                                  .add("[form]\ndraw = { along = [1, 0, 0], dies = " + dies + " }\n"));
        };
        const auto judged = [&](bool kept, const std::function<bool(const Vec3&)>& inside) {
            Part part = cubes({60, 30, 30}, inside, true);
            part.solid = std::make_shared<SolidPart>();
            return check_making(build_model(study(kept)), part, 30.0, {}).at(0);
        };
        const auto space = [](const Vec3& p) { return p.x() > 12.0 && p.x() < 48.0; };
        const auto notched = [&](const Vec3& p) {
            return space(p) && !(p.z() < 12.0 && std::abs(p.x() - 30) < 4);
        };
        const MakingFinding whole = judged(false, space);
        EXPECT_EQ(whole.value, 0.0) << dies;
        EXPECT_EQ(whole.also.rfind("0 of ", 0), 0U) << whole.also;
        EXPECT_EQ(whole.also.rfind("0 of 0 ", 0), std::string::npos) << whole.also;
        EXPECT_GT(judged(false, notched).value, 9.0) << dies;
        EXPECT_NE(judged(true, notched).also.find("none was looked at"), std::string::npos) << dies;
    }
}

} // namespace
} // namespace upright
