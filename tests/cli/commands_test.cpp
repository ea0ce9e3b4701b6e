#include "support/folder.hpp"
#include "support/run_upright.hpp"
#include "support/sanitized.hpp"

#include <gtest/gtest.h>
#include <nlohmann/json.hpp>
#include <regex>
#include <thread>

using namespace upright;
namespace fs = std::filesystem;
using test::TemporaryFolder;

namespace {

// A small cantilever with a pad, done in a second.
std::string small_study(const std::string& run = "iterations = 12\nkeep_every = 4\n") {
    return R"(title = "Small bracket"
units = ["mm", "N", "s"]

[[region]]
name = "block"
role = "design"
material = "ductile iron"
box = [[0, 0, 0], [80, 40, 40]]

[[region]]
name = "pad"
role = "keep"
material = "ductile iron"
box = [[70, 0, 0], [80, 40, 40]]

[[surface]]
name = "root"
of = "block"
facing = [-1, 0, 0]

[[surface]]
name = "tip"
of = "pad"
facing = [1, 0, 0]

[[support]]
name = "clamp"
on = "root"
hold = ["x", "y", "z"]

[[load]]
name = "pull"
on = "tip"
force = [0, 0, "-1 kN"]

[[case]]
name = "bend"
supports = ["clamp"]
loads = { pull = [1, -1] }

[mesh]
size = "5 mm"

[[response]]
name = "stiffness"
measure = "compliance"

[[response]]
name = "budget"
measure = "mass-fraction"
max = 0.4

[goal]
minimize = "stiffness"

[run]
)" + run;
}

fs::path step_file(int iteration) {
    std::string number = std::to_string(iteration);
    return fs::path("s.run/steps") / (std::string(4 - number.size(), '0') + number + ".h5");
}

bool is_png(const fs::path& file, int width, int height) {
    const std::string bytes = test::text_of(file);
    if (bytes.size() < 2000 || bytes.compare(1, 3, "PNG") != 0) return false;
    const auto number = [&](std::size_t at) {
        int out = 0;
        for (std::size_t i = 0; i < 4; ++i) out = out * 256 + static_cast<unsigned char>(bytes[at + i]);
        return out;
    };
    return number(16) == width && number(20) == height;
}

} // namespace

TEST(Program, TellsItsVersionAndHelp) {
    const TemporaryFolder folder;
    const auto version = test::upright(folder.path(), {"--version"});
    EXPECT_EQ(version.code, 0);
    EXPECT_EQ(version.out.rfind("upright ", 0), 0U);
    const auto help = test::upright(folder.path(), {"--help"});
    EXPECT_EQ(help.code, 0);
    for (const char* command : {"demo", "new", "materials", "check", "optimize", "plot", "carve"}) {
        EXPECT_NE(help.out.find(command), std::string::npos) << command;
        EXPECT_EQ(test::upright(folder.path(), {command, "--help"}).code, 0) << command;
    }
}

TEST(Program, AnswersWrongCommandLines) {
    const TemporaryFolder folder;
    const auto expect = [&](const std::vector<std::string>& words, const std::string& answer) {
        const auto outcome = test::upright(folder.path(), words);
        EXPECT_EQ(outcome.code, 2) << answer << outcome.err;
        EXPECT_NE(outcome.err.find(answer), std::string::npos) << outcome.err;
    };
    expect({"optimise"}, "Did you mean \"optimize\"?");
    expect({"optimize"}, "needs STUDY");
    expect({"optimize", "x.toml", "--forse"}, "Did you mean \"--force\"?");
    expect({"plot", "x.run", "--what", "densty"}, "Did you mean \"density\"?");
    expect({"plot", "x.run", "--size", "big"}, "Write it as 1280x800");
    expect({"plot", "x.run", "--from", "tpo"}, "is not a view");
    expect({"carve", "x.run", "--at", "1.5"}, "between 0 and 1");
    folder.write("s.toml", small_study());
    expect({"optimize", "s.toml", "--set", "response.bugdet.max=0.3"}, "Did you mean \"budget\"?");
    expect({"optimize", "s.toml", "--resume", "--force"}, "exclude each other");
}

TEST(Program, AnswersMissingAndForeignFiles) {
    const TemporaryFolder folder;
    auto outcome = test::upright(folder.path(), {"check", "none.toml"});
    EXPECT_EQ(outcome.code, 3);
    EXPECT_NE(outcome.err.find("none.toml: cannot be read: No such file"), std::string::npos) << outcome.err;
    outcome = test::upright(folder.path(), {"check", "."});
    EXPECT_EQ(outcome.code, 3);
    outcome = test::upright(folder.path(), {"plot", "none.run"});
    EXPECT_EQ(outcome.code, 3);
    EXPECT_NE(outcome.err.find("there is no such run"), std::string::npos) << outcome.err;
    folder.write("binary.toml", std::string("\x7f\x45LF\0\1\2", 7));
    outcome = test::upright(folder.path(), {"check", "binary.toml"});
    EXPECT_EQ(outcome.code, 3) << outcome.err;
}

TEST(Program, ListsMaterialsAndExamples) {
    const TemporaryFolder folder;
    const auto materials = test::upright(folder.path(), {"materials"});
    EXPECT_EQ(materials.code, 0);
    EXPECT_NE(materials.out.find("EN 1563"), std::string::npos);
    EXPECT_NE(test::upright(folder.path(), {"new", "--list"}).out.find("pump-pedestal"), std::string::npos);
    EXPECT_EQ(test::upright(folder.path(), {"new", "mine", "--example", "half-beam"}).code, 0);
    EXPECT_TRUE(fs::exists(folder.path() / "mine" / "half-beam.toml"));
    EXPECT_EQ(test::upright(folder.path(), {"new", "mine"}).code, 6); // it is there already
    EXPECT_EQ(test::upright(folder.path(), {"new", "other", "--example", "half-bean"}).code, 2);
}

TEST(Program, DoesTheWholeJob) {
    const TemporaryFolder folder;
    folder.write("bracket.toml", small_study());
    const auto check = test::upright(folder.path(), {"check", "bracket.toml"});
    EXPECT_EQ(check.code, 0) << check.err;
    EXPECT_NE(check.out.find("fully held"), std::string::npos);
    EXPECT_TRUE(is_png(folder.path() / "bracket.check/regions.png", 1280, 800));
    EXPECT_TRUE(is_png(folder.path() / "bracket.check/case-bend.2.png", 1280, 800));

    const auto run = test::upright(folder.path(), {"optimize", "bracket.toml"});
    EXPECT_EQ(run.code, 0) << run.err;
    const fs::path out = folder.path() / "bracket.run";
    for (const char* file : {"run.json", "history.csv", "study.toml", "design.vtu", "cases/bend.1.vtu",
                             "cases/bend.2.vtu", "steps/0004.h5", "steps/checkpoint.h5", "log.txt"})
        EXPECT_TRUE(fs::exists(out / file)) << file;
    const auto json = nlohmann::json::parse(test::text_of(out / "run.json"));
    EXPECT_EQ(json["status"], "iteration-limit");
    EXPECT_EQ(json["feasible"], true);
    EXPECT_EQ(json["iterations"], 12);
    EXPECT_EQ(json["goal"]["name"], "stiffness");
    EXPECT_EQ(json["goal"]["unit"], "N·mm");
    EXPECT_NEAR(json["responses"][1]["value"].get<double>(), 0.4, 1e-2); // on its way
    EXPECT_EQ(json["responses"][1]["holds"], true);
    EXPECT_NEAR(json["cases"][0]["compliance"].get<double>(), json["cases"][1]["compliance"].get<double>(),
                1e-9);

    for (const char* what : {"density", "displacement", "stress", "history"}) {
        const auto plot =
            test::upright(folder.path(), {"plot", "bracket.run", "--what", what, "--size", "800x500"});
        EXPECT_EQ(plot.code, 0) << what << plot.err;
    }
    EXPECT_TRUE(is_png(out / "figures/density.png", 800, 500));
    EXPECT_TRUE(is_png(out / "figures/stress-bend.1.png", 800, 500));
    EXPECT_TRUE(is_png(out / "figures/displacement-bend.2.png", 800, 500));
    EXPECT_TRUE(is_png(out / "figures/history.png", 800, 500));
    EXPECT_EQ(test::upright(folder.path(), {"plot", "bracket.run", "--iteration", "4", "--from", "top",
                                            "--out", "early.png"})
                  .code,
              0);
    EXPECT_TRUE(is_png(folder.path() / "early.png", 1280, 800));
    EXPECT_EQ(test::upright(folder.path(), {"plot", "bracket.run", "--iteration", "5"}).code, 3);
    EXPECT_EQ(
        test::upright(folder.path(), {"plot", "bracket.run", "--what", "stress", "--case", "bent"}).code, 2);

    const auto carve = test::upright(folder.path(), {"carve", "bracket.run", "--at", "0.1"});
    EXPECT_EQ(carve.code, 0) << carve.err;
    EXPECT_NE(carve.out.find("one piece, and it reaches every support and load"), std::string::npos)
        << carve.out;
    EXPECT_NE(carve.out.find("closed"), std::string::npos);
    EXPECT_GT(fs::file_size(out / "part.stl"), 10000U);
    EXPECT_EQ(nlohmann::json::parse(test::text_of(out / "part.json"))["thresholds"].size(), 10U);
}

