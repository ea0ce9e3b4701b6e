// Sensitivities of everything a study measures, element by element, against central differences.
#pragma once

#include "response/design_measures.hpp"
#include "support/studies.hpp"

#include <cmath>
#include <gtest/gtest.h>
#include <random>

namespace upright::test {

// Densities between 0.3 and 0.95; the same for every run.
inline std::vector<double> random_densities(const Model& model) {
    std::mt19937 random(7);
    std::vector<double> out(model.mesh.elements());
    for (double& d : out) d = 0.3 + 0.65 * static_cast<double>(random()) / 4294967295.0;
    return out;
}

// Every `stride`-th element; errors are a share of the largest slope, or of a twentieth of it where the
// element's own is small.
inline void expect_gradients_match(const Study& study, std::size_t stride, double tolerance = 1e-5,
                                   bool each_element = false) {
    const Model model = build_model(study);
    StaticAnalysis analysis(model, {});
    DesignMeasures measures(analysis);
    const std::vector<double> density = random_densities(model);
    const std::vector<bool> all(measures.columns().size(), true);
    MeasureAccuracy exact;
    exact.modals.tolerance = 1e-7;
    measures.analyse(density, 3.0, exact);
    // Multipliers of single elements are nothing before the fifth time.
    for (int i = 0; i < (each_element ? 6 : 0); ++i) measures.smooth(all, {false, true, each_element});
    const std::vector<Smooth> found = measures.smooth(all, {true, true, each_element});
    ASSERT_FALSE(found.empty());
    const auto values_at = [&](std::size_t e, double by) {
        std::vector<double> at = density;
        at[e] += by;
        measures.analyse(at, 3.0, exact);
        std::vector<double> out;
        for (const Smooth& s : measures.smooth(all, {false, false, each_element})) out.push_back(s.value);
        return out;
    };
    for (std::size_t e = 1; e < density.size(); e += stride) {
        const double h = 1e-3;
        const auto up = values_at(e, h);
        const auto down = values_at(e, -h);
        const auto far_up = values_at(e, 2 * h);
        const auto far_down = values_at(e, -2 * h);
        for (std::size_t k = 0; k < found.size(); ++k) {
            const double near = (up[k] - down[k]) / (2 * h);
            const double far = (far_up[k] - far_down[k]) / (4 * h);
            const double difference = (4 * near - far) / 3;
            double largest = 0.0;
            for (const double g : found[k].gradient) largest = std::max(largest, std::abs(g));
            EXPECT_NEAR(found[k].gradient[e], difference,
                        tolerance *
                            std::max({std::abs(difference), 0.05 * largest, 1e-4 * std::abs(found[k].value)}))
                << measures.columns()[found[k].column].name << " element " << e;
        }
    }
}

// All the measures there are, for a study with the surfaces "root" and "tip", the supports "clamp" and
// "prop", the static case "bend" and the modal case "ring". `flat`: without z.
inline std::string every_measure(bool flat) {
    const std::string side = flat ? "y" : "z";
    return R"(
[[response]]
name = "work"
measure = "compliance"
[[response]]
name = "worst"
measure = "compliance"
take = "largest"
[[response]]
name = "heft"
measure = "mass"
[[response]]
name = "mean-sag"
measure = "displacement"
at = "tip"
take = "mean"
component = ")" +
           side + R"("
[[response]]
name = "sag"
measure = "displacement"
at = "tip"
component = ")" +
           side + R"("
min = -0.5
max = 0.5
[[response]]
name = "travel"
measure = "displacement"
at = "tip"
[[response]]
name = "strain"
measure = "stress"
max = 100
[[response]]
name = "reserve"
measure = "safety"
min = 2
except = "root"
[[response]]
name = "hold"
measure = "reaction"
at = "prop"
[[response]]
name = "hold-side"
measure = "reaction"
at = "clamp"
component = "x"
[[response]]
name = "pitch"
measure = "frequency"
min = 1
)";
}

} // namespace upright::test
