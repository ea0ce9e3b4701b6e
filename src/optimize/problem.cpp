#include "optimize/problem.hpp"

#include <fmt/format.h>

namespace upright {

namespace {

const char* served = "Served now: compliance under one max on mass, volume or their fractions; or mass or "
                     "volume under one max on compliance";

} // namespace

Problem make_problem(const Study& study) {
    if (!study.goal)
        throw Error::input({study.file.string(), 1, 1}, "the study has no goal",
                           "Write [goal] with minimize = \"a response\"");
    Problem out;
    std::vector<std::size_t> bounded;
    for (std::size_t r = 0; r < study.responses.size(); ++r) {
        const ResponseCard& response = study.responses[r];
        if (response.name == study.goal->response) out.goal = r;
        if (!of_material(response.measure) && response.measure != Measure::Compliance)
            throw Error::input(
                response.place,
                std::string(text(response.measure)) + ", as \"" + response.name +
                    "\" asks for, is not served yet by the optimiser (\"upright analyze\" measures it)",
                "Write active = false there for now");
        if (response.min)
            throw Error::input(
                response.place,
                "a min bound, as \"" + response.name + "\" has, is not served yet by the optimiser", served);
        if (response.max) bounded.push_back(r);
    }
    const ResponseCard& goal = study.responses[out.goal];
    out.least_material = of_material(goal.measure);
    if (bounded.empty())
        throw Error::input(study.goal->place, "nothing bounds the goal \"" + goal.name + "\"",
                           out.least_material ? "Give a compliance response a max"
                                              : "Give a mass-fraction response a max");
    if (bounded.size() > 1)
        throw Error::input(study.responses[bounded[1]].place,
                           "\"" + study.responses[bounded[1]].name +
                               "\" is a second bound, which is not served yet",
                           served);
    out.bound = bounded.front();
    const ResponseCard& bound = study.responses[out.bound];
    if (out.bound == out.goal)
        throw Error::input(bound.place, "\"" + bound.name + "\" is both the goal and the bound", served);
    if (of_material(bound.measure) == out.least_material)
        throw Error::input(bound.place,
                           std::string("a bound on ") + text(bound.measure) + " with the goal " +
                               text(goal.measure) + " is not served yet",
                           served);
    return out;
}

Range material_range(const Model& model, const ResponseCard& response) {
    Range out;
    const std::vector<double> weights = linear_weights(model, response);
    for (std::size_t e = 0; e < weights.size(); ++e) {
        out.most += weights[e];
        if (model.role(static_cast<ElementId>(e)) != Role::Design) out.least += weights[e];
    }
    return out;
}

void require_reachable(const Study& study, const Model& model, const Problem& problem) {
    bool any = false;
    for (const ModelRegion& region : model.regions)
        any = any || (region.role == Role::Design && region.elements > 0);
    if (!any)
        throw Error::input(study.regions.front().place,
                           "there is no design material: nothing can be optimised",
                           "Give a region role = \"design\"");
    if (problem.least_material) return;
    const ResponseCard& bound = study.responses[problem.bound];
    const Range range = material_range(model, bound);
    if (range.most <= range.least)
        throw Error::input(bound.place,
                           "the bound \"" + bound.name +
                               "\" counts no design material, so nothing can meet it by design",
                           "Name a design region in \"of\"");
    if (*bound.max <= range.least)
        throw Error::input(
            bound.place,
            fmt::format("the kept regions alone make \"{}\" {:.4g}, which is above its max of {:.4g}",
                        bound.name, range.least, *bound.max),
            fmt::format("Raise max above {:.4g}, or keep less", range.least));
}

double filter_radius(const Study& study, const Model& model) {
    return study.run.filter.value_or(2.5 * model.mesh.size);
}

} // namespace upright
