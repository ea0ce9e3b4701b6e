// Kinds that the program does not ship, and those that it does, on every family of mesh.
#include "own/own.hpp"

#include "design/chain.hpp"
#include "model/storage.hpp"
#include "optimize/gradient_check.hpp"
#include "response/case_report.hpp"
#include "support/bodies.hpp"
#include "support/silent.hpp"
#include "support/studies.hpp"

#include <gtest/gtest.h>
#include <random>

namespace upright {
namespace {

using test::Body;

const Language& language() {
    static const Kinds out = make_kinds({{}, {test::restlessness()}, {test::leaning()}, {}});
    return out.language;
}

Study study_of(const std::string& text) {
    const test::TemporaryFolder folder;
    return load_study(folder.write("study.toml", text), {}, language());
}

using test::Silent;

std::vector<double> scattered(std::size_t n) {
    std::mt19937 random(5);
    std::vector<double> out(n);
    for (double& v : out) v = 0.1 + 0.8 * static_cast<double>(random() % 1000) / 1000.0;
    return out;
}

class EveryMesh : public testing::TestWithParam<Body> {};

const std::string watched = "[[response]]\nname = \"rest\"\nmeasure = \"restlessness\"\ntimes = 2\n";

} // namespace

TEST_P(EveryMesh, AnOwnMeasureReadsWhatItSays) {
    const Model model = build_model(study_of(GetParam().text + watched));
    const AnalysisReport report = analyze(model, {});
    double sum = 0.0;
    for (Eigen::Index f = 0; f < static_cast<Eigen::Index>(model.node_freedoms()); ++f)
        sum += std::pow(report.statics[0].displacement[f], 2);
    for (const Outcome& o : measure_all(model, report))
        if (model.responses[o.response].name == "rest") {
            EXPECT_NEAR(o.value, 2.0 * sum / static_cast<double>(model.mesh.nodes.size()), 1e-10 * sum);
            return;
        }
    FAIL() << "not read";
}

TEST_P(EveryMesh, GradientsOfAllMeasuresAgreeWithDifferences) {
    const Model model = build_model(study_of(GetParam().text + watched + R"([[response]]
name = "sag"
measure = "displacement"
at = "tip"
[[response]]
name = "strength"
measure = "stress"
except = "root"
[[response]]
name = "hold"
measure = "reaction"
at = "clamp"
)"));
    StaticAnalysis analysis(model, {});
    Silent silent;
    const GradientCheck check = check_gradients(analysis, silent);
    EXPECT_EQ(check.rows.size(), 6U);
    for (const GradientRow& row : check.rows) EXPECT_LT(row.error, 2e-5) << row.name;
}

TEST_P(EveryMesh, ARuleThatIsNotLinearPullsGradientsBack) {
    const Model model = build_model(study_of(GetParam().text + "[form]\nleaning = \"x\"\n"));
    StaticAnalysis analysis(model, {});
    Silent silent;
    for (const GradientRow& row : check_gradients(analysis, silent).rows)
        EXPECT_LT(row.error, 1e-5) << row.name;
}

// <g, J v> = <J' g, v> for the whole chain, by differences of J.
TEST_P(EveryMesh, TheChainsTransposeIsThatOfItsDerivative) {
    const Model model = build_model(study_of(GetParam().text + "[form]\nleaning = \"y\"\n"));
    const DesignChain chain(model, 1.5 * model.mesh.size, form_rules(model.form), {});
    const std::vector<double> x = scattered(chain.variables());
    std::mt19937 random(9);
    std::vector<double> v(x.size());
    for (double& one : v) one = static_cast<double>(random() % 2000) / 1000.0 - 1.0;
    std::vector<double> g(model.mesh.elements());
    for (double& one : g) one = static_cast<double>(random() % 2000) / 1000.0 - 1.0;
    for (const double sharpness : {0.0, 6.0}) {
        const double step = 1e-5;
        std::vector<double> up = x;
        std::vector<double> down = x;
        for (std::size_t i = 0; i < x.size(); ++i) {
            up[i] += step * v[i];
            down[i] -= step * v[i];
        }
        const std::vector<double> above = chain.physical(up, sharpness);
        const std::vector<double> below = chain.physical(down, sharpness);
        double forward = 0.0;
        for (std::size_t e = 0; e < g.size(); ++e) forward += g[e] * (above[e] - below[e]) / (2 * step);
        chain.physical(x, sharpness);
        const std::vector<double> back = chain.pull_back(x, sharpness, g);
        double backward = 0.0;
        for (std::size_t i = 0; i < v.size(); ++i) backward += back[i] * v[i];
        EXPECT_NEAR(forward, backward, 1e-6 * (1.0 + std::abs(forward))) << sharpness;
    }
}

// The filter keeps a uniform design and stays between the extremes of any other.
TEST_P(EveryMesh, TheFilterIsAMean) {
    const Model model = build_model(study_of(GetParam().text));
    for (const double radius : {1.5, 4.0}) {
        const DesignChain chain(model, radius * model.mesh.size, form_rules(model.form), {});
        for (const double d : chain.physical(std::vector<double>(chain.variables(), 0.37), 0.0))
            ASSERT_NEAR(d, 0.37, 1e-9) << radius;
        for (const double d : chain.physical(scattered(chain.variables()), 0.0)) {
            ASSERT_GE(d, 0.1 - 1e-9);
            ASSERT_LE(d, 0.9 + 1e-9);
        }
    }
}

TEST_P(EveryMesh, TheModelsFileAnswersAlike) {
    const Study study = study_of(GetParam().text + watched);
    const Model model = build_model(study);
    const test::TemporaryFolder folder;
    const auto file = folder.path() / "modèle 1.h5";
    save_model(file, model, study.resolved);
    StoredModel back = load_model(file);
    take_asked(back.model, study);
    const std::vector<Outcome> a = measure_all(model, analyze(model, {}));
    const std::vector<Outcome> b = measure_all(back.model, analyze(back.model, {}));
    ASSERT_EQ(a.size(), b.size());
    for (std::size_t i = 0; i < a.size(); ++i) EXPECT_EQ(a[i].value, b[i].value) << i;
}

// Reactions hold the loads, in every direction.
TEST_P(EveryMesh, SupportsHoldWhatLoads) {
    const Model model = build_model(study_of(GetParam().text));
    const StaticReport report = analyze(model, {}).statics.at(0);
    Vec3 sum = report.applied.force;
    for (const Reaction& r : report.reactions) sum += r.force;
    EXPECT_LT(sum.norm(), 1e-7 * report.applied.force.norm());
    EXPECT_LT(report.balance, 1e-7);
    // Twice the strain energy is what the forces do.
    EXPECT_NEAR(2.0 * report.strain_energy, report.compliance, 1e-6 * report.compliance);
}

INSTANTIATE_TEST_SUITE_P(All, EveryMesh, testing::ValuesIn(test::bodies()), test::name_of);

} // namespace upright
