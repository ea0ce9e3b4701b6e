// upright compare, upright sweep and figures of any iteration, through the built program.
#include "support/folder.hpp"
#include "support/run_upright.hpp"
#include "support/study_text.hpp"

#include <chrono>
#include <csignal>
#include <gtest/gtest.h>
#include <nlohmann/json.hpp>
#include <thread>

using namespace upright;
namespace fs = std::filesystem;
using test::StudyText;
using test::TemporaryFolder;

namespace {

// A plane beam that takes a blink.
std::string beam(const std::string& more = {}) {
    return StudyText()
        .add("title = \"Kragarm <b>&'\"\n")
        .add("[values]\nlift = \"1 kN\"\n")
        .steel()
        .region("web", "box = [[0, 0], [60, 30]]")
        .surface("root", "facing = [-1, 0]")
        .region("pad", "box = [[52, 0], [60, 30]]", "keep")
        .surface("tip", "facing = [1, 0]")
        .support("clamp", "root", R"(["x", "y"])")
        .force("pull", "tip", R"([0, "-lift"])")
        .load_case("bend", R"(["clamp"])", "{ pull = 1 }")
        .response("stiffness", "compliance")
        .response("budget", "mass-fraction", "max = 0.5")
        .minimize("stiffness")
        .mesh("size = 2\nelement = \"plane-stress\"\nthickness = 5\n")
        .section("run", "iterations = 80\n")
        .add(more);
}

nlohmann::json json_of(const fs::path& file) {
    return nlohmann::json::parse(test::text_of(file));
}

// The rows of a table of compare.json but for times.
nlohmann::json lasting_rows(const fs::path& file) {
    nlohmann::json out = nlohmann::json::array();
    for (const auto& row : json_of(file)["rows"])
        if (row["name"] != "time") out.push_back(row);
    return out;
}

} // namespace

TEST(Compare, RunsIterationsAndAnalyses) {
    const TemporaryFolder folder;
    folder.write("ein arm.toml", beam());
    ASSERT_EQ(test::upright(folder.path(), {"optimize", "ein arm.toml", "--quiet"}).code, 0);
    ASSERT_EQ(test::upright(folder.path(), {"optimize", "ein arm.toml", "--quiet", "--out", "leicht.run",
                                            "--set", "response.budget.max=0.3"})
                  .code,
              0);
    ASSERT_EQ(test::upright(folder.path(), {"analyze", "ein arm.toml", "--no-figures"}).code, 0);
    const auto both =
        test::upright(folder.path(), {"compare", "ein arm.run", "leicht.run", "--out", "tafel"});
    EXPECT_EQ(both.code, 0) << both.err;
    EXPECT_NE(both.out.find("response.budget.max"), std::string::npos) << both.out;
    const auto json = json_of(folder.path() / "tafel/compare.json");
    ASSERT_EQ(json["differences"].size(), 1U);
    EXPECT_EQ(json["differences"][0]["values"], (std::vector<std::string>{"0.5", "0.3"}));
    // What stands there is what run.json says.
    for (const auto& row : json["rows"]) {
        if (row["name"] == "stiffness")
            EXPECT_EQ(row["values"][1],
                      json_of(folder.path() / "leicht.run/run.json")["black_and_white"]["goal"]);
        if (row["name"] == "mass of the design")
            EXPECT_NEAR(row["values"][0].get<double>(), 0.5 * 52 * 30 * 5 * 7.85e-9,
                        0.01 * 52 * 30 * 5 * 7.85e-9);
    }
    for (const char* name :
         {"density.png", "displacement-bend.png", "stress-bend.png", "history.png", "compare.csv"})
        EXPECT_TRUE(fs::exists(folder.path() / "tafel" / name)) << name;
    // Iterations: the first row of the history, and no field of it was kept.
    const auto steps = test::upright(folder.path(), {"compare", "ein arm.run@first", "ein arm.run@last",
                                                     "ein arm.analysis", "--out", "stufen"});
    EXPECT_EQ(steps.code, 0) << steps.err;
    std::string history = test::text_of(folder.path() / "ein arm.run/history.csv");
    const double first = std::stod(history.substr(history.find("\n1,") + 3));
    for (const auto& row : json_of(folder.path() / "stufen/compare.json")["rows"])
        if (row["name"] == "stiffness") EXPECT_DOUBLE_EQ(row["values"][0].get<double>(), first);
    EXPECT_TRUE(fs::exists(folder.path() / "stufen/stress-bend.png"));
    // A figure of a kept iteration.
    EXPECT_EQ(
        test::upright(folder.path(), {"plot", "ein arm.run", "--what", "stress", "--iteration", "1"}).code,
        0);
    EXPECT_TRUE(fs::exists(folder.path() / "ein arm.run/figures/stress-bend-1.png"));
    // Wrong words.
    EXPECT_EQ(test::upright(folder.path(), {"compare", "ein arm.run"}).code, 2);
    EXPECT_EQ(test::upright(folder.path(), {"compare"}).code, 2);
    const auto lost = test::upright(folder.path(), {"compare", "ein arm.run@7", "leicht.run"});
    EXPECT_EQ(lost.code, 3);
    EXPECT_NE(lost.err.find("Kept: 1, 10"), std::string::npos) << lost.err;
    EXPECT_EQ(test::upright(folder.path(), {"compare", "ein arm.run@soon", "leicht.run"}).code, 2);
    EXPECT_EQ(test::upright(folder.path(), {"compare", "nothing.run", "leicht.run"}).code, 3);
    EXPECT_EQ(test::upright(folder.path(),
                            {"compare", "ein arm.run", "leicht.run", "--out", "x", "--case", "other"})
                  .code,
              2);
    folder.write("leicht.run/run.json", "{\"status\": ");
    EXPECT_EQ(test::upright(folder.path(), {"compare", "ein arm.run", "leicht.run"}).code, 3);
}

