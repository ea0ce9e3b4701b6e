#include "optimize/gradient_check.hpp"

#include "base/reduction.hpp"
#include "design/chain.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <random>

namespace upright {

namespace {

constexpr int directions = 3;
constexpr double penalty = 3.0;
constexpr double sharpness = 4.0;
constexpr double step = 1e-3;
constexpr double flat = 1e-3; // of the value: a gradient shorter than that counts as that long

// A row for each smooth function, still to be filled with what differences say.
std::vector<GradientRow> rows_of(const DesignMeasures& measures, const std::vector<Smooth>& found) {
    std::vector<GradientRow> out;
    std::map<std::size_t, int> seen;
    for (const Smooth& s : found) {
        const Column& column = measures.columns()[s.column];
        const ModelResponse& card = measures.state().model().responses[column.response];
        const MeasureKind& kind = kind_of(card);
        GradientRow row;
        row.name = column.name + kind.smooth_name(card, seen[s.column]++);
        row.measure = card.measure->word;
        row.value = s.value;
        row.remark = kind.smooth_remark(
            card, measures.state(), {s.column, column.in_case, column.in_modal_case, column.name, nullptr},
            s.value);
        out.push_back(std::move(row));
    }
    return out;
}

} // namespace

GradientCheck check_gradients(StaticAnalysis& analysis, Observer& observer) {
    const Model& model = analysis.model();
    const DesignChain chain(model, filter_radius(model), form_rules(model.form), analysis.options());
    DesignMeasures measures(analysis);
    // Exact solves: differences feel what an optimiser would not.
    MeasureAccuracy accuracy;
    accuracy.statics.energy = 1e-22;
    accuracy.modals.tolerance = 1e-6;

    std::mt19937 random(20260401);
    const auto share = [&] { return static_cast<double>(random()) / 4294967295.0; };
    std::vector<double> x(chain.variables());
    for (double& v : x) v = 0.3 + 0.6 * share();
    const std::vector<bool> all(measures.columns().size(), true);
    ThreeDesigns designs;
    const auto values_at = [&](const std::vector<double>& at) {
        chain.made(at, sharpness, designs);
        measures.analyse(designs, penalty, accuracy);
        for (const std::string& note : measures.take_notes()) observer.note(note);
        std::vector<double> out;
        for (const Smooth& s : measures.smooth(all, {})) out.push_back(s.value);
        return out;
    };
    chain.made(x, sharpness, designs);
    measures.analyse(designs, penalty, accuracy);
    const std::vector<Smooth> found = measures.smooth(all, {true, false});

    GradientCheck out;
    out.directions = directions;
    out.variables = x.size();
    std::vector<std::vector<double>> gradients;
    std::vector<double> lengths;
    for (const Smooth& f : found) {
        gradients.push_back(pulled_back(chain, x, sharpness, f));
        lengths.push_back(std::sqrt(weighted_sum(gradients.back(), gradients.back())));
    }
    out.rows = rows_of(measures, found);
    for (int d = 0; d < directions; ++d) {
        observer.note(fmt::format("direction {} of {}: four analyses", d + 1, directions));
        std::vector<double> along(x.size());
        for (double& v : along) v = random() % 2 == 0 ? 1.0 : -1.0;
        const auto moved = [&](double by) {
            std::vector<double> at = x;
            for (std::size_t i = 0; i < at.size(); ++i) at[i] += by * along[i];
            return values_at(at);
        };
        const std::vector<double> up = moved(step);
        const std::vector<double> down = moved(-step);
        const std::vector<double> far_up = moved(2 * step);
        const std::vector<double> far_down = moved(-2 * step);
        for (std::size_t k = 0; k < out.rows.size(); ++k) {
            const double near = (up[k] - down[k]) / (2 * step);
            const double far = (far_up[k] - far_down[k]) / (4 * step);
            const double difference = (4.0 * near - far) / 3.0;
            const double slope = weighted_sum(gradients[k], along);
            GradientRow& row = out.rows[k];
            // What does not depend on the design has no gradient to be a share of.
            const double size = std::max({lengths[k], flat * std::abs(row.value), 1e-300});
            const double error = std::abs(slope - difference) / size;
            if (d > 0 && error <= row.error) continue;
            row.error = error;
            row.slope = slope;
            row.difference = difference;
        }
        if (observer.stop_requested()) {
            out.directions = d + 1;
            break;
        }
    }
    return out;
}

} // namespace upright
