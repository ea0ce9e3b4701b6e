#include "response/response.hpp"

#include "design/interpolation.hpp"
#include "support/studies.hpp"

#include <cmath>
#include <gtest/gtest.h>

using namespace upright;
using test::study_from;

namespace {

// A body without any symmetry: a block with an off-centre hole and a kept pad, two cases, one of them with
// gravity.
std::string crooked() {
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
name = "weight"
gravity = [3e8, 2e8, -1e9]
[[load]]
name = "side"
on = "tip"
force = [20, 70, 0]
[[case]]
name = "heavy"
supports = "clamp"
loads = { weight = 1.3, side = [1, -0.4] }
weight = 0.7
[[response]]
name = "one"
measure = "compliance"
case = "heavy/2"
[[response]]
name = "pad-mass"
measure = "mass"
of = ["pad", "block"]
)");
}

std::vector<double> random_densities(const Model& model) {
    std::vector<double> out(model.mesh.elements());
    unsigned state = 7;
    for (double& d : out) {
        state = state * 1664525U + 1013904223U;
        d = 0.15 + 0.8 * static_cast<double>(state >> 8U) / static_cast<double>(1U << 24U);
    }
    return out;
}

double value_at(StaticAnalysis& analysis, const ResponseCard& card, const std::vector<double>& density,
                double penalty) {
    const auto results = analysis.solve(stiffness_share(density, penalty), density);
    return measure(analysis, card, results, density, penalty, false).value;
}

} // namespace

TEST(Response, SensitivitiesMatchCentralDifferences) {
    const Study study = study_from(crooked());
    const Model model = build_model(study);
    StaticAnalysis analysis(model, {});
    const std::vector<double> density = random_densities(model);
    const double penalty = 3.0;
    for (const std::size_t which : {std::size_t{0}, std::size_t{1}, std::size_t{2}, std::size_t{3}}) {
        const ResponseCard& card = study.responses[which];
        const auto results = analysis.solve(stiffness_share(density, penalty), density);
        const Measured found = measure(analysis, card, results, density, penalty, true);
        double largest = 0.0;
        for (const double g : found.gradient) largest = std::max(largest, std::abs(g));
        for (std::size_t e = 0; e < density.size(); e += 5) {
            const double h = 1e-4;
            // Richardson: two step lengths, so that the truncation does not hide in the tolerance.
            const auto difference = [&](double step) {
                std::vector<double> up = density;
                std::vector<double> down = density;
                up[e] += step;
                down[e] -= step;
                return (value_at(analysis, card, up, penalty) - value_at(analysis, card, down, penalty)) /
                       (2 * step);
            };
            const double expected = (4.0 * difference(h) - difference(2 * h)) / 3.0;
            EXPECT_NEAR(found.gradient[e], expected, 1e-6 * std::max(std::abs(expected), 1e-2 * largest))
                << card.name << " element " << e;
        }
    }
}

TEST(Response, FractionsCountTheNamedRegions) {
    const Study study = study_from(crooked(), {"response.budget.of=[\"block\", \"pad\"]"});
    const Model model = build_model(study);
    StaticAnalysis analysis(model, {});
    const std::vector<double> half(model.mesh.elements(), 0.5);
    EXPECT_NEAR(measure(analysis, study.responses[1], {}, half, 3, false).value, 0.5, 1e-14);
    EXPECT_NEAR(measure(analysis, study.responses[3], {}, half, 3, false).value, 0.5 * 122 * 7.85e-9, 1e-18);
    const Study default_of = study_from(crooked());
    const std::vector<double> weights = linear_weights(model, default_of.responses[1]);
    for (std::size_t e = 0; e < weights.size(); ++e)
        EXPECT_EQ(weights[e] > 0, model.role(static_cast<ElementId>(e)) == Role::Design);
}

TEST(Response, WeightsAddUp) {
    const Study study = study_from(crooked());
    const Model model = build_model(study);
    StaticAnalysis analysis(model, {});
    const std::vector<double> full(model.mesh.elements(), 1.0);
    const auto results = analysis.solve(full, full);
    ASSERT_EQ(results.size(), 3U);
    EXPECT_NEAR(measure(analysis, study.responses[0], results, full, 3, false).value,
                results[0].compliance + 0.7 * (results[1].compliance + results[2].compliance), 1e-9);
    EXPECT_NEAR(measure(analysis, study.responses[2], results, full, 3, false).value, results[2].compliance,
                1e-12);
}

TEST(Response, BoundsHoldWithATolerance) {
    ResponseCard card;
    card.max = 2.0;
    card.min = 1.0;
    EXPECT_TRUE(holds(card, 2.0019));
    EXPECT_FALSE(holds(card, 2.01));
    EXPECT_FALSE(holds(card, 0.9));
}

TEST(Compliance, SensitivitiesWithSpinHeatAndEnforcedMotion) {
    const Model model = build_model(test::study_from(
        test::block_study(
            "[[frame]]\nname = \"f\"\nkind = \"cylindrical\"\norigin = [0, 1, 1]\naxis = [0, 0, 1]\n"
            "[[load]]\nname = \"turn\"\nspin = { frame = \"f\", speed = \"200000 rpm\" }\n[[load]]\nname = "
            "\"warm\"\nheat = 20\n"
            "[[surface]]\nname = \"top\"\nof = \"block\"\nfacing = [0, 0, 1]\ninside = { box = [[5, 0, 3], "
            "[8, 4, 5]] }\n"
            "[[support]]\nname = \"lift\"\non = \"top\"\nhold = \"z\"\nmove = { z = 0.001 }\n"
            "[[case]]\nname = \"all\"\nsupports = [\"clamp\", \"lift\"]\nloads = { turn = 1, warm = 1, pull "
            "= 1 }\n"),
        {"material.steel.expansion=1.2e-5", "mesh.size=2"}));
    ResponseCard response;
    response.in_case = "all";
    StaticAnalysis analysis(model, {});
    std::vector<double> density;
    for (std::size_t e = 0; e < model.mesh.elements(); ++e)
        density.push_back(0.55 + 0.4 * std::sin(7.0 * static_cast<double>(e)));
    const auto value = [&](const std::vector<double>& rho, bool gradient) {
        return compliance(analysis, response, analysis.solve(stiffness_share(rho, 3.0), rho), rho, 3.0,
                          gradient);
    };
    const Measured here = value(density, true);
    double scale = 0.0;
    for (const double g : here.gradient) scale = std::max(scale, std::abs(g));
    for (std::size_t e = 0; e < density.size(); e += 5) {
        std::vector<double> up = density;
        std::vector<double> down = density;
        up[e] += 1e-5;
        down[e] -= 1e-5;
        const double difference = (value(up, false).value - value(down, false).value) / 2e-5;
        EXPECT_NEAR(here.gradient[e], difference, 1e-5 * scale) << e;
    }
}