TEST(Program, AnalysesEveryCase) {
    const TemporaryFolder folder;
    folder.write("bracket.toml", small_study() + R"(
[[case]]
name = "hum"
kind = "modal"
supports = ["clamp"]
modes = 3
[[point]]
name = "corner"
at = [80, 40, 40]
[[response]]
name = "sag"
measure = "displacement"
at = "corner"
max = "1 m"
)");
    const auto found = test::upright(folder.path(), {"analyze", "bracket.toml", "--probe", "40,20,20",
                                                     "--size", "800x500", "--refine", "2"});
    EXPECT_EQ(found.code, 0) << found.err;
    for (const char* words :
         {"bend/1 (static)", "bend/2 (static)", "hum (modal", "point corner", "probe (40, 20, 20)",
          "estimated error", "finer mesh", "none: fully held", "slack by"})
        EXPECT_NE(found.out.find(words), std::string::npos) << words << found.out;
    const fs::path out = folder.path() / "bracket.analysis";
    for (const char* file :
         {"analysis.json", "fields.h5", "model.h5", "cases/bend.1.vtu", "cases/hum.vtu", "log.txt"})
        EXPECT_TRUE(fs::exists(out / file)) << file;
    EXPECT_TRUE(is_png(out / "figures/stress-bend.1.png", 800, 500));
    EXPECT_TRUE(is_png(out / "figures/mode-hum-3.png", 800, 500));
    const auto json = nlohmann::json::parse(test::text_of(out / "analysis.json"));
    EXPECT_EQ(json["cases"].size(), 3U);
    EXPECT_LT(json["cases"][0]["out_of_balance"].get<double>(), 1e-8);
    EXPECT_EQ(json["cases"][2]["modes"].size(), 3U);

    // Nothing is overwritten unasked; figures and films come from the folder.
    EXPECT_EQ(test::upright(folder.path(), {"analyze", "bracket.toml", "--no-figures"}).code, 6);
    EXPECT_EQ(test::upright(folder.path(), {"plot", "bracket.analysis", "--what", "mode", "--mode", "2",
                                            "--out", "second.png"})
                  .code,
              0);
    EXPECT_TRUE(is_png(folder.path() / "second.png", 1280, 800));
    const auto film = test::upright(folder.path(), {"plot", "bracket.analysis", "--what", "mode", "--animate",
                                                    "--frames", "3", "--size", "400x300"});
    EXPECT_EQ(film.code, 0) << film.err;
    EXPECT_EQ(test::text_of(out / "figures/mode-hum-1.gif").substr(0, 6), "GIF89a");
    const auto frames =
        test::upright(folder.path(), {"plot", "bracket.analysis", "--animate", "--frames", "2", "--case",
                                      "bend/1", "--size", "400x300", "--out", "frame.png"});
    EXPECT_EQ(frames.code, 0) << frames.err;
    EXPECT_TRUE(is_png(folder.path() / "frame-02.png", 400, 300));

    // A model without its study gives the same numbers.
    const auto again = test::upright(folder.path(), {"analyze", "bracket.analysis/model.h5", "--no-figures",
                                                     "--case", "bend", "--out", "again"});
    EXPECT_EQ(again.code, 0) << again.err;
    EXPECT_EQ(nlohmann::json::parse(test::text_of(folder.path() / "again/analysis.json"))["cases"][0],
              json["cases"][0]);
}

TEST(Program, AnalyzeAnswersWhatCannotBe) {
    const TemporaryFolder folder;
    folder.write("bracket.toml", small_study());
    using Words = std::vector<std::string>;
    for (const auto& [extra, code, words] :
         {std::tuple{Words{"--case", "bent"}, 2, "there is no case \"bent\""},
          std::tuple{Words{"--probe", "1,2"}, 2, "is not a place"},
          std::tuple{Words{"--except", "rot"}, 2, "there is no region or surface \"rot\""},
          std::tuple{Words{"--refine", "1"}, 2, "is no finer mesh"}}) {
        Words all{"analyze", "bracket.toml", "--no-figures"};
        all.insert(all.end(), extra.begin(), extra.end());
        const auto answer = test::upright(folder.path(), all);
        EXPECT_EQ(answer.code, code) << answer.err;
        EXPECT_NE(answer.err.find(words), std::string::npos) << answer.err;
        EXPECT_FALSE(fs::exists(folder.path() / "bracket.analysis"));
    }
    const auto plot = test::upright(folder.path(), {"plot", "nowhere", "--what", "mode"});
    EXPECT_NE(plot.code, 0);
}

TEST(Program, ABoundBrokenByTheBaselineIsExitCode4) {
    const TemporaryFolder folder;
    folder.write("bracket.toml",
                 small_study() +
                     "[[response]]\nname = \"strength\"\nmeasure = \"stress\"\nmax = \"1% of yield\"\n");
    const auto found = test::upright(folder.path(), {"analyze", "bracket.toml", "--no-figures"});
    EXPECT_EQ(found.code, 4) << found.err;
    EXPECT_NE(found.out.find("broken by"), std::string::npos);
}

TEST(Program, NeverOverwritesARunUnasked) {
    const TemporaryFolder folder;
    folder.write("bracket.toml", small_study("iterations = 2\n"));
    EXPECT_EQ(test::upright(folder.path(), {"optimize", "bracket.toml"}).code, 0);
    const auto again = test::upright(folder.path(), {"optimize", "bracket.toml"});
    EXPECT_EQ(again.code, 6);
    EXPECT_NE(again.err.find("--force"), std::string::npos);
    EXPECT_EQ(test::upright(folder.path(), {"optimize", "bracket.toml", "--force"}).code, 0);
    EXPECT_EQ(test::upright(folder.path(), {"optimize", "bracket.toml", "--out", "other.run", "--set",
                                            "response.budget.max=0.3"})
                  .code,
              0);
    EXPECT_NE(test::text_of(folder.path() / "other.run/study.toml").find("max = 0.3"), std::string::npos);
}

TEST(Program, AMultigridRunGivesTheSameDesignAndTellsWhereTimeWent) {
    const TemporaryFolder folder;
    folder.write("bracket.toml", small_study("iterations = 12\n"));
    std::vector<double> goals;
    for (const char* solver : {"direct", "multigrid"}) {
        const std::string run = std::string(solver) + ".run";
        const auto result = test::upright(folder.path(), {"optimize", "bracket.toml", "--set",
                                                          std::string("run.solver=") + solver, "--out", run});
        ASSERT_EQ(result.code, 0) << result.err;
        const auto json = nlohmann::json::parse(test::text_of(folder.path() / run / "run.json"));
        goals.push_back(json["goal"]["value"].get<double>());
        EXPECT_EQ(json["method"]["solver"],
                  std::string(solver) == "direct" ? "sparse Cholesky" : "grid multigrid");
        const auto& spent = json["cost"]["iterations"];
        ASSERT_EQ(spent.size(), json["iterations"].get<std::size_t>());
        for (const auto& s : spent) {
            EXPECT_GT(s["setup"].get<double>(), 0.0);
            EXPECT_EQ(s["solver_iterations"].get<int>() > 0, std::string(solver) == "multigrid");
        }
    }
    EXPECT_NEAR(goals[1], goals[0], 5e-4 * goals[0]);
    const auto told = test::upright(folder.path(), {"check", "bracket.toml", "--no-figures"});
    EXPECT_NE(told.out.find("sparse Cholesky (quick at this size)"), std::string::npos) << told.out;
}

