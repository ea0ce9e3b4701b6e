// Where files go: every command that writes, into places that take nothing, with names that shells trip over,
// and over what is there already.
#include "support/folder.hpp"
#include "support/run_upright.hpp"
#include "support/study_text.hpp"

#include <gtest/gtest.h>
#include <nlohmann/json.hpp>

using namespace upright;
namespace fs = std::filesystem;
using test::StudyText;
using test::TemporaryFolder;

namespace {

std::string bracket() {
    return StudyText()
        .add("title = \"Small bracket\"\n")
        .steel()
        .region("block", "box = [[0, 0, 0], [80, 40, 40]]")
        .surface("root", "facing = [-1, 0, 0]")
        .surface("tip", "facing = [1, 0, 0]")
        .support("clamp", "root", R"(["x", "y", "z"])")
        .force("pull", "tip", "[0, 0, -1000]")
        .load_case("bend", R"(["clamp"])", "{ pull = 1 }")
        .card("case", "hum", "kind = \"modal\"\nsupports = \"clamp\"\nmodes = 2\n")
        .response("stiffness", "compliance")
        .response("budget", "mass-fraction", "max = 0.4")
        .minimize("stiffness")
        .mesh("size = 10\n")
        .section("run", "iterations = 4\nkeep_every = 2\n");
}

// No sentence of a library, no signal: one error that names the place.
void expect_refused(const test::Outcome& outcome, int code, const std::string& place) {
    EXPECT_EQ(outcome.code, code) << outcome.err;
    EXPECT_NE(outcome.err.find(place), std::string::npos) << outcome.err;
    EXPECT_EQ(outcome.err.find("terminate"), std::string::npos) << outcome.err;
    EXPECT_EQ(outcome.err.find("unexpected"), std::string::npos) << outcome.err;
}

std::size_t files_in(const fs::path& folder) {
    std::size_t out = 0;
    for (const auto& one : fs::recursive_directory_iterator(folder)) out += one.is_regular_file() ? 1 : 0;
    return out;
}

} // namespace

// The system's own tree takes no files from anybody.
TEST(Folders, APlaceThatTakesNothingIsSaidByEveryCommand) {
    const TemporaryFolder folder;
    folder.write("s.toml", bracket());
    const std::vector<std::vector<std::string>> commands{{"check", "s.toml", "--out", "/proc/none"},
                                                         {"model", "s.toml", "--out", "/proc/none"},
                                                         {"analyze", "s.toml", "--out", "/proc/none"},
                                                         {"optimize", "s.toml", "--out", "/proc/none"},
                                                         {"schema", "--out", "/proc/none/schema.json"}};
    for (const std::vector<std::string>& words : commands) {
        SCOPED_TRACE(words.front());
        expect_refused(test::upright(folder.path(), words), 6, "/proc/none");
    }
    ASSERT_EQ(test::upright(folder.path(), {"optimize", "s.toml", "--quiet"}).code, 0);
    expect_refused(test::upright(folder.path(), {"carve", "s.run", "--out", "/proc/none/part.stl"}), 6,
                   "/proc/none");
    expect_refused(
        test::upright(folder.path(), {"plot", "s.run", "--what", "density", "--out", "/proc/none/d.png"}), 6,
        "/proc/none");
}

// A file stands where a folder should be.
TEST(Folders, AFileInTheWayIsSaid) {
    const TemporaryFolder folder;
    folder.write("s.toml", bracket());
    folder.write("taken", "mine");
    for (const char* command : {"model", "analyze", "optimize"}) {
        SCOPED_TRACE(command);
        const test::Outcome outcome = test::upright(folder.path(), {command, "s.toml", "--out", "taken"});
        EXPECT_TRUE(outcome.code == 6 || outcome.code == 3) << outcome.code << outcome.err;
        EXPECT_NE(outcome.err.find("taken"), std::string::npos) << outcome.err;
        EXPECT_EQ(test::text_of(folder.path() / "taken"), "mine");
    }
    const test::Outcome inside =
        test::upright(folder.path(), {"optimize", "s.toml", "--out", "taken/deeper"});
    EXPECT_EQ(inside.code, 6) << inside.err;
    EXPECT_EQ(test::text_of(folder.path() / "taken"), "mine");
}

