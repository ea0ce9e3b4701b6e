// Buckling through the program: analyses, figures, and a bound that an optimisation keeps.
#include "support/folder.hpp"
#include "support/run_upright.hpp"
#include "support/study_text.hpp"

#include <cmath>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>

using namespace upright;
namespace fs = std::filesystem;
using test::StudyText;
using test::TemporaryFolder;

namespace {

// A mast of 60 x 20 x 400 mm, clamped below and pressed with 20 kN.
std::string mast(const std::string& response, double force = -20000.0) {
    return StudyText()
        .add("title = \"Stehender Mast\"\n")
        .steel()
        .region("mast", "box = [[0, 0, 0], [60, 20, 400]]")
        .surface("foot", "facing = [0, 0, -1]")
        .surface("top", "facing = [0, 0, 1]")
        .support("clamp", "foot", R"(["x", "y", "z"])")
        .force("rope", "top", "[0, 0, " + std::to_string(force) + "]")
        .load_case("lift", R"(["clamp"])", "{ rope = 1 }")
        .response("stable", "buckling", response)
        .mesh("size = 5\n");
}

// A flat mast that is free to become slender.
std::string flat_mast(const std::string& bound) {
    return StudyText()
        .steel()
        .region("mast", "box = [[0, 0], [96, 240]]")
        .add("[[region]]\nname = \"cap\"\nrole = \"keep\"\nmaterial = \"steel\"\nbox = [[36, 232], [60, "
             "240]]\n")
        .add("[[surface]]\nname = \"top\"\nof = \"cap\"\nfacing = [0, 1]\n")
        .add("[[surface]]\nname = \"foot\"\nof = \"mast\"\nfacing = [0, -1]\n")
        .support("clamp", "foot", R"(["x", "y"])")
        .force("rope", "top", "[0, -20000]")
        .load_case("lift", R"(["clamp"])", "{ rope = 1 }")
        .response("stiffness", "compliance")
        .response("budget", "mass-fraction", "max = 0.3")
        .response("stable", "buckling", bound)
        .minimize("stiffness")
        .mesh("size = 6\nelement = \"plane-stress\"\nthickness = 5\n")
        .section("run", "iterations = 150\n");
}

nlohmann::json json_of(const fs::path& file) {
    return nlohmann::json::parse(test::text_of(file));
}

} // namespace

TEST(Buckling, AnAnalysisFindsTheFactorsOfAMast) {
    const TemporaryFolder folder;
    folder.write("mast.toml", mast("min = 4\nmodes = 2\n"));
    const auto run = test::upright(folder.path(), {"analyze", "mast.toml", "--size", "700x500"});
    ASSERT_EQ(run.code, 0) << run.err;
    EXPECT_NE(run.out.find("times the loads"), std::string::npos) << run.out;
    EXPECT_NE(run.out.find("stable @ lift"), std::string::npos) << run.out;
    const auto json = json_of(folder.path() / "mast.analysis/analysis.json");
    const auto factors = json["cases"][0]["buckling_factors"];
    ASSERT_EQ(factors.size(), 2U);
    const double euler = std::pow(3.14159265 / 800.0, 2) * 210000.0 * 40000.0;
    EXPECT_NEAR(20000.0 * factors[0].get<double>() / euler, 1.0, 0.015);
    EXPECT_EQ(json["responses"][0]["value"], factors[0]);
    EXPECT_TRUE(fs::exists(folder.path() / "mast.analysis/figures/buckling-lift-1.png"));
    const auto second = test::upright(
        folder.path(), {"plot", "mast.analysis", "--what", "buckling", "--mode", "2", "--size", "700x500"});
    EXPECT_EQ(second.code, 0) << second.err;
    EXPECT_TRUE(fs::exists(folder.path() / "mast.analysis/figures/buckling-lift-2.png"));
    const auto third =
        test::upright(folder.path(), {"plot", "mast.analysis", "--what", "buckling", "--mode", "3"});
    EXPECT_EQ(third.code, 2);
    EXPECT_NE(third.err.find("has no buckling 3"), std::string::npos) << third.err;
}

TEST(Buckling, NothingIsFoundWhereThereIsNone) {
    const TemporaryFolder folder;
    folder.write("mast.toml", mast("min = 4\n", 20000.0));
    const auto run = test::upright(folder.path(), {"analyze", "mast.toml", "--no-figures"});
    ASSERT_EQ(run.code, 0) << run.err;
    EXPECT_NE(run.out.find("none below 10000 times the loads"), std::string::npos) << run.out;
    const auto plot = test::upright(folder.path(), {"plot", "mast.analysis", "--what", "buckling"});
    EXPECT_EQ(plot.code, 2);
    EXPECT_NE(plot.err.find("there is no buckling in this analysis"), std::string::npos) << plot.err;
}

TEST(Buckling, ABoundMakesADesignThatStands) {
    const TemporaryFolder folder;
    folder.write("free.toml", flat_mast(""));
    folder.write("bound.toml", flat_mast("min = 8"));
    double factor[2] = {0.0, 0.0};
    double compliance[2] = {0.0, 0.0};
    for (int i = 0; i < 2; ++i) {
        const std::string name = i == 0 ? "free" : "bound";
        const auto run = test::upright(folder.path(), {"optimize", name + ".toml", "--quiet"});
        ASSERT_EQ(run.code, 0) << run.out << run.err;
        const auto json = json_of(folder.path() / (name + ".run/run.json"));
        for (const auto& r : json["responses"]) {
            if (r["name"] == "stable") factor[i] = r["value"].get<double>();
            if (r["name"] == "stiffness") compliance[i] = r["value"].get<double>();
        }
    }
    EXPECT_LT(factor[0], 7.5);
    EXPECT_GE(factor[1], 8.0 * (1.0 - 1e-3));
    EXPECT_LT(compliance[1], 1.25 * compliance[0]);
    // Its shape, from the kept design.
    const auto plot =
        test::upright(folder.path(), {"plot", "bound.run", "--what", "buckling", "--size", "700x500"});
    EXPECT_EQ(plot.code, 0) << plot.err;
    EXPECT_TRUE(fs::exists(folder.path() / "bound.run/figures/buckling-lift-1.png")) << plot.out;
    const auto other =
        test::upright(folder.path(), {"plot", "bound.run", "--what", "buckling", "--case", "no"});
    EXPECT_EQ(other.code, 2);
    EXPECT_NE(other.err.find("Known: lift"), std::string::npos) << other.err;
    const auto many =
        test::upright(folder.path(), {"plot", "bound.run", "--what", "buckling", "--mode", "99"});
    EXPECT_EQ(many.code, 2);
    EXPECT_NE(many.err.find("has no buckling 99"), std::string::npos) << many.err;
}
