// Each study in tests/cli/wrong is wrong in one way; its first line says where and what the program must say.
// Most extend base.toml, which is right.
#include "support/folder.hpp"
#include "support/run_upright.hpp"

#include <algorithm>
#include <gtest/gtest.h>

using namespace upright;
namespace fs = std::filesystem;

namespace {

std::vector<fs::path> wrong_studies() {
    std::vector<fs::path> out;
    for (const auto& entry : fs::directory_iterator(UPRIGHT_WRONG_STUDIES))
        if (entry.path().extension() == ".toml" && entry.path().filename() != "base.toml")
            out.push_back(entry.path());
    std::sort(out.begin(), out.end());
    return out;
}

class WrongStudy : public ::testing::TestWithParam<fs::path> {};

} // namespace

TEST_P(WrongStudy, GetsOneRightMessage) {
    const std::string text = test::text_of(GetParam());
    const std::string first = text.substr(0, text.find('\n'));
    ASSERT_EQ(first.rfind("# expect ", 0), 0U);
    const auto bar = first.find(" | ");
    std::string place = first.substr(9, bar - 9);
    if (place.find(".toml") == std::string::npos) place = "study.toml:" + place;
    const std::string words = first.substr(bar + 3);
    const test::TemporaryFolder folder;
    folder.write("study.toml", text);
    folder.write("base.toml", test::text_of(fs::path(UPRIGHT_WRONG_STUDIES) / "base.toml"));
    const test::Outcome outcome = test::upright(folder.path(), {"optimize", "study.toml"});
    EXPECT_EQ(outcome.code, 3) << outcome.err;
    EXPECT_EQ(outcome.err.rfind(place + ": ", 0), 0U) << outcome.err;
    EXPECT_NE(outcome.err.find(words), std::string::npos) << outcome.err;
    EXPECT_EQ(std::count(outcome.err.begin(), outcome.err.end(), '\n'), 1) << outcome.err;
    EXPECT_FALSE(fs::exists(folder.path() / "study.run")); // nothing half-made stays behind
}

INSTANTIATE_TEST_SUITE_P(All, WrongStudy, ::testing::ValuesIn(wrong_studies()), [](const auto& info) {
    std::string name = info.param.stem().string();
    std::replace(name.begin(), name.end(), '-', '_');
    return name;
});

TEST(WrongStudies, StartFromOneThatIsRight) {
    const test::TemporaryFolder folder;
    folder.write("base.toml", test::text_of(fs::path(UPRIGHT_WRONG_STUDIES) / "base.toml"));
    EXPECT_EQ(test::upright(folder.path(), {"check", "base.toml", "--no-figures"}).code, 0);
}

TEST(WrongStudies, AreManyEnough) {
    EXPECT_GE(wrong_studies().size(), 90U);
}
