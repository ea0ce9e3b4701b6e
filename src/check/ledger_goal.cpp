// What is asked: goal, bounds, making rules, run, solver.
#include "check/estimate.hpp"
#include "check/writer.hpp"
#include "optimize/run/stages.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright::check {

void Writer::goal() {
    section("Goal, bounds and run");
    if (!model_.goal) {
        doubt(line("goal", "none"), "without [goal] nothing can be optimised");
        return;
    }
    for (const ModelResponse& r : model_.responses) response(r);
    try {
        require_reachable(model_, make_problem(model_));
    } catch (const Error& bad) {
        missing(line("problem", "cannot be optimised as it stands"), bad.what());
    }
    const double radius = filter_radius(model_);
    const double cell = model_.mesh.size;
    LedgerLine& l = line(
        "filter",
        fmt::format("radius {} {}, {:.3g} cells; at the boundary it averages over the design cells in reach",
                    number(radius), unit(dimension::length), radius / cell));
    // Published examples use 2.4 cells; from 2.5 the solution no longer follows the mesh.
    if (radius < 2.499 * cell)
        doubt(l, fmt::format("below 2.5 cells the design follows the mesh; write filter = \"{} {}\"",
                             number(2.5 * cell), unit(dimension::length)));
    form();
    std::optional<Problem> problem;
    try {
        problem = make_problem(model_);
    } catch (const Error&) { // told above
    }
    if (problem) run(*problem);
}

// Goal or bound, and what the material comes to.
void Writer::response(const ModelResponse& r) {
    std::string words = kind_of(r).words(r);
    const std::string u = unit(r.measure->dimension);
    if (r.goal) words = (model_.goal->maximize ? "maximize " : "minimize ") + words;
    if (r.min) words += fmt::format(", at least {}{}", number(*r.min), u.empty() ? "" : " " + u);
    if (r.max) words += fmt::format(", at most {}{}", number(*r.max), u.empty() ? "" : " " + u);
    if (r.max_share)
        words += fmt::format(", at most {:g} % of {}", 100.0 * r.max_share->share,
                             r.max_share->ultimate ? "ultimate" : "yield");
    LedgerLine& l = line(r.name, words);
    const bool by_strength = r.max_share || (r.measure->strength && r.measure->dimension == dimension::none);
    if (by_strength)
        for (std::size_t k = 0; k < model_.regions.size(); ++k) {
            const ModelRegion& region = model_.regions[k];
            if (region.material == MaterialId::None || region.elements == 0 ||
                (!r.of.empty() && !refers_to(r.of, region.name)))
                continue;
            const Material& m = model_.materials[region.material];
            if (r.max_share && r.max_share->ultimate ? !m.ultimate : !m.yield)
                doubt(l, fmt::format("the material {} of {} has no {}: it is not judged there", m.name,
                                     region.name,
                                     r.max_share && r.max_share->ultimate ? "ultimate strength" : "yield"));
        }
    if (of_material(r)) {
        const Range range = material_range(model_, r);
        const auto amount = [&](double value) {
            return r.measure->dimension == dimension::mass ? model_.units.mass_text(value)
                                                           : number(value) + (u.empty() ? "" : " " + u);
        };
        l.text += fmt::format("; {} with the kept regions alone, {} with all", amount(range.least),
                              amount(range.most));
        never(l, r, range);
    }
}

void Writer::run(const Problem& problem) {
    const bool has_design = model_.run.start_run || begins_coarse(model_);
    const double first =
        Stages(model_.run, problem, has_design ? std::optional<double>(1.0) : std::nullopt).now().penalty;
    LedgerLine& l = line("run", fmt::format("at most {} iterations by {}, from {}, {}, penalty {}, {}",
                                            model_.run.iterations, problem.method->word, start_words(model_),
                                            ending_words(model_.run, problem),
                                            model_.run.penalty ? number(*model_.run.penalty)
                                            : first < 3.0      ? "1 rising to 3"
                                                               : "3",
                                            model_.run.sharpen ? "sharpened at the end" : "not sharpened"));
    if (problem.has_frequency && !problem.has_stiffness && model_.masses.empty())
        doubt(l, "a frequency with neither a mass that rides on the part nor a bound on stiffness often "
                 "ends in gray hinges; add a [[mass]] or bound a compliance or displacement");
    if (problem.has_stress && !model_.made_by.kind->follows_shapes)
        doubt(l, "stress is read on a staircase boundary: judge the part on a fitted mesh afterwards");
}

