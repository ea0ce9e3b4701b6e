// A program with kinds of the tests' own: a measure, a making rule, a command and a part format, each one
// file and one line.
#define UPRIGHT_PROGRAM UPRIGHT_OWN_PROGRAM
#include "support/run_upright.hpp"

#include "support/folder.hpp"

#include <gtest/gtest.h>

using namespace upright;
namespace fs = std::filesystem;

namespace {

const char* const study = R"(title = "Bracket"
units = ["mm", "N", "s"]
[[region]]
name = "block"
role = "design"
material = "structural steel S235"
box = [[0, 0, 0], [80, 20, 40]]
[[region]]
name = "pad"
role = "keep"
material = "structural steel S235"
box = [[70, 0, 30], [80, 20, 40]]
[[surface]]
name = "root"
of = "block"
facing = [-1, 0, 0]
[[surface]]
name = "top"
of = "pad"
facing = [0, 0, 1]
[[support]]
name = "wall"
on = "root"
hold = ["x", "y", "z"]
[[load]]
name = "weight"
on = "top"
force = [0, 0, -500]
[[case]]
name = "hang"
supports = ["wall"]
loads = { weight = 1 }
[mesh]
size = 5
[[response]]
name = "rest"
measure = "restlessness"
times = 1000
[[response]]
name = "budget"
measure = "volume-fraction"
max = 0.5
[goal]
minimize = "rest"
[form]
leaning = "x"
mirror = ["y = 10"]
[run]
iterations = 12
)";

} // namespace

TEST(OwnProgram, HasAMeasureARuleACommandAndAFormatMore) {
    const test::TemporaryFolder folder;
    folder.write("bracket.toml", study);
    const auto run = [&](const std::vector<std::string>& words) {
        return test::upright(folder.path(), words);
    };
    EXPECT_NE(run({"--help"}).out.find("Counts elements by role"), std::string::npos);
    EXPECT_EQ(run({"tally", "bracket.toml"}).out, "496 elements\n");
    EXPECT_EQ(run({"tally", "bracket.toml", "--keep"}).out, "16 elements\n");
    EXPECT_NE(run({"tally"}).err.find("upright tally needs STUDY"), std::string::npos);
    EXPECT_NE(run({"tally", "bracket.toml", "--kep"}).err.find("Did you mean \"--keep\"?"),
              std::string::npos);
    EXPECT_NE(run({"taly"}).err.find("Did you mean \"tally\"?"), std::string::npos);
    EXPECT_NE(run({"help", "restlessness"}).out.find("ean square displacement"), std::string::npos);
    EXPECT_NE(run({"schema"}).out.find("\"restlessness\""), std::string::npos);

    const test::Outcome check = run({"check", "bracket.toml", "--no-figures", "--gradients"});
    EXPECT_EQ(check.code, 0) << check.err;
    EXPECT_NE(check.out.find("restlessness"), std::string::npos);
    EXPECT_NE(check.out.find("elements lean along x"), std::string::npos) << check.out;
    const test::Outcome analysis = run({"analyze", "bracket.toml", "--no-figures"});
    EXPECT_NE(analysis.out.find("rest @ hang"), std::string::npos) << analysis.out << analysis.err;
    const test::Outcome optimize = run({"optimize", "bracket.toml"});
    EXPECT_EQ(optimize.code, 0) << optimize.err;
    EXPECT_NE(test::text_of(folder.path() / "bracket.run/run.json").find("\"measure\": \"restlessness\""),
              std::string::npos);
    EXPECT_EQ(run({"plot", "bracket.run", "--what", "history"}).code, 0);
    const test::Outcome carve = run({"carve", "bracket.run", "--out", "part.corners", "--at", "0.3"});
    EXPECT_EQ(carve.code, 0) << carve.err;
    EXPECT_EQ(test::text_of(folder.path() / "part.corners").rfind("Bracket, in mm\n", 0), 0U);
    const test::Outcome wrong = run({"carve", "bracket.run", "--out", "part.doc"});
    EXPECT_EQ(wrong.code, 2);
    EXPECT_NE(wrong.err.find(".step (STEP, a solid with exact faces) or .corners (corners as text)"),
              std::string::npos)
        << wrong.err;
}
