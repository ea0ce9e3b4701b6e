// upright model: what it writes is read by every next command, and by others.
#include "support/folder.hpp"
#include "support/run_upright.hpp"
#include "support/study_text.hpp"

#include <gtest/gtest.h>
#include <nlohmann/json.hpp>

using namespace upright;
namespace fs = std::filesystem;

namespace {

std::string lever(const std::string& mesh) {
    return test::StudyText()
        .steel()
        .region("arm", "box = [[0, 0, 0], [60, 20, 10]]")
        .region("eye", "cylinder = { from = [50, 10, 0], to = [50, 10, 10], radius = 4 }", "void")
        .add("[[surface]]\nname = \"bearing\"\nof = \"eye\"\n"
             "[[surface]]\nname = \"root\"\nof = \"arm\"\nfacing = [-1, 0, 0]\n")
        .support("clamp", "root", R"(["x", "y", "z"])")
        .force("pull", "bearing", "[0, -400, 0]")
        .load_case("bend", R"(["clamp"])", "{ pull = 1 }")
        .response("stiffness", "compliance")
        .response("budget", "mass-fraction", "max = 0.5")
        .minimize("stiffness")
        .mesh(mesh)
        .section("run", "iterations = 3\nfilter = 8\n");
}

nlohmann::json json_of(const fs::path& file) {
    return nlohmann::json::parse(test::text_of(file));
}

double peak_of(const fs::path& analysis) {
    return json_of(analysis / "analysis.json")
        .at("cases")
        .at(0)
        .at("largest_displacement")
        .at("value")
        .get<double>();
}

} // namespace

TEST(ModelCommand, TheKeptModelIsAnalysedToTheSameNumbers) {
    for (const char* mesh : {"size = 2.5", "kind = \"fitted\"\nsize = 4", "size = 5\norder = 2"}) {
        const test::TemporaryFolder folder;
        folder.write("lever.toml", lever(mesh));
        ASSERT_EQ(test::upright(folder.path(), {"model", "lever.toml", "--no-figures"}).code, 0) << mesh;
        const fs::path kept = folder.path() / "lever.model" / "model.h5";
        ASSERT_TRUE(fs::exists(kept));
        for (const char* target : {"lever.toml", "lever.model/model.h5"}) {
            const auto out = test::upright(folder.path(), {"analyze", target, "--out", "a", "--force"});
            ASSERT_EQ(out.code, 0) << out.err;
            fs::rename(folder.path() / "a",
                       folder.path() / (std::string(target).substr(0, 6) == "lever."
                                            ? fs::path(target).extension().string().substr(1)
                                            : "x"));
        }
        EXPECT_NEAR(peak_of(folder.path() / "h5"), peak_of(folder.path() / "toml"),
                    1e-12 * peak_of(folder.path() / "toml"))
            << mesh;
    }
}

TEST(ModelCommand, TheKeptModelIsCheckedAndOptimisedAsTheStudy) {
    const test::TemporaryFolder folder;
    folder.write("lever.toml", lever("size = 2.5"));
    ASSERT_EQ(test::upright(folder.path(), {"model", "lever.toml", "--no-figures"}).code, 0);
    const auto from_study = test::upright(folder.path(), {"check", "lever.toml", "--no-figures"});
    const auto from_model = test::upright(folder.path(), {"check", "lever.model/model.h5", "--no-figures"});
    EXPECT_EQ(from_study.code, 0) << from_study.err;
    EXPECT_EQ(from_model.code, from_study.code) << from_model.err;
    ASSERT_LE(test::upright(folder.path(), {"optimize", "lever.toml", "--out", "a.run"}).code, 4);
    ASSERT_LE(test::upright(folder.path(), {"optimize", "lever.model/model.h5", "--out", "b.run"}).code, 4);
    const auto a = json_of(folder.path() / "a.run" / "run.json");
    const auto b = json_of(folder.path() / "b.run" / "run.json");
    EXPECT_EQ(a.at("goal"), b.at("goal"));
    EXPECT_EQ(a.at("responses"), b.at("responses"));
}

TEST(ModelCommand, TheSetsAreReadAsAMeshFileAgain) {
    // The VTU of the sets is a mesh file: a study on it finds its regions and surfaces by their arrays.
    const test::TemporaryFolder folder;
    folder.write("lever.toml", lever("kind = \"fitted\"\nsize = 5"));
    ASSERT_EQ(test::upright(folder.path(), {"model", "lever.toml", "--no-figures"}).code, 0);
    const std::string again = test::StudyText()
                                  .steel()
                                  .region("arm", "cells = { array = \"region arm\" }")
                                  .add("[[surface]]\nname = \"bearing\"\nset = \"surface bearing\"\n"
                                       "[[surface]]\nname = \"root\"\nset = \"surface root\"\n")
                                  .support("clamp", "root", R"(["x", "y", "z"])")
                                  .force("pull", "bearing", "[0, -400, 0]")
                                  .load_case("bend", R"(["clamp"])", "{ pull = 1 }")
                                  .mesh("kind = \"file\"\nfile = \"lever.model/model.vtu\"");
    folder.write("again.toml", again);
    const auto inspected = test::upright(folder.path(), {"inspect", "lever.model/model.vtu", "--no-figures"});
    EXPECT_EQ(inspected.code, 0) << inspected.err;
    EXPECT_NE(inspected.out.find("surface bearing"), std::string::npos) << inspected.out;
    for (const char* name : {"lever", "again"}) {
        const auto out = test::upright(
            folder.path(), {"analyze", std::string(name) + ".toml", "--out", std::string(name) + ".a"});
        ASSERT_EQ(out.code, 0) << out.err;
    }
    EXPECT_NEAR(peak_of(folder.path() / "again.a"), peak_of(folder.path() / "lever.a"),
                1e-6 * peak_of(folder.path() / "lever.a"));
}

