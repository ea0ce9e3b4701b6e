#include "optimize/problem.hpp"

#include "base/reduction.hpp"
#include "optimize/run/stepper.hpp"

#include <fmt/format.h>

namespace upright {

namespace {

bool bounded(const ModelResponse& r) {
    return r.min || r.max || r.max_share;
}

} // namespace

Problem make_problem(const Model& model) {
    if (!model.goal)
        throw Error::input({model.file.string(), 1, 1}, "the study has no goal",
                           "Write [goal] with minimize = \"a response\"");
    Problem out;
    out.maximize = model.goal->maximize;
    bool others = false;
    for (std::size_t r = 0; r < model.responses.size(); ++r) {
        const ModelResponse& response = model.responses[r];
        const bool goal = response.goal;
        if (goal) out.goal = r;
        if (bounded(response)) out.bounds.push_back(r);
        if (!goal && !bounded(response)) continue;
        const MeasureWord& m = *response.measure;
        out.has_stress = out.has_stress || m.strength;
        out.has_frequency = out.has_frequency || m.vibration;
        out.has_stiffness = out.has_stiffness || m.stiffness;
        others = others || !(m.compliance || of_material(response));
    }
    const ModelResponse& goal = model.responses[out.goal];
    out.material_goal = of_material(goal) && !out.maximize;
    out.compliance_goal = goal.measure->compliance && !out.maximize;
    out.stiffness_alone = !others && out.has_stiffness;
    // Without any bound these go to all material, or to none.
    if (goal.measure->needs_bound &&
        (out.bounds.empty() || (out.bounds.size() == 1 && out.bounds.front() == out.goal)))
        throw Error::input(model.goal->place, "nothing bounds the goal \"" + goal.name + "\"",
                           out.material_goal
                               ? "Give another response a bound, such as a compliance response a max"
                               : "Give another response a bound, such as a mass-fraction response a max");
    for (const StepperKind& kind : stepper_kinds())
        if (out.method == nullptr && kind.fits(model, out)) out.method = &kind;
    return out;
}

Range material_range(const Model& model, const ModelResponse& response) {
    Range out;
    const std::vector<double> weights = linear_weights(model, response);
    out.most = sum_of(weights);
    out.least = sum_over(weights.size(), [&](std::size_t e) {
        return model.role(static_cast<ElementId>(e)) != Role::Design ? weights[e] : 0.0;
    });
    return out;
}

void require_reachable(const Model& model, const Problem& problem) {
    bool any = false;
    for (const ModelRegion& region : model.regions)
        any = any || (region.role == Role::Design && region.elements > 0);
    if (!any)
        throw Error::input(model.shapes.regions().front().place,
                           "there is no design material: nothing can be optimised",
                           "Give a region role = \"design\"");
    for (const std::size_t r : problem.bounds) {
        const ModelResponse& bound = model.responses[r];
        if (!of_material(bound)) continue;
        const Range range = material_range(model, bound);
        if (range.most <= range.least)
            throw Error::input(bound.place,
                               "the bound \"" + bound.name +
                                   "\" counts no design material, so nothing can meet it by design",
                               "Name a design region in \"of\"");
        if (bound.max && *bound.max <= range.least)
            throw Error::input(
                bound.place,
                fmt::format("the kept regions alone make \"{}\" {:.4g}, which is above its max of {:.4g}",
                            bound.name, range.least, *bound.max),
                fmt::format("Raise max above {:.4g}, or keep less", range.least));
        if (bound.min && *bound.min > range.most)
            throw Error::input(
                bound.place,
                fmt::format("all material makes \"{}\" {:.4g}, which is below its min of {:.4g}", bound.name,
                            range.most, *bound.min),
                fmt::format("Lower min below {:.4g}", range.most));
    }
}

std::vector<double> pulled_back(const DesignChain& chain, const std::vector<double>& x, double sharpness,
                                const Smooth& s) {
    const Thresholds& t = chain.thresholds();
    return chain.pull_back(x, sharpness, s.gradient,
                           s.by == Made::Thin    ? t.thin
                           : s.by == Made::Thick ? t.thick
                                                 : 0.5);
}

} // namespace upright