TEST(Sweep, EveryPointIsTheRunThatOneWouldMakeByHand) {
    const TemporaryFolder folder;
    folder.write("arm.toml", beam());
    const auto sweep =
        test::upright(folder.path(), {"sweep", "arm.toml", "--vary", "response.budget.max=0.5,0.3", "--vary",
                                      "values.lift=1 kN..3 kN in 2", "--jobs", "2"});
    EXPECT_EQ(sweep.code, 0) << sweep.out << sweep.err;
    const fs::path out = folder.path() / "arm.sweep";
    const auto json = json_of(out / "sweep.json");
    ASSERT_EQ(json["points"].size(), 4U);
    EXPECT_EQ(json["points"][3]["label"], "budget.max=0.3, lift=3 kN");
    ASSERT_EQ(test::upright(folder.path(), {"optimize", "arm.toml", "--quiet", "--set",
                                            "response.budget.max=0.3", "--set", "values.lift=3 kN"})
                  .code,
              0);
    EXPECT_EQ(json_of(out / "04.run/run.json")["black_and_white"],
              json_of(folder.path() / "arm.run/run.json")["black_and_white"]);
    for (const char* name : {"scatter.png", "scatter.svg", "scatter.csv", "compare.csv", "density.png"})
        EXPECT_TRUE(fs::exists(out / name)) << name;
    // Nothing is overwritten; what has changed is no sweep to go on with; nothing is run twice.
    EXPECT_EQ(
        test::upright(folder.path(), {"sweep", "arm.toml", "--vary", "response.budget.max=0.5,0.3"}).code, 6);
    EXPECT_EQ(
        test::upright(folder.path(), {"sweep", "arm.toml", "--vary", "response.budget.max=0.4", "--resume"})
            .code,
        3);
    const auto time = fs::last_write_time(out / "01.run/run.json");
    EXPECT_EQ(test::upright(folder.path(), {"sweep", "arm.toml", "--vary", "response.budget.max=0.5,0.3",
                                            "--vary", "values.lift=1 kN..3 kN in 2", "--resume",
                                            "--no-figures", "--scatter", "budget,stiffness"})
                  .code,
              0);
    EXPECT_EQ(fs::last_write_time(out / "01.run/run.json"), time);
}

