// `upright schema` before an independent validator: every shipped study is valid, and what the schema can
// tell to be wrong is not.
#include "support/folder.hpp"
#include "support/run_upright.hpp"

#include <gtest/gtest.h>

using namespace upright;
namespace fs = std::filesystem;

namespace {

const char* const validator = R"(
import json, sys, tomllib
from jsonschema import Draft202012Validator
with open(sys.argv[1]) as f: schema = json.load(f)
Draft202012Validator.check_schema(schema)
check = Draft202012Validator(schema)
for name in sys.argv[2:]:
    with open(name, 'rb') as f: study = tomllib.load(f)
    errors = sorted('/'.join(map(str, e.absolute_path)) + ': ' + e.message for e in check.iter_errors(study))
    print(name, '|', errors[0] if errors else 'valid')
)";

// One line a study: its path, and "valid" or the first fault.
std::vector<std::string> validated(const test::TemporaryFolder& folder,
                                   const std::vector<fs::path>& studies) {
    EXPECT_EQ(test::upright(folder.path(), {"schema", "--out", "schema.json"}).code, 0);
    folder.write("validate.py", validator);
    std::string command = "cd " + test::shell_quoted(folder.path().string()) +
                          " && /usr/bin/python3 -I validate.py schema.json";
    for (const fs::path& study : studies) command += " " + test::shell_quoted(study.string());
    EXPECT_EQ(std::system((command + " >told.txt").c_str()), 0);
    std::istringstream in(test::text_of(folder.path() / "told.txt"));
    std::vector<std::string> out;
    for (std::string line; std::getline(in, line);) out.push_back(line);
    EXPECT_EQ(out.size(), studies.size());
    return out;
}

} // namespace

TEST(JsonSchema, EveryExampleIsValid) {
    const test::TemporaryFolder folder;
    std::vector<fs::path> studies;
    for (const auto& entry : fs::recursive_directory_iterator(UPRIGHT_EXAMPLES))
        if (entry.path().extension() == ".toml" && entry.path().filename() != "study.toml")
            studies.push_back(entry.path());
    ASSERT_GE(studies.size(), 7U);
    for (const std::string& line : validated(folder, studies))
        EXPECT_NE(line.find("| valid"), std::string::npos) << line;
}

TEST(JsonSchema, FindsWhatItCanTell) {
    const test::TemporaryFolder folder;
    const std::vector<std::string> wrong{
        "unknown-key",           "unknown-card",      "unknown-role",        "displacement-nowhere",
        "modes-of-static-case",  "bond-without-gap",  "polar-without-frame", "order-three",
        "goal-both-ways",        "refine-on-grid",    "misspelt-shape",      "card-as-table",
        "modal-modes-and-up-to", "ring-half-written", "load-without-size",   "stress-at-a-place"};
    std::vector<fs::path> studies;
    for (const std::string& name : wrong)
        studies.push_back(fs::path(UPRIGHT_WRONG_STUDIES) / (name + ".toml"));
    for (const std::string& line : validated(folder, studies))
        EXPECT_EQ(line.find("| valid"), std::string::npos) << line;
}

TEST(JsonSchema, AStudyThatExtendsAnotherMayLeaveOut) {
    const test::TemporaryFolder folder;
    const auto over =
        folder.write("over.toml", "extends = \"base.toml\"\n[mesh]\nformulation = \"plain\"\n[run]\nfilter = "
                                  "\"unset\"\niterations = 3\n");
    const auto alone = folder.write("alone.toml", "[mesh]\nformulation = \"plain\"\n");
    const std::vector<std::string> told = validated(folder, {over, alone});
    EXPECT_NE(told.at(0).find("| valid"), std::string::npos) << told.at(0);
    EXPECT_EQ(told.at(1).find("| valid"), std::string::npos) << told.at(1);
}

TEST(HelpCommand, ExplainsWordsAndCommands) {
    const test::TemporaryFolder folder;
    EXPECT_NE(test::upright(folder.path(), {"help", "skin_of"}).out.find("[[region]]"), std::string::npos);
    EXPECT_NE(test::upright(folder.path(), {"help", "carve"}).out.find("--connected"), std::string::npos);
    EXPECT_NE(test::upright(folder.path(), {"help"}).out.find("optimize"), std::string::npos);
    const test::Outcome wrong = test::upright(folder.path(), {"help", "skinof"});
    EXPECT_EQ(wrong.code, 2);
    EXPECT_NE(wrong.err.find("Did you mean \"skin_of\"?"), std::string::npos) << wrong.err;
    EXPECT_EQ(test::upright(folder.path(), {"help", "optimse"}).code, 2);
}