TEST(ModelCommand, WritesMatricesForOthers) {
    const test::TemporaryFolder folder;
    folder.write("lever.toml", lever("size = 5"));
    const auto out = test::upright(folder.path(), {"model", "lever.toml", "--no-figures", "--matrices"});
    ASSERT_EQ(out.code, 0) << out.err;
    const fs::path matrices = folder.path() / "lever.model" / "matrices";
    for (const char* name : {"stiffness.mtx", "mass.mtx", "transform-bend.mtx", "load-bend.mtx"})
        EXPECT_EQ(test::text_of(matrices / name).rfind("%%MatrixMarket", 0), 0U) << name;
    EXPECT_FALSE(fs::exists(matrices / "offset-bend.mtx")); // nothing is moved
    // The total of the load: one number a freedom, the y ones add up to -400.
    std::istringstream in(test::text_of(matrices / "load-bend.mtx"));
    std::string line;
    while (std::getline(in, line) && line.front() == '%') {
    }
    double y = 0.0, x = 0.0, v = 0.0;
    for (long i = 0; in >> v; ++i) (i % 3 == 1 ? y : x) += v;
    EXPECT_NEAR(y, -400.0, 1e-9);
    EXPECT_NEAR(x, 0.0, 1e-9);
}

TEST(ModelCommand, DamagedModelsAreRefusedByEveryCommand) {
    const test::TemporaryFolder folder;
    folder.write("lever.toml", lever("size = 5"));
    ASSERT_EQ(test::upright(folder.path(), {"model", "lever.toml", "--no-figures"}).code, 0);
    const std::string whole = test::text_of(folder.path() / "lever.model" / "model.h5");
    for (const std::size_t keep : {std::size_t{0}, std::size_t{100}, whole.size() / 3, whole.size() - 50}) {
        folder.write("torn.h5", whole.substr(0, keep));
        for (const char* command : {"check", "analyze", "optimize", "model"}) {
            const auto out = test::upright(folder.path(), {command, "torn.h5", "--out", "somewhere"});
            EXPECT_TRUE(out.code == 2 || out.code == 3 || out.code == 5 || out.code == 6)
                << command << ' ' << keep << ": " << out.code << ' ' << out.err;
            EXPECT_NE(out.err.find("torn.h5"), std::string::npos) << command << ' ' << keep << out.err;
        }
        EXPECT_FALSE(fs::exists(folder.path() / "somewhere" / "run.json"));
    }
}

// A wedge of 4 degrees hung from its thick end by its own weight, without lateral contraction: the tip sinks
// by density g length^2 / (4 E). The mesh reaches the tip, and the check names it.
TEST(Program, AWedgeIsMeshedNamedAndAnalysed) {
    const test::TemporaryFolder folder;
    folder.write("wedge.toml", R"(units = ["mm", "N", "s"]
[[material]]
name = "m"
E = 1000
nu = 0
density = "2000 kg/m3"
[[region]]
name = "wedge"
role = "design"
material = "m"
prism = { polygon = [[0, 0], [40, -1.39683], [40, 1.39683]], from = [0, 0, 0], to = [0, 0, 10] }
[[surface]]
name = "root"
of = "wedge"
facing = [1, 0, 0]
[[support]]
name = "hung"
on = "root"
hold = ["x", "y", "z"]
[[load]]
name = "weight"
gravity = [-9810, 0, 0]
[[case]]
name = "hanging"
supports = ["hung"]
loads = ["weight"]
[mesh]
kind = "fitted"
size = 2
)");
    const auto check = test::upright(folder.path(), {"check", "wedge.toml"});
    EXPECT_EQ(check.code, 0) << check.err;
    EXPECT_NE(check.out.find("cusp of 4 deg"), std::string::npos) << check.out;
    const auto analysed = test::upright(folder.path(), {"analyze", "wedge.toml"});
    ASSERT_EQ(analysed.code, 0) << analysed.err;
    const auto at = analysed.out.find("largest displacement");
    ASSERT_NE(at, std::string::npos) << analysed.out;
    const double found = std::stod(analysed.out.substr(at + 20));
    EXPECT_NEAR(found / (2e-9 * 9810.0 * 1600.0 / (4.0 * 1000.0)), 1.0, 0.02) << analysed.out;
}