TEST(Sweep, AFailedOneDoesNotEndTheRest) {
    const TemporaryFolder folder;
    folder.write("arm.toml", beam());
    // A mass below that of nothing at all cannot be had by a bound on compliance: the run itself fails.
    const auto sweep = test::upright(
        folder.path(), {"sweep", "arm.toml", "--vary", "response.stiffness.max=1e-9,1e9", "--no-figures"});
    EXPECT_EQ(sweep.code, 3) << sweep.out << sweep.err;
    EXPECT_NE(sweep.out.find("01  stiffness.max=1e-9: FAILED"), std::string::npos) << sweep.out;
    EXPECT_TRUE(fs::exists(folder.path() / "arm.sweep/02.run/run.json"));
    // Words that no study has are found before the first run.
    EXPECT_EQ(
        test::upright(folder.path(), {"sweep", "arm.toml", "--out", "b", "--vary", "response.bugdet.max=1,2"})
            .code,
        2);
    EXPECT_FALSE(fs::exists(folder.path() / "b"));
    EXPECT_EQ(
        test::upright(folder.path(), {"sweep", "arm.toml", "--out", "b", "--vary", "mesh.size=1 kN,2"}).code,
        3);
    EXPECT_EQ(test::upright(folder.path(), {"sweep", "arm.toml", "--out", "b"}).code, 2);
    const auto nothing =
        test::upright(folder.path(), {"sweep", "arm.toml", "--out", "b", "--vary", "values.lfit=1 kN,2 kN"});
    EXPECT_EQ(nothing.code, 2);
    EXPECT_NE(nothing.err.find("Did you mean \"lift\"?"), std::string::npos) << nothing.err;
    EXPECT_EQ(
        test::upright(folder.path(), {"sweep", "none.toml", "--out", "b", "--vary", "mesh.size=1,2"}).code,
        3);
    EXPECT_EQ(test::upright(folder.path(),
                            {"sweep", "arm.toml", "--out", "b", "--vary", "mesh.size=1,2", "--submit", "sh"})
                  .code,
              2);
}

// Starts a sweep into `killed` and sends it, and no other process, a signal when its third run has begun.
// Returns how it ended, as waitpid tells.
int stop_at_third_run(const TemporaryFolder& folder, const std::vector<std::string>& words, int signal) {
    const auto third = [&] { return fs::exists(folder.path() / "killed/03.run/history.csv"); };
    return test::ended_by_signal(
        folder.path(), words,
        [&] {
            for (int k = 0; k < 600 && !third(); ++k)
                std::this_thread::sleep_for(std::chrono::milliseconds(50));
            EXPECT_TRUE(third());
        },
        signal);
}

TEST(Sweep, KilledAndResumedItEndsWithTheSameTable) {
    const TemporaryFolder folder;
    folder.write("arm.toml", beam("keep_every = 3\n"));
    const std::vector<std::string> words{
        "sweep", "arm.toml",    "--vary",      "response.budget.max=0.6..0.25 in 8",
        "--set", "mesh.size=1", "--no-figures"};
    std::vector<std::string> whole = words;
    whole.insert(whole.end(), {"--out", "whole"});
    ASSERT_EQ(test::upright(folder.path(), whole).code, 0);
    std::vector<std::string> killed = words;
    killed.insert(killed.end(), {"--out", "killed"});
    stop_at_third_run(folder, killed, SIGKILL);
    EXPECT_FALSE(fs::exists(folder.path() / "killed/08.run/run.json"));
    killed.emplace_back("--resume");
    const auto resumed = test::upright(folder.path(), killed);
    EXPECT_EQ(resumed.code, 0) << resumed.out << resumed.err;
    EXPECT_EQ(lasting_rows(folder.path() / "killed/compare.json"),
              lasting_rows(folder.path() / "whole/compare.json"));
}