TEST(Program, FailuresLeaveNoHalfMadeRun) {
    const TemporaryFolder folder;
    folder.write("bracket.toml", small_study());
    const auto memory =
        test::upright(folder.path(), {"optimize", "bracket.toml", "--set", "run.memory=\"1 MB\""});
    EXPECT_EQ(memory.code, 5) << memory.err;
    EXPECT_NE(memory.err.find("[run] memory allows"), std::string::npos) << memory.err;
    EXPECT_FALSE(fs::exists(folder.path() / "bracket.run"));
    const auto absurd =
        test::upright(folder.path(), {"optimize", "bracket.toml", "--set", "load.pull.force=[0, 0, 1e300]"});
    EXPECT_EQ(absurd.code, 3) << absurd.err;
    EXPECT_NE(absurd.err.find("beyond what any part has"), std::string::npos) << absurd.err;
    EXPECT_FALSE(fs::exists(folder.path() / "bracket.run"));
    const auto unwritable =
        test::upright(folder.path(), {"optimize", "bracket.toml", "--out", "/proc/nowhere.run"});
    EXPECT_EQ(unwritable.code, 6) << unwritable.err;
    folder.write("file.run", "x");
    EXPECT_EQ(test::upright(folder.path(), {"optimize", "bracket.toml", "--out", "file.run"}).code, 6);
    const auto no_figures = test::upright(folder.path(), {"check", "bracket.toml", "--out", "/proc/figures"});
    EXPECT_EQ(no_figures.code, 6) << no_figures.err;
}

namespace {

// Runs a command in a folder and sends it SIGINT once `ready` (shell) holds. Returns its exit code.
int interrupted(const TemporaryFolder& folder, const std::vector<std::string>& words,
                const std::string& ready) {
    for (const char* earlier : {"told", "wrong"}) fs::remove(folder.path() / earlier);
    std::string command = test::shell_quoted(UPRIGHT_PROGRAM);
    for (const std::string& word : words) command += " " + test::shell_quoted(word);
    const int status = std::system(("cd " + test::shell_quoted(folder.path().string()) + " && { " + command +
                                    " > told 2> wrong & p=$!; while ! " + ready +
                                    " && kill -0 $p; do sleep 0.01; done; kill -INT $p; wait $p; }")
                                       .c_str());
    return WEXITSTATUS(status);
}

} // namespace

TEST(Program, InterruptWritesACheckpointAndResumeEndsTheSame) {
    const TemporaryFolder folder;
    folder.write("bracket.toml", small_study("iterations = 30\nkeep_every = 100\n"));
    EXPECT_EQ(test::upright(folder.path(), {"optimize", "bracket.toml", "--out", "whole.run"}).code, 0);
    // The signal comes once the first iteration is written; whatever iteration it meets, the end must be the
    // same.
    ASSERT_EQ(interrupted(folder, {"optimize", "bracket.toml", "--out", "parts.run"},
                          "[ -s parts.run/history.csv ]"),
              130);
    EXPECT_EQ(nlohmann::json::parse(test::text_of(folder.path() / "parts.run/run.json"))["status"],
              "interrupted");
    const auto resumed =
        test::upright(folder.path(), {"optimize", "bracket.toml", "--out", "parts.run", "--resume"});
    EXPECT_EQ(resumed.code, 0) << resumed.err;
    const auto without_seconds = [&](const char* run) {
        std::istringstream in(test::text_of(folder.path() / run / "history.csv"));
        std::string line;
        std::string out;
        while (std::getline(in, line)) {
            std::size_t comma = 0;
            for (int i = 0; i < 4; ++i) comma = line.find(',', comma) + 1;
            out += line.substr(0, comma) + line.substr(line.find(',', comma)) + "\n";
        }
        return out;
    };
    EXPECT_EQ(without_seconds("whole.run"), without_seconds("parts.run"));
    // The log goes on too.
    EXPECT_NE(test::text_of(folder.path() / "parts.run/log.txt").find("interrupted"), std::string::npos);
    const auto ended =
        test::upright(folder.path(), {"optimize", "bracket.toml", "--out", "parts.run", "--resume"});
    EXPECT_EQ(ended.code, 3);
    EXPECT_NE(ended.err.find("has ended"), std::string::npos) << ended.err;
    const auto changed = test::upright(folder.path(), {"optimize", "bracket.toml", "--out", "whole.run",
                                                       "--resume", "--set", "response.budget.max=0.3"});
    EXPECT_EQ(changed.code, 3);
    EXPECT_NE(changed.err.find("has changed"), std::string::npos);
}

namespace {

// Least mass under bounds on displacement, stress and a frequency, in two static cases and a modal one.
std::string bounded_study(const std::string& run) {
    std::string text = small_study(run);
    text += R"(
[[case]]
name = "hum"
kind = "modal"
supports = ["clamp"]
modes = 2
[[response]]
name = "weight"
measure = "mass"
[[response]]
name = "sag"
measure = "displacement"
at = "tip"
max = 0.012
[[response]]
name = "strength"
measure = "stress"
max = "20% of yield"
except = "root"
[[response]]
name = "pitch"
measure = "frequency"
min = "1.5 kHz"
)";
    return text;
}

const std::vector<std::string> least_mass{"--set", "goal.minimize=weight", "--set",
                                          "response.budget.active=false"};

std::vector<std::string> with(std::vector<std::string> words, const std::vector<std::string>& more) {
    words.insert(words.end(), more.begin(), more.end());
    return words;
}

// Lines that were broken for the terminal as one.
std::string unwrapped(const std::string& text) {
    return std::regex_replace(text, std::regex("\\s+"), " ");
}

// history.csv but for the seconds.
std::string history_of(const fs::path& run) {
    std::istringstream in(test::text_of(run / "history.csv"));
    std::string line;
    std::string out;
    while (std::getline(in, line)) {
        std::size_t comma = 0;
        for (int i = 0; i < 4; ++i) comma = line.find(',', comma) + 1;
        out += line.substr(0, comma) + line.substr(line.find(',', comma)) + "\n";
    }
    return out;
}

} // namespace

TEST(Program, AnyMeasureBoundsAnyOther) {
    const TemporaryFolder folder;
    folder.write("bracket.toml", bounded_study("iterations = 40\nfilter = 12.5\n"));
    const auto done = test::upright(folder.path(), with({"optimize", "bracket.toml"}, least_mass));
    EXPECT_EQ(done.code, 0) << done.err << done.out;
    EXPECT_NE(done.out.find("sag@bend/1"), std::string::npos) << done.out;
    EXPECT_NE(done.out.find("holds every bound"), std::string::npos) << done.out;
    const auto report = nlohmann::json::parse(test::text_of(folder.path() / "bracket.run/run.json"));
    EXPECT_EQ(report["method"]["optimizer"], "moving asymptotes");
    EXPECT_TRUE(report["feasible"]);
    EXPECT_EQ(report["goal"]["name"], "weight");
    bool found = false;
    for (const auto& r : report["responses"])
        if (r["name"] == "pitch") {
            found = true;
            EXPECT_EQ(r["case"], "hum");
            EXPECT_DOUBLE_EQ(r["min"], 1500.0);
            EXPECT_GE(r["value"], 1498.5);
            EXPECT_TRUE(r["holds"]);
        }
    EXPECT_TRUE(found);
    EXPECT_GT(report["cost"]["iterations"][5]["modes"], 0.0);
    // Modes of the design are drawn as those of an analysis are.
    const auto drawn = test::upright(folder.path(), {"plot", "bracket.run", "--what", "mode", "--mode", "2"});
    EXPECT_EQ(drawn.code, 0) << drawn.err;
    EXPECT_TRUE(fs::exists(folder.path() / "bracket.run/figures/mode-hum-2.png"));
    EXPECT_EQ(test::upright(folder.path(), {"plot", "bracket.run", "--what", "mode", "--mode", "9"}).code, 2);
    EXPECT_EQ(test::upright(folder.path(), {"plot", "bracket.run", "--what", "history"}).code, 0);
}

