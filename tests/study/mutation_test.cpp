// Slips of the hand, by the hundred: every line of every shipped study is left out, misspelt, given another
// sort of value or a number that no part has. Whatever comes of it is a study or one error with its place;
// nothing else gets out.
#include "kinds/kinds.hpp"
#include "support/folder.hpp"

#include <fstream>
#include <gtest/gtest.h>
#include <regex>
#include <sstream>

namespace upright {
namespace {

namespace fs = std::filesystem;

fs::path examples() {
    return fs::path(UPRIGHT_REFERENCE).parent_path().parent_path() / "examples";
}

std::vector<std::string> lines_of(const fs::path& file) {
    std::ifstream in(file);
    std::vector<std::string> out;
    for (std::string line; std::getline(in, line);) out.push_back(line);
    return out;
}

std::string text_of(const std::vector<std::string>& lines) {
    std::string out;
    for (const std::string& line : lines) out += line + "\n";
    return out;
}

// Copies of the shipped ones, each beside the files that it names.
std::vector<fs::path> studies() {
    static const test::TemporaryFolder folder;
    std::vector<fs::path> out;
    for (const auto& one : fs::recursive_directory_iterator(examples())) {
        const std::string kind = one.path().extension().string();
        if (!one.is_regular_file() || (kind != ".toml" && kind != ".step") ||
            one.path().parent_path().parent_path() != examples())
            continue;
        const fs::path to = folder.path() / one.path().parent_path().filename();
        fs::create_directories(to);
        fs::copy_file(one.path(), to / one.path().filename(), fs::copy_options::overwrite_existing);
        if (kind == ".toml") out.push_back(to / one.path().filename());
    }
    std::sort(out.begin(), out.end());
    return out;
}

struct Tally {
    int loaded = 0;
    int refused = 0;
};

// Loads a changed study beside the files that it may name. `line`: the one that was changed.
void take(const fs::path& study, const std::vector<std::string>& lines, const std::string& what,
          Tally& tally) {
    const fs::path file = study.parent_path() / "mutated.toml";
    std::ofstream(file) << text_of(lines);
    try {
        load_study(file, {});
        ++tally.loaded;
    } catch (const Error& bad) {
        ++tally.refused;
        const std::string message = bad.what();
        EXPECT_EQ(bad.code(), ExitCode::Input) << what << message;
        // file:line:column, or the file that a study extends.
        EXPECT_TRUE(std::regex_search(message, std::regex(R"(\.(toml|step|stl|vtu)(:\d+:\d+)?: )")))
            << what << message;
        EXPECT_EQ(message.find("std::"), std::string::npos) << what << message;
        EXPECT_LT(message.size(), 1500U) << what;
    } catch (const std::exception& other) {
        ADD_FAILURE() << what << ": " << other.what();
    }
}

} // namespace

TEST(Mutations, TheShippedStudiesLoadAsTheyAre) {
    const std::vector<fs::path> all = studies();
    ASSERT_GT(all.size(), 6U);
    for (const fs::path& study : all) {
        Tally tally;
        take(study, lines_of(study), study.filename().string(), tally);
        EXPECT_EQ(tally.loaded, 1) << study;
    }
}

TEST(Mutations, ALineLeftOutIsAStudyOrAnError) {
    Tally tally;
    for (const fs::path& study : studies()) {
        const std::vector<std::string> lines = lines_of(study);
        for (std::size_t i = 0; i < lines.size(); ++i) {
            if (lines[i].empty() || lines[i][0] == '#') continue;
            std::vector<std::string> other = lines;
            other.erase(other.begin() + static_cast<std::ptrdiff_t>(i));
            take(study, other, study.filename().string() + " without \"" + lines[i] + "\": ", tally);
        }
    }
    EXPECT_GT(tally.refused, 100);
    EXPECT_GT(tally.loaded, 50); // comments, titles, defaults
}

TEST(Mutations, AMisspeltKeyIsNamed) {
    Tally tally;
    const std::regex assignment(R"(^\s*([a-z_]+)\s*=)");
    for (const fs::path& study : studies()) {
        const std::vector<std::string> lines = lines_of(study);
        bool values = false;
        for (std::size_t i = 0; i < lines.size(); ++i) {
            if (lines[i].rfind("[", 0) == 0) values = lines[i].rfind("[values", 0) == 0;
            std::smatch found;
            if (values || !std::regex_search(lines[i], found, assignment)) continue;
            std::vector<std::string> other = lines;
            const std::string key = found[1];
            other[i] = std::regex_replace(lines[i], assignment,
                                          key + "q =", std::regex_constants::format_first_only);
            const int before = tally.refused;
            take(study, other, study.filename().string() + " with \"" + other[i] + "\": ", tally);
            EXPECT_EQ(tally.refused, before + 1) << study << other[i];
        }
    }
    EXPECT_EQ(tally.loaded, 0);
}

TEST(Mutations, ValuesOfAnotherSortAreAStudyOrAnError) {
    Tally tally;
    const std::regex assignment(R"(^(\s*[a-z_]+\s*=\s*)(.*)$)");
    const std::vector<std::string> wrong{"\"no such thing\"",
                                         "-1",
                                         "0",
                                         "1e300",
                                         "-1e300",
                                         "true",
                                         "[]",
                                         "{}",
                                         "[[[1]]]",
                                         "\"\"",
                                         "nan",
                                         "inf",
                                         "\"1 parsec\"",
                                         "9223372036854775807",
                                         "1979-05-27",
                                         "\"\\u0000\"",
                                         "'''\n'''"};
    std::size_t turn = 0;
    for (const fs::path& study : studies()) {
        const std::vector<std::string> lines = lines_of(study);
        for (std::size_t i = 0; i < lines.size(); ++i) {
            std::smatch found;
            if (!std::regex_search(lines[i], found, assignment) || found[2].str().empty()) continue;
            // Three values a line, all of them in turn.
            for (int k = 0; k < 3; ++k) {
                std::vector<std::string> other = lines;
                other[i] = found[1].str() + wrong[turn++ % wrong.size()];
                take(study, other, study.filename().string() + " with \"" + other[i] + "\": ", tally);
            }
        }
    }
    EXPECT_GT(tally.refused, 5 * tally.loaded);
}

TEST(Mutations, TornFilesAreAStudyOrAnError) {
    Tally tally;
    for (const fs::path& study : studies()) {
        const std::string text = text_of(lines_of(study));
        for (std::size_t i = 1; i < 12; ++i) {
            const std::string torn = text.substr(0, i * text.size() / 12);
            std::vector<std::string> lines{torn};
            take(study, lines, study.filename().string() + " torn: ", tally);
            // Two halves of different places grown together.
            lines = {text.substr(i * text.size() / 24) + torn};
            take(study, lines, study.filename().string() + " grown together: ", tally);
        }
    }
    EXPECT_GT(tally.refused, 50);
}

} // namespace upright