TEST(Sweep, AskedToEndItEndsItsRunsInOrder) {
    const TemporaryFolder folder;
    folder.write("arm.toml", beam("keep_every = 3\n"));
    // Bounds far from what a run reaches in its first iterations: those that go on have far to go.
    std::vector<std::string> words{
        "sweep",        "arm.toml", "--vary", "response.budget.max=0.6..0.25 in 8", "--set", "mesh.size=0.5",
        "--no-figures", "--out",    "killed"};
    const int status = stop_at_third_run(folder, words, SIGTERM);
    ASSERT_TRUE(WIFEXITED(status));
    EXPECT_EQ(WEXITSTATUS(status), 130);
    const std::string told = test::text_of(folder.path() / "killed/03.run/run.json");
    EXPECT_NE(told.find("\"interrupted\""), std::string::npos) << told;
    EXPECT_TRUE(fs::exists(folder.path() / "killed/03.run/steps/checkpoint.h5"));
    EXPECT_FALSE(fs::exists(folder.path() / "killed/08.run/run.json"));
}

TEST(Sweep, HandsRunsToAQueueAndCollectsThem) {
    const TemporaryFolder folder;
    folder.write("arm.toml", beam());
    // A queue of our own: it takes a script's name and lets it wait.
    folder.write("queue.sh", "#!/bin/sh\necho \"$1\" >> waiting.txt\n");
    const std::vector<std::string> words{"sweep", "arm.toml", "--vary", "response.budget.max=0.5,0.4",
                                         "--no-figures"};
    auto with = [&](const std::vector<std::string>& more) {
        std::vector<std::string> all = words;
        all.insert(all.end(), more.begin(), more.end());
        return test::upright(folder.path(), all);
    };
    EXPECT_EQ(with({"--submit", "sh queue.sh {}"}).code, 0);
    EXPECT_NE(with({"--collect"}).out.find("has not begun"), std::string::npos);
    ASSERT_EQ(std::system(("cd " + test::shell_quoted(folder.path().string()) +
                           " && while read -r job; do sh \"$job\" || exit 1; done < waiting.txt")
                              .c_str()),
              0);
    const auto collected = with({"--collect"});
    EXPECT_EQ(collected.code, 0) << collected.out << collected.err;
    EXPECT_NE(collected.out.find("budget.max=0.4"), std::string::npos) << collected.out;
    EXPECT_EQ(with({"--submit", "false {}", "--out", "c"}).code, 6);
}

TEST(Sweep, ChainsAndMeshesTellWhatMoves) {
    const TemporaryFolder folder;
    folder.write("arm.toml", beam());
    const auto chain =
        test::upright(folder.path(), {"sweep", "arm.toml", "--vary", "response.budget.max=0.5,0.45",
                                      "--chain", "--no-figures", "--out", "chain"});
    EXPECT_EQ(chain.code, 0) << chain.out << chain.err;
    EXPECT_NE(test::text_of(folder.path() / "chain/02.run/study.toml").find("01.run"), std::string::npos);
    const auto meshes = test::upright(
        folder.path(), {"sweep", "arm.toml", "--mesh", "3,2", "--no-figures", "--out", "meshes"});
    EXPECT_EQ(meshes.code, 0) << meshes.out << meshes.err;
    EXPECT_NE(meshes.out.find("stiffness: "), std::string::npos) << meshes.out;
}

