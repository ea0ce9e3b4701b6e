#include "store/analysis_folder.hpp"

#include "support/studies.hpp"

#include "base/json.hpp"
#include <fstream>
#include <gtest/gtest.h>

using namespace upright;
namespace fs = std::filesystem;

namespace {

std::string modal_block() {
    return test::block_study(R"(
[[case]]
name = "ring out"
kind = "modal"
supports = ["clamp"]
modes = 3
[[response]]
name = "note"
measure = "frequency"
min = 1
)");
}

} // namespace

TEST(AnalysisFolder, GivesBackWhatItWasGiven) {
    const test::TemporaryFolder folder;
    const Study study = test::study_from(modal_block());
    const Model model = build_model(study);
    const AnalysisReport report = analyze(model, {});
    const auto path = folder.path() / "block é.analysis";
    EXPECT_FALSE(AnalysisFolder::is_one(path));
    const AnalysisFolder written = AnalysisFolder::create(path, Existing::Refuse);
    const std::vector<Outcome> outcomes = measure_all(model, report);
    written.write_fields(model, report);
    written.write_json(model, report, outcomes, 1.5);

    EXPECT_TRUE(AnalysisFolder::is_one(path));
    const AnalysisFolder read = AnalysisFolder::open(path);
    EXPECT_TRUE(read.has_case("bend"));
    EXPECT_TRUE(read.has_case("ring out"));
    EXPECT_FALSE(read.has_case("other"));
    const AnalysisFolder::StaticFields fields = read.read_static("bend");
    EXPECT_EQ(fields.von_mises, report.statics[0].von_mises);
    ASSERT_EQ(fields.displacement.size(), 3 * model.mesh.nodes.size());
    for (std::size_t n = 0; n < model.mesh.nodes.size(); ++n)
        for (int a = 0; a < 3; ++a)
            EXPECT_EQ(fields.displacement[3 * n + static_cast<std::size_t>(a)],
                      displacement_at(model, report.statics[0].displacement, static_cast<NodeId>(n))[a]);
    const std::vector<double> frequencies = read.read_frequencies("ring out");
    ASSERT_EQ(frequencies.size(), report.modals[0].modes.size());
    for (std::size_t m = 0; m < frequencies.size(); ++m)
        EXPECT_EQ(frequencies[m], report.modals[0].modes[m].frequency);
    EXPECT_EQ(read.read_mode("ring out", 2).size(), 3 * model.mesh.nodes.size());
    EXPECT_TRUE(fs::exists(read.case_file("bend")));
}

TEST(AnalysisFolder, TellsEveryResponseInItsJson) {
    const test::TemporaryFolder folder;
    const Study study = test::study_from(modal_block());
    const Model model = build_model(study);
    const AnalysisReport report = analyze(model, {});
    const std::vector<Outcome> outcomes = measure_all(model, report);
    const AnalysisFolder out = AnalysisFolder::create(folder.path() / "a.analysis", Existing::Refuse);
    out.write_json(model, report, outcomes, 0.0);
    std::ifstream in(out.path() / "analysis.json");
    const auto json = nlohmann::json::parse(in);
    ASSERT_EQ(json["responses"].size(), 3U);
    for (std::size_t i = 0; i < outcomes.size(); ++i) {
        const auto& one = json["responses"][i];
        EXPECT_EQ(one["name"], study.responses[outcomes[i].response].name);
        EXPECT_DOUBLE_EQ(one["value"].get<double>(), outcomes[i].value);
        EXPECT_EQ(one["holds"], outcomes[i].holds);
    }
    EXPECT_EQ(json["responses"][0]["measure"], "compliance");
    EXPECT_EQ(json["responses"][2]["case"], "ring out");
    EXPECT_EQ(json["responses"][2]["unit"], "Hz");
    EXPECT_TRUE(json["responses"][0]["max"].is_null());
    ASSERT_EQ(json["cases"].size(), 2U);
}

TEST(AnalysisFolder, NeverOverwritesUnasked) {
    const test::TemporaryFolder folder;
    const Study study = test::study_from(test::block_study());
    const Model model = build_model(study);
    const AnalysisReport report = analyze(model, {});
    const auto path = folder.path() / "a.analysis";
    const AnalysisFolder first = AnalysisFolder::create(path, Existing::Refuse);
    first.write_fields(model, report);
    first.write_json(model, report, {}, 0.0);
    EXPECT_THROW(AnalysisFolder::create(path, Existing::Refuse), Error);
    EXPECT_NO_THROW(AnalysisFolder::create(path, Existing::Replace));
    // A folder of something else stays, asked or not.
    fs::create_directory(folder.path() / "letters");
    std::ofstream(folder.path() / "letters/mother.txt") << "dear";
    EXPECT_THROW(AnalysisFolder::create(folder.path() / "letters", Existing::Replace), Error);
    EXPECT_TRUE(fs::exists(folder.path() / "letters/mother.txt"));
}
