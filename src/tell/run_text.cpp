#include "tell/run_text.hpp"

#include "response/motions.hpp"
#include "study/measure_word.hpp"
#include "tell/bound_text.hpp"
#include "tell/lines.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <fmt/ranges.h>

namespace upright {

namespace {

// The worst of the bounds; nothing where none is broken.
const Reading* broken_most(const std::vector<Reading>& readings, std::size_t& column) {
    const Reading* out = nullptr;
    for (std::size_t c = 0; c < readings.size(); ++c) {
        if (readings[c].holds || (out != nullptr && readings[c].excess <= out->excess)) continue;
        out = &readings[c];
        column = c;
    }
    return out;
}

// Whether the densities' numbers are of a design made too thin.
bool made_thin(const OptimizeResult& result) {
    return !result.three.empty() && result.three.front().face_shift != 0.0;
}

// Values of the densities and of the black-and-white design; bounds stand as in the design that decides.
void add_responses(const Model& model, const OptimizeResult& result, Lines& out) {
    const std::vector<Column> all = columns(model);
    const bool made = result.black_and_white.there();
    std::size_t width = 20;
    for (const Column& c : all) width = std::max(width, c.name.size());
    if (made)
        out.add(fmt::format("  {:<{}} {:<16} {:>12} {:>16}", "", width, "",
                            made_thin(result) ? "made thin" : "densities", "black and white"));
    for (std::size_t c = 0; c < all.size(); ++c) {
        const ModelResponse& card = model.responses[all[c].response];
        const Reading& gray = result.readings[c];
        const Reading& r = result.deciding()[c];
        std::string line =
            fmt::format("  {:<{}} {:<16} {:>12.6g}", all[c].name, width, card.measure->word, gray.value);
        if (made) line += fmt::format(" {:>16.6g}", result.black_and_white.readings[c].value);
        line += fmt::format(" {:<8}", model.units.text(card.measure->dimension));
        if (card.goal) line += card.raised ? " goal, raised" : " goal";
        if (r.min || r.max)
            line += fmt::format("{} {}: {}", card.goal ? "," : "", limits_text(r.min, r.max, ""),
                                standing_text(r.excess));
        if (!r.where.empty()) line += "  at " + r.where;
        if (!card.except.empty())
            line += "  (" + fmt::format("{}", fmt::join(card.except, ", ")) + " excepted)";
        out.add(line);
    }
}

// What a design that is made three times comes to in each that is another than as drawn.
void add_three(const Model& model, const OptimizeResult& result, Lines& out) {
    if (result.three.empty()) return;
    const std::vector<Column> all = columns(model);
    std::size_t width = 20;
    for (const Column& c : all) width = std::max(width, c.name.size());
    out.add(fmt::format("{}, every free face moved outwards by",
                        result.by_black_and_white() ? "in black and white" : "the densities"));
    std::string head = fmt::format("  {:<{}} {:<16}", "", width, "");
    for (std::size_t k = 0; k < result.three.size(); ++k)
        if (const double shift = result.three[k].face_shift; k == 1 || shift != 0.0)
            head += fmt::format(
                " {:>12}", k == 1 ? std::string("as drawn")
                                  : fmt::format("{:+.3g} {}", shift, model.units.text(dimension::length)));
    out.add(head);
    for (std::size_t c = 0; c < all.size(); ++c) {
        const ModelResponse& card = model.responses[all[c].response];
        std::string line = fmt::format("  {:<{}} {:<16}", all[c].name, width, card.measure->word);
        for (std::size_t k = 0; k < result.three.size(); ++k)
            if (k == 1 || result.three[k].face_shift != 0.0)
                line += fmt::format(" {:>12.6g}", result.three[k].readings[c].value);
        out.add(line + " " + model.units.text(card.measure->dimension));
    }
}

constexpr double waits_to_be_met = 0.02;
constexpr double most_of_stress = 3.0;

// "1 % more of budget would make stiffness 1.8 % lower".
void add_costs(const Model& model, const OptimizeResult& result, Lines& out) {
    const std::vector<Column> all = columns(model);
    const Problem problem = make_problem(model);
    const ModelResponse& goal = model.responses[problem.goal];
    std::string free;
    for (const BoundCost& cost : result.costs) {
        const Reading& r = result.deciding()[cost.column];
        const double limit = cost.upper ? *r.max : *r.min;
        const std::string bound =
            fmt::format("{} {} {:.5g}", all[cost.column].name, cost.upper ? "at most" : "at least", limit);
        // Multipliers of a bound that the steps never met have no meaning yet.
        if (result.readings[cost.column].excess > waits_to_be_met || r.excess > waits_to_be_met) {
            out.add(fmt::format("  {}: not told, since {}", bound,
                                r.excess > waits_to_be_met ? "it is broken" : "the densities break it"));
            continue;
        }
        if (std::abs(cost.rate) < 0.005) {
            free += (free.empty() ? "" : ", ") + bound;
            continue;
        }
        // Those of single elements scatter, and with them those of the bounds beside; where they say more
        // than any change of the load could do they say nothing.
        const bool rough = problem.has_stress;
        if (rough && std::abs(cost.rate) > most_of_stress) {
            out.add(
                fmt::format("  {}: costs something; its multipliers scatter too much to say what", bound));
            continue;
        }
        out.add(fmt::format("  {}: 1 % {} would make {} {} {:.{}g} % {}", bound, cost.upper ? "more" : "less",
                            goal.name, rough ? "very roughly" : "about", std::abs(cost.rate), rough ? 1 : 2,
                            cost.rate < 0.0 ? "lower" : "higher"));
    }
    if (!free.empty()) out.add("  costs nothing: " + free);
}

// What decided, and whether it holds.
void add_verdict(const Model& model, const OptimizeResult& result, Lines& out) {
    const BlackAndWhite& made = result.black_and_white;
    const std::string design = result.by_black_and_white()
                                   ? fmt::format("the black-and-white design, cut at density {:.3g}{},",
                                                 made.threshold, made_thin(result) ? " and made thin" : "")
                                   : std::string("the design");
    if (result.feasible) {
        out.add(design + " holds every bound");
    } else {
        const std::vector<Column> all = columns(model);
        std::size_t c = 0;
        if (const Reading* r = broken_most(result.deciding(), c)) {
            const std::string unit = model.units.text(model.responses[all[c].response].measure->dimension);
            out.add(fmt::format("NOT FEASIBLE: {} of {} came to {:.5g}{}{}, {}: {}", all[c].name, design,
                                r->value, unit.empty() ? "" : " ", unit, limits_text(r->min, r->max, unit),
                                standing_text(r->excess)));
        }
        if (result.by_black_and_white() && !made.carries())
            out.add("NOT FEASIBLE: " + design + " does not bear every load: it has come apart");
        out.add(result.best_feasible > 0
                    ? fmt::format("the densities of iteration {} held every bound", result.best_feasible)
                    : std::string("no iteration held every bound"));
    }
    if (!result.by_black_and_white() && made.there())
        out.add(fmt::format("{}, so the densities decide; cut at {:.3g} they {}",
                            result.asked_black_and_white ? "the run ended before it was black and white"
                                                         : "sharpen = false",
                            made.threshold,
                            made.feasible    ? "hold every bound too"
                            : made.carries() ? "would NOT hold every bound"
                                             : "would not bear the loads"));
}

} // namespace

std::string time_text(double seconds) {
    const long whole = std::lround(seconds);
    if (whole >= 3600) return fmt::format("{} h {:02d}", whole / 3600, whole % 3600 / 60);
    return fmt::format("{}:{:02d}", whole / 60, whole % 60);
}

std::string run_summary(const Model& model, const OptimizeResult& result, double seconds) {
    const IterationRow& row = result.row(); // of the result
    const IterationRow& last = result.state.history.back();
    Lines out;
    out.add("");
    add_responses(model, result, out);
    for (const ModalCaseId c : IdRange<ModalCaseId>(result.modals.size())) {
        const std::vector<Mode>& modes = result.modals[index(c)].modes;
        if (modes.size() > 1 && modes[1].frequency < 1.02 * modes[0].frequency)
            out.add(fmt::format("modes 1 and 2 of {} lie within {:.2g} % of each other: {:.5g} and "
                                "{:.5g} {}",
                                model.modal_cases[c].name,
                                100.0 * (modes[1].frequency / modes[0].frequency - 1.0), modes[0].frequency,
                                modes[1].frequency, model.units.text(dimension::frequency)));
        for (std::size_t m = 0; m < modes.size(); ++m)
            if (modes[m].local())
                out.add(fmt::format(
                    "doubt: mode {} of {} ({:.5g} {}) is {}, at {}: a sliver or a thin member", m + 1,
                    model.modal_cases[c].name, modes[m].frequency, model.units.text(dimension::frequency),
                    local_words(modes[m]), place_text(modes[m].moved_at, model.mesh.dimension() == 2)));
    }
    if (result.state.history.size() > 10) {
        const double before = result.state.history[result.state.history.size() - 11].goal;
        out.add(fmt::format("\nthe goal changed by {:+.2g} % over the last ten iterations",
                            100.0 * (last.goal / before - 1.0)));
    }
    const char* ending = result.status == RunStatus::Converged ? "converged"
                         : result.status == RunStatus::Interrupted
                             ? "interrupted, checkpoint written; go on with --resume"
                             : "stopped at the limit of iterations";
    out.add(fmt::format("{} after {} iterations in {}{}; density change {:.3g}, grayness {:.3g}", ending,
                        last.iteration, time_text(seconds),
                        result.no_better
                            ? fmt::format(", the last {} of which brought no better black-and-white design",
                                          patience_for_better)
                            : std::string(),
                        last.change, last.grayness));
    if (result.status == RunStatus::Interrupted) return out.take();
    if (result.design_of != last.iteration)
        out.add(fmt::format("the result is the design of iteration {}, {}", result.design_of,
                            result.by_black_and_white() && !result.black_and_white.feasible
                                ? "whose worst bound is broken least in black and white"
                                : "the best that held every bound"));
    add_three(model, result, out);
    add_verdict(model, result, out);
    if (!result.costs.empty()) out.add("what each bound costs, near this design:");
    add_costs(model, result, out);
    if (row.grayness > 0.05)
        out.add(fmt::format("doubt: grayness {:.2f} at the end; the densities are not near black and "
                            "white, so carving changes the part{}",
                            row.grayness,
                            model.run.sharpen ? "; finer cells and more iterations help"
                                              : "; sharpen = true helps"));
    if (!result.stages_done)
        out.add("doubt: the iterations ended before the final penalty and sharpness; allow more");
    return out.take();
}

std::string certificate_text(const Model& model, const Certificate& c) {
    if (!c.not_served.empty()) {
        return "no certificate: " + c.not_served;
    }
    Lines out;
    const ModelResponse& goal = model.responses[make_problem(model).goal];
    const std::string unit = model.units.text(goal.measure->dimension);
    out.add(fmt::format(
        "certificate: no design on this mesh has a {} below {:.6g}{}{}; this one is {:.1f} % above that",
        goal.name, c.bound, unit.empty() ? "" : " ", unit, 100.0 * c.distance));
    out.add(fmt::format("             (convex relaxation at {:.6g} after {} iterations, gap {:.2g} %)",
                        c.relaxed, c.iterations, 100.0 * c.gap));
    return out.take();
}

} // namespace upright
