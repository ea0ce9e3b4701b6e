#include "response/design_measures.hpp"
#include "support/studies.hpp"

#include <gtest/gtest.h>

using namespace upright;
using test::study_from;

namespace {

std::string padded() {
    return test::block_study(R"(
[[region]]
name = "hole"
role = "void"
box = [[2, 1, 0], [4, 2, 3]]
[[region]]
name = "pad"
role = "keep"
material = "steel"
box = [[7, 0, 0], [8, 2, 4]]
[[load]]
name = "side"
on = "tip"
force = [20, 70, 0]
[[case]]
name = "heavy"
supports = "clamp"
loads = { side = [1, -0.4] }
weight = 0.7
[[response]]
name = "one"
measure = "compliance"
case = "heavy/2"
[[response]]
name = "pad-mass"
measure = "mass"
of = ["pad", "block"]
[[response]]
name = "worst"
measure = "compliance"
take = "largest"
)");
}

std::vector<Reading> readings(const Model& model, double density, std::vector<CaseResult>* cases = nullptr) {
    StaticAnalysis analysis(model, {});
    DesignMeasures measures(analysis);
    measures.analyse(std::vector<double>(model.mesh.elements(), density), 1.0, {});
    if (cases != nullptr) *cases = measures.state().cases();
    return measures.readings();
}

} // namespace

TEST(LinearWeights, FractionsCountTheNamedRegions) {
    const Study study = study_from(padded(), {"response.budget.of=[\"block\", \"pad\"]"});
    const Model model = build_model(study);
    const auto half = readings(model, 0.5);
    EXPECT_NEAR(half[1].value, 0.5, 1e-14);
    EXPECT_NEAR(half[3].value, 0.5 * 122 * 7.85e-9, 1e-18);
    const Study default_of = study_from(padded());
    const std::vector<double> weights = linear_weights(model, build_model(default_of).responses[1]);
    for (std::size_t e = 0; e < weights.size(); ++e)
        EXPECT_EQ(weights[e] > 0, model.role(static_cast<ElementId>(e)) == Role::Design);
}

TEST(LinearWeights, CompliancesAddUp) {
    const Study study = study_from(padded());
    const Model model = build_model(study);
    std::vector<CaseResult> cases;
    const auto full = readings(model, 1.0, &cases);
    ASSERT_EQ(cases.size(), 3U);
    EXPECT_NEAR(full[0].value, cases[0].compliance + 0.7 * (cases[1].compliance + cases[2].compliance), 1e-9);
    EXPECT_NEAR(full[2].value, cases[2].compliance, 1e-12);
    EXPECT_NEAR(full[4].value, std::max({cases[0].compliance, cases[1].compliance, cases[2].compliance}),
                1e-12);
}

TEST(LinearWeights, AShareOfStrengthIsThatOfTheWeakestMaterial) {
    const Study study = study_from(padded() + R"(
[[material]]
name = "soft"
E = 70000
nu = 0.3
density = 2.7e-9
yield = 100
[[response]]
name = "strong"
measure = "stress"
max = "50% of yield"
)",
                                   {"material.steel.yield=300", "region.pad.material=soft"});
    const Model model = build_model(study);
    EXPECT_DOUBLE_EQ(*upper_bound(model, model.responses.back()), 50.0);
    EXPECT_FALSE(upper_bound(model, model.responses.front()).has_value());
}
