// A measure that the program does not ship: read, refused, explained, analysed, differentiated, bounded and
// made the goal like any other.
#include "own/own.hpp"

#include "optimize/gradient_check.hpp"
#include "optimize/run.hpp"
#include "response/case_report.hpp"
#include "study/reference.hpp"
#include "support/silent.hpp"
#include "support/studies.hpp"

#include <gtest/gtest.h>

using namespace upright;

namespace {

const Language& language() {
    static const Kinds out = make_kinds({{}, {test::restlessness()}, {}, {}});
    return out.language;
}

Study study_of(const std::string& extra, const std::vector<std::string>& settings = {}) {
    const test::TemporaryFolder folder;
    return load_study(folder.write("study.toml", test::block_study(extra)), settings, language());
}

const std::string watched = "[[response]]\nname = \"rest\"\nmeasure = \"restlessness\"\ntimes = 2\n";

using test::Silent;

double read_rest(const Study& study, const Model& model) {
    for (const Outcome& o : measure_all(model, analyze(model, {})))
        if (study.responses[o.response].name == "rest") return o.value;
    return -1.0;
}

} // namespace

TEST(OwnMeasure, IsReadAndRefusedByItsTable) {
    EXPECT_EQ(study_of(watched).responses.back().measure->word, "restlessness");
    const auto message = [](const std::string& extra) {
        try {
            study_of(extra);
        } catch (const Error& bad) {
            return std::string(bad.what());
        }
        return std::string();
    };
    EXPECT_NE(message("[[response]]\nname = \"rest\"\nmeasure = \"restlessness\"\n").find("lacks \"times\""),
              std::string::npos);
    EXPECT_NE(message(watched + "mode = 1\n").find("mode belongs to a frequency"), std::string::npos);
    EXPECT_NE(explain(language(), "restlessness").value().find("ean square"), std::string::npos);
    // The program's own language does not know it.
    EXPECT_NE(test::error_of(test::block_study(watched)).find("\"restlessness\" is not known here"),
              std::string::npos);
}

TEST(OwnMeasure, ReadsTheMeanSquareInAnalyses) {
    const Study study = study_of(watched);
    const Model model = build_model(study);
    const AnalysisReport report = analyze(model, {});
    double sum = 0.0;
    for (std::size_t n = 0; n < model.mesh.nodes.size(); ++n)
        sum += displacement_at(model, report.statics[0].displacement, static_cast<NodeId>(n)).squaredNorm();
    EXPECT_NEAR(read_rest(study, model), 2.0 * sum / static_cast<double>(model.mesh.nodes.size()),
                1e-12 * sum);
}

TEST(OwnMeasure, ItsGradientAgreesWithDifferences) {
    const Study study = study_of(watched);
    const Model model = build_model(study);
    StaticAnalysis analysis(model, {});
    Silent silent;
    for (const GradientRow& row : check_gradients(analysis, silent).rows)
        if (row.name == "rest") {
            EXPECT_EQ(row.measure, "restlessness");
            EXPECT_LT(row.error, 1e-6);
            return;
        }
    FAIL() << "no row of the measure";
}

TEST(OwnMeasure, BoundsAndLeadsARun) {
    const std::vector<std::string> run{"run.iterations=25", "run.sharpen=false"};
    const Study full = study_of(watched);
    const double all = read_rest(full, build_model(full));
    Silent silent;
    // As a bound on least volume.
    const Study bounded = study_of(watched + "max = " + std::to_string(4.0 * all) + "\n",
                                   {run[0], run[1], "goal.minimize=budget", "response.budget.max="});
    const Model model = build_model(bounded);
    StaticAnalysis analysis(model, {});
    const OptimizeResult least = optimize(analysis, silent);
    EXPECT_TRUE(least.feasible);
    EXPECT_LT(least.goal, 0.8);
    // As the goal under a bound on volume.
    const Study led = study_of(watched, {run[0], run[1], "goal.minimize=rest"});
    const Model same = build_model(led);
    StaticAnalysis again(same, {});
    const OptimizeResult result = optimize(again, silent);
    EXPECT_EQ(result.method, "moving asymptotes");
    EXPECT_LT(result.goal, 0.7 * result.state.history.front().goal);
}
