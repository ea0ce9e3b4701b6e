// Changes on the command line: what they reach, what they refuse, and that the study reads them back.
#include "study/settings.hpp"
#include "support/studies.hpp"

using namespace upright;

namespace {

// The study after the settings, or what refused them.
struct Set {
    Study study;
    std::string refusal;
};
Set set(const std::vector<std::string>& settings) {
    Set out;
    try {
        out.study = test::study_from(test::block_study(), settings);
    } catch (const Error& bad) {
        out.refusal = bad.what();
    }
    return out;
}
const ResponseCard& response(const Study& study, const std::string& name) {
    for (const ResponseCard& r : study.responses)
        if (r.name == name) return r;
    throw std::runtime_error("no response " + name);
}

} // namespace

TEST(Settings, ReachCardsSectionsAndValues) {
    const Set out = set({"response.budget.max=0.25", "mesh.size=2 mm", "run.iterations=17",
                         "load.pull.force=[0, 0, \"-3 kN\"]", "material.steel.E=70 GPa"});
    ASSERT_EQ(out.refusal, "");
    EXPECT_DOUBLE_EQ(*response(out.study, "budget").max, 0.25);
    EXPECT_DOUBLE_EQ(out.study.mesh.size, 2.0);
    EXPECT_EQ(out.study.run.iterations, 17);
    EXPECT_NEAR(out.study.materials.front().E, 70000.0, 1e-6);
}

TEST(Settings, NamedValuesMoveAllThatUsesThem) {
    const std::string text = test::StudyText()
                                 .add("[values]\nlift = \"2 kN\"\n")
                                 .steel()
                                 .region("block", "box = [[0, 0, 0], [8, 4, 4]]")
                                 .surface("root", "facing = [-1, 0, 0]")
                                 .surface("tip", "facing = [1, 0, 0]")
                                 .support("clamp", "root", R"(["x", "y", "z"])")
                                 .force("pull", "tip", "[0, 0, \"-lift/4\"]")
                                 .load_case("bend", R"(["clamp"])", "{ pull = 1 }")
                                 .mesh("size = 2");
    const auto force_of = [&](const std::vector<std::string>& settings) {
        const Model model = build_model(test::study_from(text, settings));
        double sum = 0.0;
        for (const Term& term : model.loads[LoadId{0}].forces)
            if (term.freedom % 3 == 2) sum += term.factor;
        return sum;
    };
    EXPECT_NEAR(force_of({}), -500.0, 1e-9);
    EXPECT_NEAR(force_of({"values.lift=6 kN"}), -1500.0, 1e-9);
    EXPECT_NEAR(force_of({"values.lift=6 kN", "values.lift=1 kN"}), -250.0, 1e-9); // the last one holds
}

TEST(Settings, AnEmptyValueTakesAKeyAway) {
    EXPECT_FALSE(response(set({"response.budget.max="}).study, "budget").max.has_value());
    EXPECT_NE(set({"response.budget.min="}).refusal.find("no such key to take away"), std::string::npos);
}

TEST(Settings, PathsThatLeadNowhereSaySoWithWhatIsNear) {
    const std::vector<std::pair<std::string, std::string>> wrong{
        {"respnse.budget.max=1", "response"},
        {"response.budgett.max=1", "budget"},
        {"response.budget.maxx=1", "max"},
        {"mesh.sise=1", "size"},
        {"response.budget=1", "whole card"},
        {"response=1", "kind of card"},
        {"mesh=1", "whole section"},
        {"response..max=1", "empty word"},
        {"load.pull.force.x=1", "nothing inside"},
    };
    for (const auto& [setting, hint] : wrong) {
        const std::string refusal = set({setting}).refusal;
        EXPECT_NE(refusal.find(hint), std::string::npos) << setting << " -> " << refusal;
    }
}

TEST(Settings, AWrongValueIsToldWithTheSettingItCameFrom) {
    for (const char* setting : {"response.budget.max=2 kg", "mesh.size=-1", "run.iterations=many",
                                "material.steel.nu=0.7", "load.pull.on=nowhere"}) {
        const std::string refusal = set({setting}).refusal;
        EXPECT_NE(refusal, "") << setting;
    }
    EXPECT_NE(set({"mesh.size=-1"}).refusal.find("mesh.size=-1"), std::string::npos)
        << set({"mesh.size=-1"}).refusal;
}

TEST(Settings, ANewSenseReplacesTheGoal) {
    const Set out = set({"goal.maximize=stiffness"});
    ASSERT_EQ(out.refusal, "");
    const Set both = set({"goal.maximize=stiffness", "goal.minimize=stiffness"});
    ASSERT_EQ(both.refusal, "");
    EXPECT_FALSE(both.study.goal->maximize);
    EXPECT_TRUE(out.study.goal->maximize);
}