TEST(Report, OfRunsAndSweepsNeedsNothingElse) {
    const TemporaryFolder folder;
    folder.write("arm.toml", beam());
    ASSERT_EQ(test::upright(folder.path(), {"optimize", "arm.toml", "--quiet"}).code, 0);
    const auto report = test::upright(folder.path(), {"report", "arm.run"});
    EXPECT_EQ(report.code, 0) << report.err;
    EXPECT_EQ(report.out.find('\r'), std::string::npos) << "no live line where nobody looks";
    const std::string page = test::text_of(folder.path() / "arm.run/report.html");
    EXPECT_LT(page.size(), 15000000U);
    EXPECT_NE(page.find("<h1>Kragarm &lt;b&gt;&amp;&#39;</h1>"), std::string::npos);
    EXPECT_EQ(page.find("<b>&'"), std::string::npos);
    for (const char* word : {"src=\"http", "href=\"http", "url(http", "{{"})
        EXPECT_EQ(page.find(word), std::string::npos) << word;
    // Of iterations in which nothing is dense enough there is no surface: boxes are those of something.
    const auto view_from = page.find("id=\"view-data\">") + 15;
    const auto view =
        nlohmann::json::parse(page.substr(view_from, page.find("</script>", view_from) - view_from));
    ASSERT_FALSE(view["thresholds"].empty());
    ASSERT_FALSE(view["cases"].empty());
    EXPECT_LT(view["first"].get<std::size_t>(), view["thresholds"].size());
    for (const char* list : {"thresholds", "iterations", "cases"})
        for (const auto& one : view[list])
            for (int a = 0; a < 3; ++a) {
                EXPECT_LE(std::abs(one["surface"]["low"][a].get<double>()), 61.0) << list;
                EXPECT_LE(one["surface"]["size"][a].get<double>(), 61.0) << list;
            }
    // What it says is what run.json says, and what is missing is said.
    const auto run = json_of(folder.path() / "arm.run/run.json");
    char value[32];
    std::snprintf(value, sizeof value, "%.5g", run["black_and_white"]["goal"].get<double>());
    EXPECT_NE(page.find(std::string("came to ") + value), std::string::npos) << value;
    EXPECT_NE(page.find("No part has been carved yet"), std::string::npos);
    EXPECT_NE(page.find("has not been analysed afresh yet"), std::string::npos);
    const auto small = test::upright(
        folder.path(), {"report", "arm.run", "--no-view", "--size", "640x400", "--out", "sub/klein.html"});
    EXPECT_EQ(small.code, 0) << small.err;
    EXPECT_EQ(test::text_of(folder.path() / "sub/klein.html").find("Three.js Authors"), std::string::npos);
    ASSERT_EQ(
        test::upright(folder.path(), {"sweep", "arm.toml", "--vary", "response.budget.max=0.5,0.4"}).code, 0);
    const auto sweep = test::upright(folder.path(), {"report", "arm.sweep"});
    EXPECT_EQ(sweep.code, 0) << sweep.err;
    EXPECT_NE(test::text_of(folder.path() / "arm.sweep/report.html").find("budget.max=0.4"),
              std::string::npos);
    EXPECT_EQ(test::upright(folder.path(), {"report", "arm.run", "--out", "page.pdf"}).code, 2);
    EXPECT_EQ(test::upright(folder.path(), {"report", "nothing.run"}).code, 3);
    folder.write("leer/x", "");
    EXPECT_EQ(test::upright(folder.path(), {"report", "leer"}).code, 3);
    // Shells and meshes of files have no exact shapes to cut, and are shown all the same.
    ASSERT_EQ(test::upright(folder.path(),
                            {"optimize", "arm.toml", "--quiet", "--out", "shell.run", "--set",
                             "mesh.element=shell", "--set", "load.pull.force=[0, \"-lift\", 0]", "--set",
                             "support.clamp.hold=[\"x\", \"y\", \"z\", \"rx\", \"ry\", \"rz\"]"})
                  .code,
              0);
    const auto shell = test::upright(folder.path(), {"report", "shell.run"});
    EXPECT_EQ(shell.code, 0) << shell.err;
}