void Writer::never(LedgerLine& l, const ModelResponse& r, const Range& range) const {
    const auto meant = [&](double bound) -> std::string {
        for (const double times : {1e-3, 1e-6, 1e-9, 1e3, 1e6, 1e9})
            if (bound * times > range.least && bound * times < range.most)
                return fmt::format("; {} {} would act", number(bound * times), unit(r.measure->dimension));
        return "";
    };
    if (r.max && *r.max >= range.most)
        doubt(l, "its max lies above all material, so it can never act" + meant(*r.max));
    if (r.min && *r.min <= range.least)
        doubt(l, "its min lies below the kept regions alone, so it can never act" + meant(*r.min));
}

void Writer::form() {
    const FormRules rules = form_rules(model_.form);
    for (const auto& rule : rules.asked) {
        const auto [why, instead] = rule->unfit(model_, model_.form);
        if (!why.empty())
            missing(line(rule->word, rule->words(model_.form, model_.units)), why + ". " + instead);
    }
    if (rules.any()) {
        std::vector<std::string> words;
        for (const auto& rule : rules.asked)
            if (rule->ties) words.push_back(rule->words(model_.form, model_.units));
        std::vector<std::size_t> elements;
        for (std::size_t e = 0; e < model_.mesh.elements(); ++e)
            if (model_.role(static_cast<ElementId>(e)) == Role::Design) elements.push_back(e);
        const FormMap map(model_, elements, rules);
        LedgerLine& l = line("form", fmt::format("{}: {} variables for {} design elements", joined(words),
                                                 map.groups(), elements.size()));
        if (!map.exact())
            doubt(l, "the mesh has not the symmetry of the rules: elements follow the nearest image; a "
                     "grid or polar mesh repeats exactly");
        if (map.alone() > 0)
            doubt(l, fmt::format("{} design elements have no image in the design and stay free: the "
                                 "regions are not as symmetric as the rules",
                                 map.alone()));
    }
    for (const auto& rule : rules.asked) {
        if (rule->ties || !rule->unfit(model_, model_.form).first.empty()) continue;
        LedgerLine& l = line(rule->word, rule->words(model_.form, model_.units));
        if (const std::string told = rule->doubt(model_, model_.form); !told.empty()) doubt(l, told);
    }
}

void Writer::solver() {
    if (model_.cases.empty()) return;
    section("Solver");
    const SolverOptions options = solver_options(model_.run);
    std::vector<CasePlan> groups;
    try {
        groups = plan_cases(model_, options);
    } catch (const Error&) {
        return; // supports that contradict each other are told of with their case
    }
    for (const CasePlan& group : groups) {
        const SolverPlan& plan = group.solver;
        std::string names = model_.cases[group.cases.front()].name;
        if (groups.size() == 1)
            names = "all cases";
        else if (group.cases.size() > 1)
            names += fmt::format(" + {}", group.cases.size() - 1);
        LedgerLine& l = line(names, fmt::format("{} ({}): {} unknowns, about {} and {} an analysis",
                                                text(plan.kind), plan.reason, plan.unknowns,
                                                bytes_text(plan.bytes), seconds_text(plan.seconds)));
        if (!plan.fits && plan.kind != SolverKind::Direct) {
            doubt(l, no_room(model_, plan, options.memory).what());
        } else if (!plan.fits) {
            doubt(l, fmt::format("[run] memory allows {}; write a larger cell size, or solver = \"auto\"",
                                 bytes_text(options.memory)));
        }
    }
    if (!model_.goal) return;
    const RunEstimate all = estimate_run(model_, groups);
    line("a run", fmt::format("{} iterations take about {} and {}; each of --restarts and of a sweep as much",
                              model_.run.iterations, duration_text(all.seconds), bytes_text(all.bytes)));
    if (const auto proof = estimate_verify(model_))
        line("its part", fmt::format("carving and verifying take about {} and {}",
                                     duration_text(proof->seconds), bytes_text(proof->bytes)));
}

std::string Writer::bytes_text(double bytes) {
    return bytes < 1e9 ? fmt::format("{:.0f} MB", std::max(1.0, bytes / 1e6))
                       : fmt::format("{:.2g} GB", bytes / 1e9);
}

std::string Writer::seconds_text(double seconds) {
    return seconds < 0.1 ? std::string("less than 0.1 s") : fmt::format("{:.2g} s", seconds);
}

} // namespace upright::check