TEST(Program, WhoReadsNoFurtherStopsNothingAndAFullOutputIsTold) {
    const TemporaryFolder folder;
    folder.write("bracket.toml", small_study("iterations = 3\n"));
    const std::string here = "cd " + test::shell_quoted(folder.path().string()) + " && ";
    const std::string program = test::shell_quoted(UPRIGHT_PROGRAM);
    ASSERT_EQ(
        std::system(
            (here + "{ " + program + " optimize bracket.toml; echo $? > code; } | head -c 1 >first").c_str()),
        0);
    EXPECT_EQ(test::text_of(folder.path() / "code"), "0\n");
    EXPECT_TRUE(fs::exists(folder.path() / "bracket.run" / "run.json"));
    for (const char* words : {" check bracket.toml --no-figures", " materials", " --help", " --version"}) {
        const int status = std::system((here + program + words + " >/dev/full 2>told").c_str());
        EXPECT_EQ(WEXITSTATUS(status), 6) << words;
        EXPECT_EQ(test::text_of(folder.path() / "told"),
                  "standard output: cannot be written: what was to be told is lost.\n")
            << words;
        EXPECT_EQ(WEXITSTATUS(std::system((here + program + words + " >&- 2>told").c_str())), 0) << words;
    }
}

TEST(Program, AFileBeyondTheLimitIsToldAndNothingHalfWrittenStays) {
    const TemporaryFolder folder;
    folder.write("bracket.toml", small_study("iterations = 3\n"));
    const auto out = test::upright(folder.path(), {"optimize", "bracket.toml"}, "ulimit -f 4 &&");
    EXPECT_EQ(out.code, 6) << out.err;
    EXPECT_NE(out.err.find("bracket.run"), std::string::npos) << out.err;
    EXPECT_EQ(test::upright(folder.path(), {"optimize", "bracket.toml", "--force"}).code, 0);
}

TEST(Program, WithoutPicturesResultsStay) {
    const TemporaryFolder folder;
    folder.write("bracket.toml", small_study("iterations = 20\n"));
    const std::string none = "__EGL_VENDOR_LIBRARY_FILENAMES=/nowhere.json";
    const auto told = [&](const std::vector<std::string>& words) {
        const auto out = test::upright(folder.path(), words, none);
        EXPECT_EQ(out.code, 0) << words[0] << ": " << out.err;
        EXPECT_NE(out.out.find("no picture can be drawn"), std::string::npos) << words[0] << ": " << out.out;
    };
    told({"check", "bracket.toml"});
    told({"analyze", "bracket.toml"});
    EXPECT_TRUE(fs::exists(folder.path() / "bracket.analysis" / "analysis.json"));
    told({"model", "bracket.toml"});
    EXPECT_EQ(test::upright(folder.path(), {"optimize", "bracket.toml"}, none).code, 0);
    told({"carve", "bracket.run"});
    told({"verify", "bracket.run"});
    EXPECT_TRUE(fs::exists(folder.path() / "bracket.run" / "verify" / "verify.json"));
    told({"inspect", "bracket.run/part.stl"});
    EXPECT_EQ(test::upright(folder.path(), {"report", "bracket.run"}, none).code, 0);
    EXPECT_NE(test::text_of(folder.path() / "bracket.run" / "report.html").find("no picture can be drawn"),
              std::string::npos);
    // A picture alone is what is asked for here.
    EXPECT_EQ(test::upright(folder.path(), {"plot", "bracket.run"}, none).code, 6);
}

// A disk that is mounted for reading, or the folder of a colleague: what was there is looked at, what is to
// be written is told with a name.
TEST(Program, OnAReadOnlyDiskRunsAreLookedAt) {
    const TemporaryFolder folder;
    folder.write("bracket.toml", small_study("iterations = 12\n"));
    ASSERT_EQ(test::upright(folder.path(), {"optimize", "bracket.toml"}).code, 0);
    const std::string read_only =
        R"(unshare -rm sh -c 'mount --bind . . && mount -o remount,ro,bind . && cd "$PWD" && exec "$@"' sh)";
    if (test::upright(folder.path(), {"--version"}, read_only).code != 0)
        GTEST_SKIP() << "nothing can be mounted here";
    const auto before = std::distance(fs::recursive_directory_iterator(folder.path()), {});
    const auto refused = [&](const std::vector<std::string>& words) {
        const auto out = test::upright(folder.path(), words, read_only);
        EXPECT_EQ(out.code, 6) << words[0] << ": " << out.err;
        EXPECT_NE(out.err.find("Read-only file system"), std::string::npos) << words[0] << ": " << out.err;
    };
    refused({"check", "bracket.toml"});
    refused({"analyze", "bracket.toml"});
    refused({"model", "bracket.toml"});
    refused({"optimize", "bracket.toml", "--force"});
    refused({"optimize", "bracket.toml", "--resume"});
    refused({"carve", "bracket.run"});
    refused({"verify", "bracket.run"});
    refused({"report", "bracket.run"});
    refused({"plot", "bracket.run"});
    refused({"sweep", "bracket.toml", "--vary", "run.filter=8,10"});
    EXPECT_EQ(test::upright(folder.path(), {"compare", "bracket.run", "bracket.run"}, read_only).code, 0);
    // A run that is over is not said to go on because its lock cannot be written.
    const auto watched = test::upright(folder.path(), {"watch", "bracket.run", "--once"}, read_only);
    EXPECT_EQ(watched.code, 0) << watched.err;
    EXPECT_EQ(watched.out.find("goes on"), std::string::npos) << watched.out;
    const auto after = std::distance(fs::recursive_directory_iterator(folder.path()), {});
    EXPECT_EQ(before, after);
}

// The linear algebra library tries for ever where it finds no room for its buffers.
TEST(Program, TooLittleMemoryIsToldAndNotWaitedFor) {
    if (test::sanitized) GTEST_SKIP() << "sanitizers take address space of their own";
    const TemporaryFolder folder;
    folder.write("bracket.toml", small_study("iterations = 3\nsolver = \"direct\"\n"));
    int told = 0;
    for (int megabytes = 160; megabytes <= 640; megabytes += 60) {
        const auto out = test::upright(folder.path(), {"optimize", "bracket.toml", "--force"},
                                       "ulimit -v " + std::to_string(1000 * megabytes) +
                                           " && OMP_NUM_THREADS=1 timeout 60");
        EXPECT_TRUE(out.code == 0 || out.code == 5 || out.code == 6)
            << megabytes << ": " << out.code << out.err;
        EXPECT_EQ(out.err.find("unexpected"), std::string::npos) << megabytes << out.err;
        if (out.code != 0) EXPECT_NE(out.err.find(". "), std::string::npos) << megabytes << out.err;
        told += out.code == 5 && out.err.find("memory") != std::string::npos ? 1 : 0;
    }
    EXPECT_GE(told, 1);
    EXPECT_EQ(test::upright(folder.path(), {"optimize", "bracket.toml", "--force"}).code, 0);
}