TEST(Folders, NamesWithSpacesAndAccentsGoAllTheWay) {
    const TemporaryFolder folder;
    const std::string name = "Lagerbock, 2. Übung 'neu'";
    folder.write(name + ".toml", bracket());
    const auto run = [&](const std::vector<std::string>& words) {
        const test::Outcome outcome = test::upright(folder.path(), words);
        EXPECT_EQ(outcome.code, 0) << words.front() << ": " << outcome.err;
        return outcome;
    };
    run({"check", name + ".toml"});
    run({"model", name + ".toml"});
    run({"analyze", name + ".toml"});
    run({"analyze", name + ".model/model.h5", "--out", "second, é.analysis"});
    run({"optimize", name + ".toml"});
    run({"plot", name + ".run", "--what", "density"});
    run({"plot", name + ".run", "--what", "history"});
    run({"carve", name + ".run", "--at", "0.2", "--out", "teil ö.stl"});
    EXPECT_TRUE(fs::exists(folder.path() / (name + ".check") / "regions.png"));
    EXPECT_TRUE(fs::exists(folder.path() / (name + ".run") / "run.json"));
    EXPECT_TRUE(fs::exists(folder.path() / "teil ö.stl"));
    // The model's file and the study say the same.
    const auto read = [&](const std::string& at) {
        return nlohmann::json::parse(test::text_of(folder.path() / at / "analysis.json"));
    };
    const auto a = read(name + ".analysis");
    const auto b = read("second, é.analysis");
    EXPECT_EQ(a["responses"], b["responses"]);
    EXPECT_EQ(a["cases"], b["cases"]);
    EXPECT_EQ(a["study"]["title"], "Small bracket");
}

// What is there already is not touched unless asked, and what was not written by the program never.
TEST(Folders, AnEarlierAnalysisAndForeignFilesStay) {
    const TemporaryFolder folder;
    folder.write("s.toml", bracket());
    ASSERT_EQ(test::upright(folder.path(), {"analyze", "s.toml"}).code, 0);
    const std::string before = test::text_of(folder.path() / "s.analysis" / "analysis.json");
    expect_refused(test::upright(folder.path(), {"analyze", "s.toml"}), 6, "s.analysis");
    EXPECT_EQ(test::text_of(folder.path() / "s.analysis" / "analysis.json"), before);
    folder.write("s.analysis/notes.txt", "mine");
    expect_refused(test::upright(folder.path(), {"analyze", "s.toml", "--force"}), 6, "s.analysis");
    EXPECT_EQ(test::text_of(folder.path() / "s.analysis" / "notes.txt"), "mine");
    EXPECT_EQ(test::text_of(folder.path() / "s.analysis" / "analysis.json"), before);
    fs::remove(folder.path() / "s.analysis" / "notes.txt");
    EXPECT_EQ(test::upright(folder.path(), {"analyze", "s.toml", "--force"}).code, 0);
    // A folder of something else is no place for a run, whatever is asked.
    fs::create_directory(folder.path() / "photos");
    folder.write("photos/one.txt", "mine");
    for (const char* command : {"analyze", "optimize"})
        EXPECT_EQ(test::upright(folder.path(), {command, "s.toml", "--out", "photos", "--force"}).code, 6)
            << command;
    EXPECT_EQ(files_in(folder.path() / "photos"), 1U);
}

// Damaged pieces of a run are named, one command after the other.
TEST(Folders, DamagedPiecesOfARunAreNamed) {
    const TemporaryFolder folder;
    folder.write("s.toml", bracket());
    ASSERT_EQ(test::upright(folder.path(), {"optimize", "s.toml", "--quiet"}).code, 0);
    const fs::path run = folder.path() / "s.run";
    const auto with = [&](const fs::path& file, const std::string& bytes,
                          const std::vector<std::string>& words) {
        const std::string kept = test::text_of(run / file);
        folder.write((fs::path("s.run") / file).string(), bytes);
        const test::Outcome outcome = test::upright(folder.path(), words);
        folder.write((fs::path("s.run") / file).string(), kept);
        EXPECT_EQ(outcome.code, 3) << file << ": " << outcome.err;
        EXPECT_EQ(outcome.err.find("terminate"), std::string::npos) << outcome.err;
        return outcome.err;
    };
    const std::string model = test::text_of(run / "model.h5");
    EXPECT_NE(with("model.h5", "", {"carve", "s.run"}).find("model.h5"), std::string::npos);
    EXPECT_NE(with("model.h5", model.substr(0, model.size() / 2), {"carve", "s.run"}).find("model.h5"),
              std::string::npos);
    EXPECT_NE(with("model.h5", "no such thing", {"plot", "s.run", "--what", "density"}).find("model.h5"),
              std::string::npos);
    EXPECT_NE(with("steps/0004.h5", "torn", {"carve", "s.run"}).find("0004.h5"), std::string::npos);
    EXPECT_NE(with("history.csv", "iteration,goal\n1,2\n", {"plot", "s.run", "--what", "history"})
                  .find("history.csv"),
              std::string::npos);
    EXPECT_EQ(test::upright(folder.path(), {"carve", "s.run", "--at", "0.2"}).code, 0); // whole again
}
