#include "optimize/run/reachable.hpp"

#include "base/reduction.hpp"
#include "optimize/certificate.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright {

namespace {

class Look {
  public:
    explicit Look(const StepTools& tools)
        : model_(tools.model), problem_(tools.problem), analysis_(tools.analysis), chain_(tools.chain),
          measures_(tools.measures), observer_(tools.observer) {}

    // Bounds that even the full solid breaks.
    void look_at_all_material() {
        const Model& model = analysis_.model();
        // Bounds on material need no analysis (require_reachable).
        const bool material_alone =
            std::all_of(problem_.bounds.begin(), problem_.bounds.end(),
                        [&](std::size_t b) { return of_design(model_.responses[b]); });
        if (material_alone || !problem_.has_stiffness) return;
        const std::vector<double> full(model.mesh.elements(), 1.0);
        MeasureAccuracy tight;
        measures_.analyse(full, 1.0, tight);
        const std::vector<Reading> readings = measures_.readings();
        for (std::size_t c = 0; c < readings.size(); ++c) {
            const ModelResponse& card = model_.responses[measures_.columns()[c].response];
            const Reading& r = readings[c];
            if (r.holds || of_design(card)) continue;
            const std::string unit = model_.units.text(card.measure->dimension);
            const bool above = r.max && r.value > *r.max;
            const std::string what = fmt::format(
                "with all material \"{}\" is {:.5g} {}{}and its {} is {:.5g}", measures_.columns()[c].name,
                r.value, unit, unit.empty() ? "" : " ", above ? "max" : "min", above ? *r.max : *r.min);
            if (!card.measure->stiffness || !all_material_is_best(c, above)) {
                observer_.note(what + "; whether less can meet it the run will show");
                continue;
            }
            throw Error::input(
                card.place,
                fmt::format("\"{}\" cannot be met: with all material it is {:.5g} and its {} is {:.5g}",
                            measures_.columns()[c].name, r.value, above ? "max" : "min",
                            above ? *r.max : *r.min),
                fmt::format("Write a {} {} {:.5g}", above ? "max" : "min", above ? "above" : "below",
                            r.value));
        }
    }

    // A bound on compliance that no design of so little material meets: the relaxed problem says so.
    void look_at_pairs() {
        for (const std::size_t c : problem_.bounds)
            for (const std::size_t m : problem_.bounds) {
                const ModelResponse& stiff = model_.responses[c];
                const ModelResponse& light = model_.responses[m];
                if (!stiff.measure->compliance || !of_material(light) || !stiff.max || !light.max) continue;
                const double least = least_compliance(analysis_, stiff, light, observer_);
                if (least <= *stiff.max * (1.0 + bound_tolerance)) continue;
                throw Error::input(
                    stiff.place,
                    fmt::format(
                        "\"{}\" and \"{}\" contradict each other: with a {} of {:.5g} no design has a "
                        "\"{}\" below {:.5g}, and its max is {:.5g}",
                        stiff.name, light.name, light.measure->word, *light.max, stiff.name, least,
                        *stiff.max),
                    fmt::format("Write a max well above {:.5g} there, or allow more material", least));
            }
    }

  private:
    // Whether taking material away from the full solid makes a broken bound worse everywhere.
    bool all_material_is_best(std::size_t column, bool above) {
        std::vector<bool> one(measures_.columns().size(), false);
        one[column] = true;
        double helps = 0.0;
        double all = 0.0;
        for (const Smooth& s : measures_.smooth(one, {true, false})) {
            // With less material the value moves by the opposite of the gradient.
            const auto gain = [&](std::size_t e) {
                return !chain_.is_design()[e] ? 0.0 : above ? s.gradient[e] : -s.gradient[e];
            };
            helps += sum_over(s.gradient.size(), [&](std::size_t e) { return std::max(0.0, gain(e)); });
            all += sum_over(s.gradient.size(), [&](std::size_t e) { return std::abs(gain(e)); });
        }
        return helps < 0.02 * all;
    }

    const Model& model_;
    const Problem& problem_;
    StaticAnalysis& analysis_;
    const DesignChain& chain_;
    DesignMeasures& measures_;
    OptimizeObserver& observer_;
};

} // namespace

void look_ahead(const StepTools& tools) {
    Look look(tools);
    look.look_at_all_material();
    look.look_at_pairs();
}

} // namespace upright