TEST(Watch, TellsWhatTheHistorySays) {
    const TemporaryFolder folder;
    folder.write("arm.toml", beam());
    ASSERT_EQ(test::upright(folder.path(), {"optimize", "arm.toml", "--quiet"}).code, 0);
    fs::remove_all(folder.path() / "arm.run/figures");
    const auto watch = test::upright(folder.path(), {"watch", "arm.run"});
    EXPECT_EQ(watch.code, 0) << watch.err;
    EXPECT_NE(watch.out.find("stiffness (goal) "), std::string::npos) << watch.out;
    EXPECT_NE(watch.out.find("converged"), std::string::npos) << watch.out;
    EXPECT_EQ(watch.out.find('\033'), std::string::npos) << "plain where it is piped";
    EXPECT_TRUE(fs::exists(folder.path() / "arm.run/figures/density.png"));
    EXPECT_EQ(test::upright(folder.path(), {"watch", "arm.run", "--every", "0"}).code, 2);
    EXPECT_EQ(test::upright(folder.path(), {"watch", "none.run"}).code, 3);
}

TEST(PlotMore, CutsSheetsFilmsAndMasses) {
    const TemporaryFolder folder;
    folder.write("arm.toml", beam());
    ASSERT_EQ(test::upright(folder.path(), {"optimize", "arm.toml", "--quiet"}).code, 0);
    const auto plot = [&](std::vector<std::string> more) {
        more.insert(more.begin(), {"plot", "arm.run", "--size", "640x400"});
        return test::upright(folder.path(), more);
    };
    const fs::path figures = folder.path() / "arm.run/figures";
    EXPECT_EQ(plot({"--cut", "x < 30"}).code, 0);
    EXPECT_TRUE(fs::exists(figures / "density-cut.png"));
    EXPECT_EQ(plot({"--what", "stress", "--cut", "y > 3 cm"}).code,
              2); // that is its upper edge: nothing is beyond
    EXPECT_EQ(plot({"--what", "stress", "--cut", "y > 1 cm"}).code, 0);
    EXPECT_EQ(plot({"--what", "directions"}).code, 0);
    EXPECT_TRUE(fs::exists(figures / "directions-bend.png"));
    EXPECT_EQ(plot({"--sheet"}).code, 0);
    EXPECT_EQ(plot({"--animate"}).code, 0);
    EXPECT_EQ(test::text_of(figures / "density.gif").substr(0, 6), "GIF89a");
    // Dark paper has dark corners, the usual one white ones: the first pixels of the picture.
    EXPECT_EQ(plot({"--what", "history", "--out", "h.svg"}).code, 0);
    EXPECT_NE(test::text_of(folder.path() / "h.svg").find("</svg>"), std::string::npos);
    EXPECT_EQ(plot({"--what", "stress", "--dark", "--out", "dark.png"}).code, 0);
    EXPECT_EQ(plot({"--what", "stress", "--out", "pale.png"}).code, 0);
    EXPECT_NE(test::text_of(folder.path() / "dark.png"), test::text_of(folder.path() / "pale.png"));
    // As much material as the budget is about half of the design.
    const auto mass = plot({"--mass", "0.045 kg"});
    EXPECT_EQ(mass.code, 0) << mass.err;
    EXPECT_EQ(plot({"--mass", "5 kg"}).code, 3);
    EXPECT_EQ(plot({"--mass", "5 mm"}).code, 2);
    EXPECT_EQ(plot({"--mass", "1 kg", "--at", "0.5"}).code, 2);
    EXPECT_EQ(plot({"--cut", "z = 3"}).code, 2); // a plane model has none
    EXPECT_EQ(plot({"--cut", "x"}).code, 2);
    EXPECT_EQ(plot({"--cut", "x = 3 kN"}).code, 2);
    EXPECT_EQ(plot({"--what", "history", "--cut", "x = 3"}).code, 2);
    EXPECT_EQ(plot({"--what", "stress", "--sheet"}).code, 2);
    EXPECT_EQ(plot({"--sheet", "--iteration", "1"}).code, 2);
    EXPECT_EQ(plot({"--what", "density", "--out", "d.svg"}).code, 2);
}
