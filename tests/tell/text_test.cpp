// Tables and sentences for people: their numbers are those of the results, nothing contradicts anything.
#include "tell/analysis_text.hpp"
#include "tell/bound_text.hpp"
#include "tell/part_text.hpp"
#include "tell/run_text.hpp"
#include "tell/terminal_chart.hpp"

#include "optimize/certificate.hpp"
#include "support/bodies.hpp"
#include "support/silent.hpp"
#include "support/studies.hpp"

#include <algorithm>
#include <fmt/format.h>
#include <sstream>

namespace upright {
namespace {

using test::block_study;
using test::study_from;

using test::Silent;

std::vector<std::string> lines_of(const std::string& text) {
    std::vector<std::string> out;
    std::istringstream in(text);
    for (std::string line; std::getline(in, line);) out.push_back(line);
    return out;
}

bool has(const std::string& text, const std::string& words) {
    return text.find(words) != std::string::npos;
}

// The line that begins with a word.
std::string line_of(const std::string& text, const std::string& word) {
    for (const std::string& line : lines_of(text)) {
        const auto at = line.find_first_not_of(' ');
        if (at != std::string::npos && line.compare(at, word.size(), word) == 0) return line;
    }
    return "";
}

Part part_with(std::size_t pieces, std::size_t dropped, const std::vector<std::string>& missed = {}) {
    Part out;
    for (std::size_t i = 0; i < pieces; ++i) {
        PartPiece piece;
        piece.volume = 10.0 / static_cast<double>(i + 1);
        piece.center = Vec3(static_cast<double>(i), 2, 3);
        if (i == 0) piece.touches = {"support clamp", "load pull"};
        piece.dropped = i >= pieces - dropped;
        out.pieces.push_back(piece);
    }
    out.missed = missed;
    return out;
}

} // namespace

TEST(TimeText, ReadsLikeAClock) {
    EXPECT_EQ(time_text(0.0), "0:00");
    EXPECT_EQ(time_text(5.4), "0:05");
    EXPECT_EQ(time_text(65.0), "1:05");
    EXPECT_EQ(time_text(3599.4), "59:59");
    EXPECT_EQ(time_text(7800.0), "2 h 10");
}

TEST(ResponseTable, SaysWhatHoldsAndWhatDoesNot) {
    const Model model = build_model(study_from(block_study(R"(
[[response]]
name = "sag"
measure = "displacement"
at = "tip"
max = 1e-6
[[response]]
name = "calm"
measure = "displacement"
at = "tip"
max = 1
[[response]]
name = "watched"
measure = "reaction"
at = "clamp"
)")));
    const AnalysisReport report = analyze(model, {});
    const std::vector<Outcome> outcomes = measure_all(model, report);
    const std::string text = response_table(model, outcomes);
    EXPECT_TRUE(has(line_of(text, "sag"), "broken by a factor of 4.57e+03")) << text;
    EXPECT_TRUE(has(line_of(text, "calm"), ": slack by 100 %")) << text; // 0.0046 of 1
    EXPECT_FALSE(has(line_of(text, "watched"), "slack")) << text;
    EXPECT_TRUE(has(line_of(text, "budget"), "for the optimiser")) << text;
    for (const Outcome& o : outcomes)
        EXPECT_TRUE(has(text, fmt::format("{:.6g}", o.value))) << o.value << text;
    EXPECT_EQ(response_table(model, {}), "");
}

TEST(RefinementTable, ShowsBothMeshesAndTheirChange) {
    const Model coarse = build_model(study_from(block_study(), {"mesh.size=2"}));
    const Model fine = build_model(study_from(block_study(), {"mesh.size=1"}));
    const AnalysisReport a = analyze(coarse, {});
    const AnalysisReport b = analyze(fine, {});
    const std::vector<Outcome> of_a = measure_all(coarse, a);
    const std::vector<Outcome> of_b = measure_all(fine, b);
    const std::string text = refinement_table({coarse, a, of_a}, {fine, b, of_b});
    const std::string elements = line_of(text, "elements");
    EXPECT_TRUE(has(elements, " 16 ")) << text;
    EXPECT_TRUE(has(elements, " 128 ")) << text;
    EXPECT_TRUE(has(elements, "+700.00 %")) << text;
    const std::string compliance = line_of(text, "bend: compliance");
    EXPECT_TRUE(has(compliance, fmt::format("{:.6g}", a.statics[0].compliance))) << text;
    EXPECT_TRUE(has(compliance, fmt::format("{:.6g}", b.statics[0].compliance))) << text;
    EXPECT_TRUE(
        has(compliance,
            fmt::format("{:+.2f} %", 100.0 * (b.statics[0].compliance / a.statics[0].compliance - 1.0))))
        << text;
    // Columns stand under their heads.
    const std::vector<std::string> all = lines_of(text);
    const auto signs = [](const std::string& line) {
        return std::count_if(line.begin(), line.end(),
                             [](char c) { return (static_cast<unsigned char>(c) & 0xC0U) != 0x80U; });
    };
    for (const std::string& line : all) EXPECT_EQ(signs(line), signs(all.front())) << line;
}

TEST(PiecesText, CountsWhatIsLeft) {
    const Model model = build_model(study_from(block_study()));
    EXPECT_EQ(pieces_left(part_with(4, 1)), 3U);
    EXPECT_TRUE(has(pieces_text(model, part_with(1, 0)), "one piece, and it reaches every support and load"));
    EXPECT_TRUE(has(pieces_text(model, part_with(1, 0, {"load pull on tip"})), "MISSES load pull on tip"));
    const std::string several = pieces_text(model, part_with(3, 0));
    EXPECT_TRUE(has(several, "NOT ONE PIECE: 3 pieces")) << several;
    EXPECT_TRUE(has(several, "mm3")) << several;
    EXPECT_TRUE(has(several, "no support, joint or load")) << several;
    EXPECT_TRUE(has(pieces_text(model, part_with(3, 2)), "2")) << "what was left out is counted";
}

TEST(StandingText, SaysByHowMuchABoundIsBrokenOrSlack) {
    EXPECT_EQ(standing_text(0.0), "at the bound");
    EXPECT_EQ(standing_text(bound_tolerance), "at the bound");
    EXPECT_EQ(standing_text(-bound_tolerance), "at the bound");
    EXPECT_EQ(standing_text(0.0012), "broken by 0.12 %");
    EXPECT_EQ(standing_text(0.02), "broken by 2 %");
    EXPECT_EQ(standing_text(1.5), "broken by 150 %");
    EXPECT_EQ(standing_text(24.0), "broken by a factor of 25");
    EXPECT_EQ(standing_text(1e300), "broken"); // of a bound of zero there is no share
    EXPECT_EQ(standing_text(-0.3), "slack by 30 %");
    EXPECT_EQ(standing_text(-1e300), "slack");
    EXPECT_EQ(limits_text(2.0, 3.5, "mm"), "at most 3.5 mm, at least 2 mm");
    EXPECT_EQ(limits_text({}, {}, "mm"), "");
}

TEST(RunSummary, SaysTheNumbersOfTheResultOnce) {
    const Model model = build_model(study_from(block_study("[run]\niterations = 12\n")));
    StaticAnalysis analysis(model, {});
    Silent silent;
    const OptimizeResult result = optimize(analysis, silent);
    const std::string text = run_summary(model, result, 65.0);
    const std::string goal = line_of(text, "stiffness");
    EXPECT_TRUE(has(goal, fmt::format("{:.6g}", result.goal))) << text;
    EXPECT_TRUE(has(goal, "goal")) << text;
    EXPECT_TRUE(has(line_of(text, "budget"), fmt::format("{:.6g}", result.readings[1].value))) << text;
    EXPECT_TRUE(has(text, fmt::format("after {} iterations in 1:05", result.state.iteration))) << text;
    EXPECT_EQ(result.feasible, has(text, "the design holds every bound")) << text;
    EXPECT_NE(result.feasible, has(text, "NOT FEASIBLE")) << text;
    EXPECT_EQ(result.row().grayness > 0.05, has(text, "doubt: grayness")) << text;
}

TEST(RunSummary, NamesTheWorstBoundWhereOneIsBroken) {
    const Model model = build_model(study_from(block_study(R"([run]
iterations = 5
[[response]]
name = "sag"
measure = "displacement"
at = "tip"
max = 1e-3
)")));
    StaticAnalysis analysis(model, {});
    Silent silent;
    OptimizeResult result;
    try {
        result = optimize(analysis, silent);
    } catch (const Error& bad) { // all material breaks it: said before the run
        EXPECT_TRUE(has(bad.what(), "sag"));
        return;
    }
    ASSERT_FALSE(result.feasible);
    EXPECT_TRUE(has(run_summary(model, result, 1.0), "NOT FEASIBLE: sag")) << run_summary(model, result, 1.0);
}

TEST(CertificateText, SaysTheBoundOrWhyThereIsNone) {
    const Model model = build_model(study_from(block_study()));
    Certificate none;
    none.not_served = "the goal is neither compliance nor material";
    EXPECT_EQ(certificate_text(model, none), "no certificate: the goal is neither compliance nor material");
    Certificate some;
    some.bound = 12.5;
    some.relaxed = 12.6;
    some.gap = 0.008;
    some.distance = 0.31;
    some.iterations = 44;
    const std::string text = certificate_text(model, some);
    for (const char* words : {"stiffness", "12.5", "31.0 %", "12.6", "44 iterations"})
        EXPECT_TRUE(has(text, words)) << text;
}

// Every number of a case's table is one of the report, in every family of mesh.
TEST(StaticTable, ShowsPeaksReactionsAndBalance) {
    for (const test::Body& body : test::bodies()) {
        const Model model = build_model(study_from(body.text));
        const AnalysisReport report = analyze(model, {});
        const StaticReport& one = report.statics.at(0);
        const std::string text = static_table(model, report, one, {model.mesh.center(std::size_t{0})});
        EXPECT_TRUE(has(text, "bend")) << body.name << text;
        EXPECT_TRUE(has(text, fmt::format("{:.5g}", one.displacement_peak.value)) ||
                    has(text, fmt::format("{:.6g}", one.displacement_peak.value)) ||
                    has(text, fmt::format("{:.4g}", one.displacement_peak.value)))
            << body.name << text;
        EXPECT_TRUE(has(text, "clamp")) << body.name << text;
        for (const std::string& line : lines_of(text)) EXPECT_FALSE(has(line, "nan")) << body.name << line;
    }
}

} // namespace upright

// A braille character has 2 x 4 dots: U+2800 plus 1, 2, 4, 64 down its left side, 8, 16, 32, 128 down its
// right.
TEST(TerminalCharts, DrawsWhatStandsThere) {
    const auto dots = [](const std::string& line) {
        std::vector<int> out;
        for (std::size_t i = 0; i + 2 < line.size(); i += 3)
            out.push_back((static_cast<unsigned char>(line[i + 1]) & 0x03) << 6 |
                          (static_cast<unsigned char>(line[i + 2]) & 0x3f));
        return out;
    };
    // From the lowest left dot to the highest right one.
    const upright::TerminalChart rise = upright::terminal_chart({0, 1, 2, 3, 4, 5, 6, 7}, {}, 4, 2);
    ASSERT_EQ(rise.lines.size(), 2U);
    EXPECT_EQ(rise.low, 0.0);
    EXPECT_EQ(rise.high, 7.0);
    EXPECT_EQ(dots(rise.lines[1]), (std::vector<int>{0x40 | 0x20, 0x02 | 0x08, 0, 0}));
    EXPECT_EQ(dots(rise.lines[0]), (std::vector<int>{0, 0, 0x40 | 0x20, 0x02 | 0x08}));
    // What does not change lies in the middle, what falls by orders of magnitude is a straight line.
    EXPECT_EQ(upright::terminal_chart({3, 3}, {}, 2, 1).lines,
              upright::terminal_chart({8, 8, 8}, {}, 2, 1).lines);
    EXPECT_EQ(upright::terminal_chart({1, 10, 100, 1000}, {}, 2, 2).lines,
              upright::terminal_chart({0, 1, 2, 3}, {}, 2, 2).lines);
    // A bound is a line of single dots, above the values.
    EXPECT_EQ(dots(upright::terminal_chart({0, 0, 0, 0}, 1.0, 4, 1).lines[0]),
              (std::vector<int>{0x01 | 0xc0, 0xc0, 0x01 | 0xc0, 0xc0}));
    EXPECT_EQ(upright::terminal_chart({}, 2.0, 5, 3).lines.size(), 3U);
    EXPECT_EQ(upright::terminal_chart({std::nan(""), 1, 2}, {}, 3, 1).low, 1.0);
}