// Memory that runs out on a thread of the linear algebra or of ours ended the program by a signal.
TEST(Program, TooLittleMemoryForAPartIsTold) {
    if (test::sanitized) GTEST_SKIP() << "sanitizers take address space of their own";
    const TemporaryFolder folder;
    folder.write("bracket.toml", small_study(R"(iterations = 20
[[case]]
name = "hum"
kind = "modal"
supports = "clamp"
modes = 4
)"));
    const auto run = test::upright(folder.path(), {"optimize", "bracket.toml"});
    ASSERT_EQ(run.code, 0) << run.err;
    int told = 0;
    const auto with_memory = [&](const char* word, int megabytes) {
        const auto out = test::upright(folder.path(), {word, "bracket.run"},
                                       "ulimit -v " + std::to_string(1000 * megabytes) +
                                           " && OMP_NUM_THREADS=2 timeout 60");
        EXPECT_TRUE(out.code == 0 || out.code == 5 || out.code == 6)
            << word << " " << megabytes << ": " << out.code << out.err;
        if (out.code != 0) EXPECT_NE(out.err.find(". "), std::string::npos) << megabytes << out.err;
        told += out.code == 5 ? 1 : 0;
    };
    for (int megabytes = 170; megabytes <= 240; megabytes += 10) with_memory("verify", megabytes);
    with_memory("carve", 160);
    EXPECT_GE(told, 2);
    EXPECT_EQ(test::upright(folder.path(), {"verify", "bracket.run"}).code, 0);
}

TEST(Program, KilledAtAnyMomentAndResumedEndsTheSame) {
    const TemporaryFolder folder;
    // On the multigrid, whose solves start from the last ones.
    folder.write("bracket.toml", bounded_study("iterations = 16\nkeep_every = 3\nsolver = \"multigrid\"\n"));
    const std::vector<std::string> study = with({"optimize", "bracket.toml"}, least_mass);
    test::upright(folder.path(), with(study, {"--out", "whole.run"}));
    test::upright(folder.path(), with(study, {"--out", "again.run"}));
    EXPECT_EQ(history_of(folder.path() / "whole.run"), history_of(folder.path() / "again.run"));
    std::string words;
    for (const std::string& word : with(study, {"--out", "parts.run"}))
        words += " " + test::shell_quoted(word);
    // Killed once the fifth row is there: the checkpoint is that of the third.
    const int status = std::system(("cd " + test::shell_quoted(folder.path().string()) + " && { " +
                                    test::shell_quoted(UPRIGHT_PROGRAM) + words +
                                    " >/dev/null 2>&1 & p=$!; while [ ! -s parts.run/history.csv ] || [ $(wc "
                                    "-l < parts.run/history.csv) "
                                    "-lt 6 ] && kill -0 $p; do sleep 0.01; done; kill -KILL $p; wait $p; }")
                                       .c_str());
    ASSERT_EQ(WEXITSTATUS(status), 137);
    const auto resumed = test::upright(folder.path(), with(study, {"--out", "parts.run", "--resume"}));
    EXPECT_TRUE(resumed.code == 0 || resumed.code == 4) << resumed.err;
    EXPECT_EQ(history_of(folder.path() / "whole.run"), history_of(folder.path() / "parts.run"));
}

// As a run is left that is killed after its last iteration, whatever its number, and before it said how it
// ended.
TEST(Program, KilledAfterItsLastIterationItEndsTheSame) {
    const TemporaryFolder folder;
    folder.write("bracket.toml", bounded_study("keep_every = 3\niterations = 12\n"));
    const std::vector<std::string> study = with(
        {"optimize", "bracket.toml"}, with(least_mass, {"--set", "mesh.size=10", "--set", "run.filter=25"}));
    const int code = test::upright(folder.path(), study).code;
    const fs::path run = folder.path() / "bracket.run";
    const auto history = history_of(run);
    const std::string step = test::text_of(run / "steps/0012.h5");
    const auto ended = nlohmann::json::parse(test::text_of(run / "run.json"));
    fs::remove(run / "run.json");
    std::ofstream(run / "steps/.0012.0123456789abcdef.part.h5") << "half";
    const auto resumed = test::upright(folder.path(), with(study, {"--resume"}));
    EXPECT_EQ(resumed.code, code) << resumed.err;
    EXPECT_EQ(history_of(run), history);
    EXPECT_EQ(test::text_of(run / "steps/0012.h5"), step);
    const auto again = nlohmann::json::parse(test::text_of(run / "run.json"));
    for (const char* key : {"status", "iterations", "goal", "feasible"})
        EXPECT_EQ(again[key], ended[key]) << key;
    EXPECT_FALSE(fs::exists(run / "steps/.0012.0123456789abcdef.part.h5"));
}

TEST(Program, GradientsOfEveryResponseAreShownAndRight) {
    const TemporaryFolder folder;
    folder.write("bracket.toml", bounded_study("filter = 12.5\n"));
    const auto shown = test::upright(folder.path(), {"check", "bracket.toml", "--gradients", "--no-figures",
                                                     "--set", "mesh.size=10", "--set", "run.filter=25"});
    EXPECT_EQ(shown.code, 0) << shown.err;
    int rows = 0;
    std::istringstream in(shown.out);
    for (std::string line; std::getline(in, line);) {
        for (const char* name : {"  stiffness  ", "  sag@bend/1", "  strength@bend/2", "  pitch (mode 1)"})
            if (line.rfind(name, 0) == 0 && line.find("e-") != std::string::npos) {
                ++rows;
                std::istringstream words(line.substr(30));
                std::string measure;
                double value = 0.0;
                double slope = 0.0;
                double difference = 0.0;
                double error = 1.0;
                words >> measure >> value >> slope >> difference >> error;
                EXPECT_LT(error, 1e-5) << line;
            }
    }
    EXPECT_EQ(rows, 4) << shown.out;
}

TEST(Program, CertificateTellsHowFarTheBestCanBe) {
    const TemporaryFolder folder;
    folder.write("bracket.toml", small_study("iterations = 40\nfilter = 12.5\n"));
    const auto done = test::upright(folder.path(), {"optimize", "bracket.toml", "--certificate"});
    EXPECT_EQ(done.code, 0) << done.err;
    EXPECT_NE(done.out.find("certificate: no design on this mesh"), std::string::npos) << done.out;
    const auto report = nlohmann::json::parse(test::text_of(folder.path() / "bracket.run/run.json"));
    const double goal = report["goal"]["value"];
    const double bound = report["certificate"]["lower_bound"];
    EXPECT_LT(bound, goal);
    EXPECT_NEAR(report["certificate"]["distance"], goal / bound - 1.0, 1e-9);
    EXPECT_LT(report["certificate"]["gap"], 0.02);
}

TEST(Program, StartsFromAnEarlierRunAlsoOnAFinerMesh) {
    const TemporaryFolder folder;
    folder.write("bracket.toml", small_study("iterations = 30\nfilter = 12.5\n"));
    ASSERT_EQ(test::upright(folder.path(), {"optimize", "bracket.toml"}).code, 0);
    const std::vector<std::string> finer{"optimize", "bracket.toml",     "--set", "mesh.size=4",
                                         "--set",    "run.iterations=6", "--out", "finer.run"};
    const auto next = test::upright(folder.path(), with(finer, {"--set", "run.start=bracket.run"}));
    EXPECT_EQ(next.code, 0) << next.err;
    EXPECT_NE(next.out.find("starting from the design of"), std::string::npos) << next.out;
    const auto coarse =
        test::upright(folder.path(), with(finer, {"--set", "run.coarse_first=true", "--force"}));
    EXPECT_EQ(coarse.code, 0) << coarse.err;
    EXPECT_NE(coarse.out.find("coarse run:"), std::string::npos) << coarse.out;
    const auto neither =
        test::upright(folder.path(), with(finer, {"--set", "run.start=nowhere.run", "--force"}));
    EXPECT_EQ(neither.code, 3);
    EXPECT_NE(neither.err.find("there is no run"), std::string::npos) << neither.err;
}

TEST(Program, AStressRunOnSmallCellsBeginsWithACoarseOne) {
    const TemporaryFolder folder;
    folder.write("bracket.toml", bounded_study("iterations = 40\nkeep_every = 3\n"));
    const std::vector<std::string> study =
        with({"optimize", "bracket.toml"}, with(least_mass, {"--set", "run.filter=20"}));
    const auto check = test::upright(folder.path(), with({"check", "bracket.toml", "--no-figures"},
                                                         with(least_mass, {"--set", "run.filter=20"})));
    EXPECT_NE(unwrapped(check.out).find("from a uniform density, by a run on cells twice as large"),
              std::string::npos)
        << check.out;
    const auto whole = test::upright(folder.path(), with(study, {"--out", "whole.run"}));
    EXPECT_NE(whole.out.find("coarse run on 2 times the cell size"), std::string::npos) << whole.out;
    const auto plain =
        test::upright(folder.path(), with(study, {"--out", "plain.run", "--set", "run.coarse_first=false"}));
    EXPECT_EQ(plain.out.find("coarse run"), std::string::npos) << plain.out;
    EXPECT_NE(history_of(folder.path() / "whole.run"), history_of(folder.path() / "plain.run"));
    const auto start = [&](const char* run) {
        return nlohmann::json::parse(test::text_of(folder.path() / run / "run.json"))["method"]["start"];
    };
    EXPECT_EQ(start("whole.run"), "a uniform density, by a run on cells twice as large");
    EXPECT_EQ(start("plain.run"), "a uniform density");
    // Stopped in the fine run, it goes on to the same end.
    EXPECT_EQ(interrupted(folder, with(study, {"--out", "parts.run"}), "[ -s parts.run/history.csv ]"), 130);
    test::upright(folder.path(), with(study, {"--out", "parts.run", "--resume"}));
    EXPECT_EQ(history_of(folder.path() / "whole.run"), history_of(folder.path() / "parts.run"));
    // Stopped in the coarse run, nothing is left, and an earlier run stays.
    const std::vector<std::string> finer =
        with(study, {"--set", "mesh.size=2.5", "--set", "run.filter=12.5", "--set", "run.iterations=1000"});
    const std::string coarse = "grep -q 'coarse run on' told";
    EXPECT_EQ(interrupted(folder, with(finer, {"--out", "none.run"}), coarse), 130);
    const std::string wrong = test::text_of(folder.path() / "wrong");
    EXPECT_NE(wrong.find("stopped in the coarse run"), std::string::npos)
        << wrong << test::text_of(folder.path() / "told");
    EXPECT_FALSE(fs::exists(folder.path() / "none.run"));
    const std::string before = test::text_of(folder.path() / "plain.run/run.json");
    EXPECT_EQ(interrupted(folder, with(finer, {"--out", "plain.run", "--force"}), coarse), 130);
    EXPECT_EQ(test::text_of(folder.path() / "plain.run/run.json"), before);
}

TEST(Program, ACoarseRunFirstServesDesignsMadeThreeTimesOrSaysWhatItCannot) {
    const TemporaryFolder folder;
    folder.write("bracket.toml", small_study("iterations = 6\n"));
    const std::vector<std::string> coarse{"optimize", "bracket.toml", "--force", "--set",
                                          "run.coarse_first=true"};
    // It was told that sharpen = false, which nobody wrote, cannot be.
    const auto strict = test::upright(
        folder.path(),
        with(coarse, {"--set", "form.min_feature={ size = 40, strict = true }", "--set", "mesh.size=5"}));
    EXPECT_EQ(strict.code & ~4, 0) << strict.err;
    EXPECT_NE(strict.out.find("coarse run: iteration"), std::string::npos) << strict.out;
    // What is wrong on the larger cells alone is said of them.
    const auto feature =
        test::upright(folder.path(), with(coarse, {"--set", "form.max_feature=40", "--set", "mesh.size=10"}));
    EXPECT_EQ(feature.code, 3);
    EXPECT_NE(unwrapped(feature.err).find("the coarse run first, on cells 2 times as large: max_feature"),
              std::string::npos)
        << feature.err;
    EXPECT_NE(feature.err.find("coarse_first = false"), std::string::npos) << feature.err;
}

TEST(Program, BoundsOutOfReachAreSaidBeforeTheRun) {
    const TemporaryFolder folder;
    folder.write("bracket.toml", bounded_study("iterations = 10\n"));
    const auto never = test::upright(folder.path(), with(with({"optimize", "bracket.toml"}, least_mass),
                                                         {"--set", "response.sag.max=1e-5"}));
    EXPECT_EQ(never.code, 3);
    EXPECT_NE(never.err.find("with all material it is"), std::string::npos) << never.err;
    EXPECT_FALSE(fs::exists(folder.path() / "bracket.run"));
    const auto light =
        test::upright(folder.path(), {"optimize", "bracket.toml", "--set", "response.sag.max=0.0065", "--set",
                                      "response.budget.max=0.1"});
    EXPECT_EQ(light.code, 4) << light.err;
    EXPECT_NE(light.out.find("NOT FEASIBLE"), std::string::npos) << light.out;
}

TEST(Program, StrictCheckCountsDoubts) {
    const TemporaryFolder folder;
    folder.write("bracket.toml", small_study());
    EXPECT_EQ(test::upright(folder.path(), {"check", "bracket.toml", "--strict", "--no-figures"}).code, 0);
    EXPECT_EQ(test::upright(folder.path(),
                            {"check", "bracket.toml", "--strict", "--no-figures", "--set", "run.filter=6"})
                  .code,
              3);
    const auto unheld = test::upright(
        folder.path(), {"check", "bracket.toml", "--no-figures", "--set", "support.clamp.hold=[\"x\"]"});
    EXPECT_EQ(unheld.code, 3);
    EXPECT_NE(unheld.out.find("NOT READY"), std::string::npos);
    EXPECT_FALSE(fs::exists(folder.path() / "bracket.check"));
}

TEST(Program, ABoundThatDoesNotHoldIsExitCode4) {
    const TemporaryFolder folder;
    std::string text = small_study("iterations = 1\n");
    text.replace(text.find("max = 0.4"), 9, "");
    folder.write("bracket.toml", text);
    // One iteration from half density cannot meet a bound near the full solid's compliance.
    const auto run =
        test::upright(folder.path(), {"optimize", "bracket.toml", "--set", "goal.minimize=budget", "--set",
                                      "response.stiffness.max=14"});
    EXPECT_EQ(run.code, 4) << run.out << run.err;
    EXPECT_NE(run.out.find("broken by"), std::string::npos);
}

// Titles, names and paths are text to the chart's program, whatever they hold.
TEST(Plot, RunsNoCommandsFromTitlesNamesOrPaths) {
    const TemporaryFolder folder;
    std::string study = small_study("iterations = 3\n");
    study.replace(study.find("Small bracket"), 13, "`touch title` $(touch dollar) 'touch quote'");
    const std::string name = "a`touch name`'; system 'touch single'";
    for (std::size_t at = study.find("stiffness"); at != std::string::npos;
         at = study.find("stiffness", at + 1))
        study.replace(at, 9, name);
    folder.write("s`touch path`.toml", study);
    ASSERT_EQ(test::upright(folder.path(), {"optimize", "s`touch path`.toml", "--quiet"}).code, 0);
    const auto plotted = test::upright(folder.path(), {"plot", "s`touch path`.run", "--what", "history"});
    EXPECT_EQ(plotted.code, 0) << plotted.err;
    EXPECT_TRUE(is_png(folder.path() / "s`touch path`.run/figures/history.png", 1280, 800));
    // A newline in a title must not end the text it stands in.
    std::string broken = small_study("iterations = 3\n");
    broken.replace(broken.find("\"Small bracket\""), 15, "\"one\\nset output 'newline'\\nprint 1\"");
    folder.write("n.toml", broken);
    ASSERT_EQ(test::upright(folder.path(), {"optimize", "n.toml", "--quiet"}).code, 0);
    EXPECT_EQ(
        test::upright(folder.path(), {"plot", "n.run", "--what", "history", "--out", "q'\n`touch out`.png"})
            .code,
        0);
    for (const char* made : {"title", "dollar", "quote", "name", "single", "path", "newline", "out"})
        EXPECT_FALSE(fs::exists(folder.path() / made)) << made;
}

TEST(Plot, SaysWhenTheChartProgramIsMissingOrDies) {
    const TemporaryFolder folder;
    folder.write("s.toml", small_study("iterations = 3\n"));
    ASSERT_EQ(test::upright(folder.path(), {"optimize", "s.toml", "--quiet"}).code, 0);
    fs::create_directory(folder.path() / "empty");
    fs::create_directory(folder.path() / "dies");
    folder.write("dies/gnuplot", "#!/bin/sh\nexec 0<&-\nexit 3\n");
    fs::permissions(folder.path() / "dies/gnuplot", fs::perms::owner_all);
    for (const char* path : {"empty", "dies"})
        for (int i = 0; i < 4; ++i) {
            const auto out = test::upright(folder.path(), {"plot", "s.run", "--what", "history"},
                                           "PATH=" + std::string(path));
            EXPECT_EQ(out.code, 6) << path << out.err;
            EXPECT_NE(out.err.find("gnuplot"), std::string::npos);
            EXPECT_FALSE(fs::exists(folder.path() / "s.run/figures/history.png"));
        }
}

// A disk that fills up while a run goes on: one sentence, and the checkpoint that was there can be gone on
// from.
TEST(Optimize, AFullDiskLeavesTheLastCheckpointWhole) {
    const TemporaryFolder folder;
    folder.write("s.toml", small_study("iterations = 8\nkeep_every = 2\nsharpen = false\n"));
    // Files may not grow beyond a limit of blocks of 512 bytes, as those of a full disk.
    for (const int blocks : {8, 100, 200, 300, 500, 700}) {
        const std::string limit = "trap '' XFSZ; ulimit -f " + std::to_string(blocks) + ";";
        const auto out = test::upright(folder.path(), {"optimize", "s.toml", "--force", "--quiet"}, limit);
        EXPECT_TRUE(out.code == 6 || out.code == 0) << blocks << ": " << out.code << out.err;
        if (out.code == 6) EXPECT_NE(out.err.find("cannot be written"), std::string::npos) << out.err;
        if (fs::exists(folder.path() / "s.run/steps/checkpoint.h5") && out.code == 6) {
            const auto again = test::upright(folder.path(), {"optimize", "s.toml", "--resume", "--quiet"});
            EXPECT_TRUE(again.code == 0 || again.code == 3) << again.err;
        }
        for (const auto& entry : fs::recursive_directory_iterator(folder.path()))
            EXPECT_EQ(entry.path().filename().string().find(".part"), std::string::npos) << entry.path();
    }
}

TEST(Optimize, ForceKeepsTheOldRunUntilTheNewOneStands) {
    const TemporaryFolder folder;
    folder.write("s.toml", small_study("iterations = 4\n"));
    ASSERT_EQ(test::upright(folder.path(), {"optimize", "s.toml", "--quiet"}).code, 0);
    folder.write("s.run/mine.txt", "precious");
    const std::string before = test::text_of(folder.path() / "s.run/run.json");
    // The kept pad alone is more than this.
    const auto out =
        test::upright(folder.path(), {"optimize", "s.toml", "--force", "--set", "response.budget.max=0.3",
                                      "--set", "response.stiffness.max=1e-9"});
    EXPECT_NE(out.code, 0) << out.out;
    EXPECT_EQ(test::text_of(folder.path() / "s.run/run.json"), before);
    EXPECT_EQ(test::text_of(folder.path() / "s.run/mine.txt"), "precious");
    // From its own result.
    const auto own = test::upright(folder.path(),
                                   {"optimize", "s.toml", "--force", "--quiet", "--set", "run.start=s.run"});
    EXPECT_EQ(own.code, 0) << own.err;
    EXPECT_EQ(test::text_of(folder.path() / "s.run/mine.txt"), "precious");
    EXPECT_NE(test::text_of(folder.path() / "s.run/run.json"), before);
}

// Whatever iteration the result is of: steps, history, report and figures say the same of it.
TEST(Optimize, EveryFileMeansTheSameDesign) {
    const TemporaryFolder folder;
    // Ten sharp iterations swing: the last one is not the best.
    folder.write("s.toml", small_study("iterations = 10\nkeep_every = 3\n"));
    for (const char* most : {"0.4", "0.35", "0.25"}) {
        ASSERT_LE(test::upright(folder.path(), {"optimize", "s.toml", "--force", "--quiet", "--set",
                                                std::string("response.budget.max=") + most})
                      .code,
                  4);
        const auto report = nlohmann::json::parse(test::text_of(folder.path() / "s.run/run.json"));
        const int of = report["design_of_iteration"];
        std::istringstream history(test::text_of(folder.path() / "s.run/history.csv"));
        std::string line;
        std::string found;
        while (std::getline(history, line))
            if (line.rfind(std::to_string(of) + ",", 0) == 0) found = line;
        std::istringstream cells(found);
        std::vector<double> row;
        for (std::string cell; std::getline(cells, cell, ',');) row.push_back(std::stod(cell));
        ASSERT_EQ(row.size(), 7U) << found;
        EXPECT_NEAR(row[1], report["goal"]["value"].get<double>(), 1e-9 * row[1]);
        EXPECT_NEAR(row[3], report["grayness"].get<double>(), 1e-5);
        EXPECT_NEAR(row[5], report["responses"][0]["value"].get<double>(), 1e-9 * row[5]);
        EXPECT_NEAR(row[6], report["responses"][1]["value"].get<double>(), 1e-9);
        EXPECT_TRUE(fs::exists(folder.path() / step_file(of)));
        EXPECT_TRUE(fs::exists(folder.path() / step_file(report["iterations"])));
        EXPECT_EQ(report["cases"][0]["loads"]["pull"], 1.0);
        EXPECT_EQ(report["cases"][1]["loads"]["pull"], -1.0);
        EXPECT_GT(report["largest_stress"]["value"].get<double>(), 0.0);
        EXPECT_EQ(report["largest_displacement"]["value"].get<double>() >=
                      report["cases"][0]["largest_displacement"]["value"].get<double>(),
                  true);
    }
}

TEST(Optimize, AFailedRunLeavesItsLog) {
    const TemporaryFolder folder;
    folder.write("s.toml", small_study("iterations = 4\n"));
    // The model is larger than a file may be.
    const auto out = test::upright(folder.path(), {"optimize", "s.toml"}, "trap '' XFSZ; ulimit -f 100;");
    ASSERT_EQ(out.code, 6) << out.err;
    EXPECT_NE(test::text_of(folder.path() / "s.run/log.txt").find("model.h5: cannot be written"),
              std::string::npos);
    EXPECT_EQ(nlohmann::json::parse(test::text_of(folder.path() / "s.run/run.json"))["status"], "failed");
}

TEST(Inspect, ListsArraysOfSeveralNumbers) {
    const TemporaryFolder folder;
    folder.write("s.toml", small_study("iterations = 2\n"));
    ASSERT_EQ(test::upright(folder.path(), {"optimize", "s.toml", "--quiet"}).code, 0);
    const auto out = test::upright(folder.path(), {"inspect", "s.run/cases/bend.1.vtu"});
    EXPECT_EQ(out.code, 0) << out.err;
    EXPECT_NE(out.out.find("displacement             3 numbers each"), std::string::npos) << out.out;
}

// The design on a mesh that came from a file is drawn cell by cell; nothing of it can be carved.
TEST(Plot, DrawsTheDesignOnAMeshFromAFile) {
    const TemporaryFolder folder;
    folder.write("s.toml", small_study("iterations = 2\n"));
    ASSERT_EQ(test::upright(folder.path(), {"optimize", "s.toml", "--quiet"}).code, 0);
    std::string study = small_study("iterations = 8\n");
    for (const auto& [box, cells] :
         {std::pair<std::string, std::string>{"box = [[0, 0, 0], [80, 40, 40]]", "0"},
          {"box = [[70, 0, 0], [80, 40, 40]]", "1"}})
        study.replace(study.find(box), box.size(), "cells = { array = \"region\", value = " + cells + " }");
    study.replace(study.find("size = \"5 mm\""), 13, "kind = \"file\"\nfile = \"s.run/design.vtu\"");
    folder.write("f.toml", study);
    const auto run = test::upright(folder.path(), {"optimize", "f.toml", "--quiet"});
    ASSERT_EQ(run.code, 0) << run.err;
    const auto out = test::upright(folder.path(), {"plot", "f.run", "--what", "density", "--at", "0.3"});
    EXPECT_EQ(out.code, 0) << out.err;
    EXPECT_TRUE(is_png(folder.path() / "f.run/figures/density.png", 1280, 800));
    // And its part, proved on faces that the file has.
    const auto carved = test::upright(folder.path(), {"carve", "f.run", "--at", "0.3"});
    EXPECT_EQ(carved.code, 0) << carved.out << carved.err;
    const auto verified = test::upright(folder.path(), {"verify", "f.run", "--at", "0.3", "--no-figures"});
    EXPECT_TRUE(verified.code == 0 || verified.code == 4) << verified.err;
    EXPECT_NE(verified.out.find("compliance"), std::string::npos) << verified.out;
    // What was carved is read again as a mesh of its own.
    ASSERT_EQ(test::upright(folder.path(), {"carve", "f.run", "--at", "0.3", "--out", "part.vtu"}).code, 0);
    const auto again = test::upright(folder.path(), {"inspect", "part.vtu"});
    EXPECT_EQ(again.code, 0) << again.err;
    EXPECT_NE(again.out.find("tet4"), std::string::npos) << again.out;
}

// The thickness of regions is in the ledger and in model.vtu; modal cases are drawn with what holds them.
TEST(Check, ShowsThicknessAndDrawsModalCases) {
    const TemporaryFolder folder;
    folder.write("p.toml", R"(units = ["mm", "N", "s"]
[[region]]
name = "thin"
role = "design"
material = "S235"
box = [[0, 0], [40, 20]]
[[region]]
name = "thick"
role = "keep"
material = "S235"
box = [[40, 0], [60, 20]]
thickness = "6 mm"
[[surface]]
name = "root"
of = "thin"
facing = [-1, 0]
[[support]]
name = "clamp"
on = "root"
hold = ["x", "y"]
[[case]]
name = "hum"
kind = "modal"
supports = "clamp"
modes = 2
[mesh]
size = 2
element = "plane-stress"
thickness = "2 mm"
)");
    const auto check = test::upright(folder.path(), {"check", "p.toml"});
    EXPECT_EQ(check.code, 0) << check.err;
    std::string words; // lines may break anywhere
    for (const char c : check.out)
        if (!std::isspace(static_cast<unsigned char>(c))) words += c;
    EXPECT_NE(words.find("2mmthick;aswrittenabout1600mm3"), std::string::npos) << check.out;
    EXPECT_NE(words.find("6mmthick;aswrittenabout2400mm3"), std::string::npos) << check.out;
    EXPECT_NE(words.find("volume2400mm3"), std::string::npos) << check.out;
    EXPECT_TRUE(is_png(folder.path() / "p.check/case-hum.png", 1280, 800));
    ASSERT_EQ(test::upright(folder.path(), {"model", "p.toml", "--no-figures"}).code, 0);
    const auto arrays = test::upright(folder.path(), {"inspect", "p.model/model.vtu"});
    const auto at = arrays.out.find("  thickness");
    ASSERT_NE(at, std::string::npos) << arrays.out;
    EXPECT_NE(arrays.out.find("values 2 6", at), std::string::npos) << arrays.out;
}

// Each from another start, a run of its own; the best is named, and every one can be looked at.
TEST(Restarts, EachIsARunThatOtherCommandsTakeByNumber) {
    const TemporaryFolder folder;
    folder.write("s t.toml", small_study("iterations = 12\nsharpen = false\n"));
    const auto done = test::upright(folder.path(), {"optimize", "s t.toml", "--restarts", "3"});
    EXPECT_EQ(done.code, 0) << done.err << done.out;
    const fs::path run = folder.path() / "s t.run";
    const auto report = nlohmann::json::parse(test::text_of(run / "run.json"));
    const auto& rows = report.at("restarts").at("runs");
    ASSERT_EQ(rows.size(), 3U);
    double best = 1e300;
    int number = 0;
    double worst = 0.0;
    for (const auto& row : rows) {
        const auto own =
            nlohmann::json::parse(test::text_of(run / row.at("folder").get<std::string>() / "run.json"));
        EXPECT_EQ(row.at("goal"), own.at("goal").at("value")); // of densities: sharpen = false
        EXPECT_EQ(row.at("iterations"), own.at("iterations"));
        EXPECT_TRUE(row.at("feasible"));
        worst = std::max(worst, row.at("goal").get<double>());
        if (row.at("goal") >= best) continue;
        best = row.at("goal");
        number = row.at("number");
    }
    EXPECT_EQ(report["restarts"]["best"], number);
    EXPECT_NEAR(report["restarts"]["spread"].get<double>(), worst / best - 1.0, 1e-12);
    EXPECT_NE(done.out.find("best of 3 starts: run " + std::to_string(number)), std::string::npos)
        << done.out;
    // They began elsewhere.
    EXPECT_NE(history_of(run / "restarts/2"), history_of(run / "restarts/3"));
    EXPECT_NE(test::text_of(run / "restarts/3/study.toml").find("random 1"), std::string::npos);
    EXPECT_EQ(test::upright(folder.path(), {"carve", "s t.run", "--restart", "3"}).code, 0);
    EXPECT_TRUE(fs::exists(run / "restarts/3/part.stl"));
    EXPECT_FALSE(fs::exists(run / "part.stl"));
    EXPECT_EQ(test::upright(folder.path(), {"plot", "s t.run", "--restart", "2", "--what", "history"}).code,
              0);
    EXPECT_EQ(test::upright(folder.path(), {"carve", "s t.run", "--restart", "4"}).code, 3);
    // More of them later; those that have ended stay as they are.
    const std::string second = test::text_of(run / "restarts/2/run.json");
    EXPECT_EQ(test::upright(folder.path(), {"optimize", "s t.toml", "--restarts", "4", "--resume"}).code, 0);
    EXPECT_TRUE(fs::exists(run / "restarts/4/run.json"));
    EXPECT_EQ(test::text_of(run / "restarts/2/run.json"), second);
    // A new run takes the place of all.
    EXPECT_EQ(test::upright(folder.path(), {"optimize", "s t.toml", "--force"}).code, 0);
    EXPECT_FALSE(fs::exists(run / "restarts"));
    EXPECT_EQ(test::upright(folder.path(), {"optimize", "s t.toml", "--restarts", "0", "--force"}).code, 2);
}

// Threads are as many as OMP_NUM_THREADS says where the study does not.
TEST(Restarts, ThreadsFollowTheEnvironment) {
    const TemporaryFolder folder;
    folder.write("t.toml", small_study("iterations = 3\nsharpen = false\n"));
    const auto told = [&](const std::string& before, const std::vector<std::string>& more) {
        std::vector<std::string> words{"optimize", "t.toml", "--restarts", "2", "--force"};
        words.insert(words.end(), more.begin(), more.end());
        const auto done = test::upright(folder.path(), words, before);
        return done.out + done.err;
    };
    EXPECT_NE(told("OMP_NUM_THREADS=3 ", {}).find("1 at a time, 3 threads each"), std::string::npos);
    EXPECT_NE(told("OMP_NUM_THREADS=1 ", {}).find("1 at a time, 1 thread each"), std::string::npos);
    EXPECT_NE(told("OMP_NUM_THREADS=1 ", {"--set", "run.threads=2"}).find("1 at a time, 2 threads each"),
              std::string::npos);
}

TEST(Restarts, ARandomStartIsTheSameForTheSameNumber) {
    const TemporaryFolder folder;
    folder.write("s.toml", small_study("iterations = 3\n"));
    const auto begun = [&](const std::string& start, const std::string& out) {
        const auto done = test::upright(folder.path(), {"optimize", "s.toml", "--quiet", "--set",
                                                        "run.start=\"" + start + "\"", "--out", out});
        EXPECT_EQ(done.code, 0) << done.err;
        return history_of(folder.path() / out);
    };
    const auto one = begun("random 1", "a.run");
    EXPECT_EQ(one, begun("random 1", "b.run"));
    EXPECT_NE(one, begun("random 2", "c.run"));
    for (const char* wrong : {"random", "random x", "random -1", "randomly"})
        EXPECT_EQ(test::upright(folder.path(),
                                {"optimize", "s.toml", "--set", std::string("run.start=\"") + wrong + "\""})
                      .code,
                  3)
            << wrong;
}
