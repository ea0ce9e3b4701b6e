#include "kinds/kinds.hpp"
#include "study/names.hpp"
#include "support/studies.hpp"

#include <gtest/gtest.h>

using namespace upright;
using test::block_study;
using test::study_from;

TEST(LoadStudy, ReadsTheBlock) {
    const Study study = study_from(block_study());
    ASSERT_EQ(study.regions.size(), 1U);
    EXPECT_EQ(study.regions[0].role, Role::Design);
    EXPECT_TRUE(std::holds_alternative<Box>(std::get<Shape>(study.regions[0].extent)));
    ASSERT_EQ(study.cases.size(), 1U);
    EXPECT_EQ(study.cases[0].loads.at(0).first, "pull");
    EXPECT_EQ(study.goal->response, "stiffness");
    EXPECT_DOUBLE_EQ(*study.responses[1].max, 0.4);
    EXPECT_EQ(study.mesh.formulation, Formulation::Enhanced);
}

TEST(LoadStudy, ListsOfFactorsMakeCases) {
    const Study study = study_from(block_study(R"(
[[load]]
name = "side"
on = "tip"
force = [0, 1, 0]
[[case]]
name = "swing"
supports = "clamp"
loads = { pull = [1, 2], side = [-1, 0, 1] }
weight = 0.5
)"));
    ASSERT_EQ(study.cases.size(), 7U);
    EXPECT_EQ(study.cases[1].name, "swing/1");
    EXPECT_EQ(study.cases[6].name, "swing/6");
    EXPECT_DOUBLE_EQ(study.cases[1].loads.at(0).second, 1);
    EXPECT_DOUBLE_EQ(study.cases[1].loads.at(1).second, -1);
    EXPECT_DOUBLE_EQ(study.cases[6].loads.at(0).second, 2);
    EXPECT_DOUBLE_EQ(study.cases[6].loads.at(1).second, 1);
    EXPECT_DOUBLE_EQ(study.cases[4].weight, 0.5);
}

TEST(LoadStudy, CopiesAreShiftedAndNumbered) {
    const Study study = study_from(block_study(R"(
[[region]]
name = "hole"
role = "void"
cylinder = { from = [2, 2, 0], to = [2, 2, 4], radius = 0.8 }
copies = [[0, 0, 0], [4, 0, 0]]
[[surface]]
name = "wall"
of = "hole"
)"));
    ASSERT_EQ(study.regions.size(), 3U);
    EXPECT_EQ(study.regions[2].name, "hole/2");
    EXPECT_DOUBLE_EQ(std::get<Cylinder>(std::get<Shape>(study.regions[2].extent)).from.x(), 6.0);
    EXPECT_TRUE(refers_to("hole", "hole/2"));
    EXPECT_FALSE(refers_to("hole", "holes"));
}

TEST(LoadStudy, MaterialsComeFromTheLibraryWithOverrides) {
    const Study study = study_from(
        block_study("[[material]]\nname = \"iron\"\nlike = \"ductile iron\"\nyield = \"300 MPa\"\n"));
    const Material& iron = study.materials.back();
    EXPECT_NEAR(iron.E, 169000.0, 1e-6);
    EXPECT_NEAR(iron.density, 7.1e-9, 1e-20);
    EXPECT_DOUBLE_EQ(*iron.yield, 300.0);
}

TEST(LoadStudy, InactiveCardsAreLeftOut) {
    const Study study =
        study_from(block_study("[[response]]\nname = \"w\"\nmeasure = \"mass\"\nmax = 1\nactive = false\n"));
    EXPECT_EQ(study.responses.size(), 2U);
    ASSERT_EQ(study.inactive.size(), 1U);
    EXPECT_EQ(study.inactive[0], "response w");
}

TEST(LoadStudy, SettingsChangeValues) {
    const Study study = study_from(
        block_study(), {"response.budget.max=0.3", "mesh.size=2 mm", "load.pull.force=[0, 0, \"-1 kN\"]"});
    EXPECT_DOUBLE_EQ(*study.responses[1].max, 0.3);
    EXPECT_DOUBLE_EQ(study.mesh.size, 2.0);
    EXPECT_DOUBLE_EQ(std::get<ForceLoad>(study.loads[0].kind).total.z(), -1000.0);
}

TEST(LoadStudy, ResolvedTextLoadsToTheSameStudy) {
    const Study first = study_from(block_study(), {"response.budget.max=0.3"});
    const Study second = study_from(first.resolved);
    EXPECT_EQ(second.resolved, first.resolved);
    EXPECT_DOUBLE_EQ(*second.responses[1].max, 0.3);
}

TEST(LoadStudy, ASettingOfTheGoalTakesTheOthersPlace) {
    const Study study = study_from(block_study(), {"goal.maximize=stiffness"});
    EXPECT_TRUE(study.goal->maximize);
    EXPECT_FALSE(
        study_from(block_study(), {"goal.maximize=stiffness", "goal.minimize=budget"}).goal->maximize);
}

TEST(LoadStudy, MakingRulesAndStarts) {
    const Study study = study_from(block_study(R"([[frame]]
name = "axle"
kind = "cylindrical"
origin = [0, 0, 0]
axis = [0, 0, 1]
[form]
mirror = ["y = 2", "x = 4 mm"]
sectors = { frame = "axle", count = 3 }
extrude = "z"
min_feature = "3 mm"
[run]
coarse_first = true
)"));
    ASSERT_EQ(study.form.mirror.size(), 2U);
    EXPECT_EQ(study.form.mirror[1].axis, 0);
    EXPECT_DOUBLE_EQ(study.form.mirror[1].at, 4.0);
    EXPECT_EQ(study.form.sectors->count, 3);
    EXPECT_EQ(*study.form.extrude, 2);
    EXPECT_DOUBLE_EQ(*study.form.min_feature, 3.0);
    EXPECT_TRUE(study.run.coarse_first);
}

TEST(LoadStudy, WordsNotServedYetAreRefusedAsSuch) {
    for (const char* extra : {"[run]\nsolver = \"distributed\"\n"})
        EXPECT_NE(test::error_of(block_study(extra)).find("does not serve yet"), std::string::npos)
            << extra << test::error_of(block_study(extra));
}

TEST(LoadStudy, KeysAreTakenAway) {
    const std::string text = block_study("[run]\nfilter = 3\niterations = 7\n");
    EXPECT_TRUE(study_from(text).run.filter);
    EXPECT_FALSE(study_from(text, {"run.filter="}).run.filter);
    EXPECT_FALSE(study_from(text, {"run.filter=unset"}).run.filter);
    EXPECT_EQ(study_from(text, {"run.filter="}).run.iterations, 7);
    EXPECT_THROW(study_from(text, {"run.penalty="}), Error); // there is none
    const test::TemporaryFolder folder;
    folder.write("base.toml", block_study("[run]\nfilter = 3\n"));
    const Study over =
        load_study(folder.write("over.toml", "extends = \"base.toml\"\n[run]\nfilter = \"unset\"\n"));
    EXPECT_FALSE(over.run.filter);
}

TEST(LoadStudy, AnExtendingStudyTurnsTheGoalRound) {
    const test::TemporaryFolder folder;
    folder.write("base.toml", block_study());
    const Study over = load_study(folder.write(
        "over.toml", "extends = \"base.toml\"\n[[response]]\nname = \"weight\"\nmeasure = \"mass\"\n[goal]\n"
                     "maximize = \"weight\"\n"));
    ASSERT_TRUE(over.goal);
    EXPECT_TRUE(over.goal->maximize);
    folder.write("third.toml", "extends = \"over.toml\"\n[goal]\nminimize = \"weight\"\n");
    const Study third = load_study(folder.path() / "third.toml");
    EXPECT_FALSE(third.goal->maximize);
    EXPECT_EQ(third.goal->response, "weight");
}

TEST(LoadStudy, CopiesOfASurfaceOfOneCopyAreRefused) {
    const std::string copied =
        "[[region]]\nname = \"mount\"\nrole = \"keep\"\nmaterial = \"steel\"\nbox = [[0, "
        "0, 0], [2, 1, 4]]\ncopies = [[0, 0, 0], [0, 3, 0]]\n[[surface]]\nname = "
        "\"top\"\nfacing = [0, 0, 1]\ncopies = [[0, 0, 0], [0, 3, 0]]\nof = ";
    EXPECT_NE(test::error_of(block_study(copied + "\"mount/1\"\n")).find("each would be the same"),
              std::string::npos);
    const Study study = study_from(block_study(copied + "\"mount\"\n"));
    EXPECT_EQ(study.surfaces.back().of, std::vector<std::string>{"mount/2"});
}

TEST(LoadStudy, ABodyOnJointsAloneNeedsNoSupport) {
    const Study study =
        study_from(block_study("[[case]]\nname = \"afloat\"\nsupports = []\nloads = { pull = 1 }\n"));
    EXPECT_TRUE(study.cases.back().supports.empty());
}

TEST(LoadStudy, SpinsMaySpeedUp) {
    const std::string frame =
        "[[frame]]\nname = \"f\"\nkind = \"cylindrical\"\norigin = [0, 0, 0]\naxis = [0, 0, "
        "1]\n[[load]]\nname = \"turn\"\nspin = ";
    const Study study = study_from(block_study(frame + "{ frame = \"f\", speed_up = \"50 rad/s2\" }\n"));
    EXPECT_NEAR(std::get<SpinLoad>(study.loads.back().kind).speed_up, 50.0, 1e-9);
    EXPECT_NE(
        test::error_of(block_study(frame + "{ frame = \"f\" }\n")).find("neither a speed nor a speed_up"),
        std::string::npos);
    EXPECT_NE(test::error_of(block_study(frame + "{ frame = \"f\", speed_up = \"50 rad/s\" }\n")), "");
}
