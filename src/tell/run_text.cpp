#include "tell/run_text.hpp"

#include "study/measure_word.hpp"
#include "tell/lines.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <fmt/ranges.h>

namespace upright {

namespace {

std::string bounds_text(const Reading& r, const std::string& unit) {
    std::string out;
    const auto one = [&](const char* word, double limit) {
        out += fmt::format("{} {} {:.5g}", out.empty() ? "" : ",", word, limit) +
               (unit.empty() ? "" : " " + unit);
    };
    if (r.max) one("at most", *r.max);
    if (r.min) one("at least", *r.min);
    if (out.empty()) return out;
    if (r.holds) return out + ": holds";
    return out + (r.excess < 1e6 ? fmt::format(": DOES NOT HOLD, by {:.2g} %", 100.0 * r.excess)
                                 : std::string(": DOES NOT HOLD"));
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
    const std::vector<Column> all = columns(model);
    std::size_t width = 20;
    for (const Column& c : all) width = std::max(width, c.name.size());
    for (std::size_t c = 0; c < all.size(); ++c) {
        const ModelResponse& card = model.responses[all[c].response];
        const Reading& r = result.readings[c];
        const std::string unit = model.units.text(card.measure->dimension);
        std::string line = fmt::format("  {:<{}} {:<16} {:>12.6g} {:<8}", all[c].name, width,
                                       card.measure->word, r.value, unit);
        if (card.goal) line += card.raised ? " goal, raised" : " goal";
        line += bounds_text(r, "");
        if (!r.where.empty()) line += "  at " + r.where;
        if (!card.except.empty())
            line += "  (" + fmt::format("{}", fmt::join(card.except, ", ")) + " excepted)";
        out.add(line);
    }
    for (const ModalCaseId c : IdRange<ModalCaseId>(result.modals.size())) {
        const std::vector<Mode>& modes = result.modals[index(c)].modes;
        if (modes.size() > 1 && modes[1].frequency < 1.02 * modes[0].frequency)
            out.add(fmt::format("modes 1 and 2 of {} lie within {:.2g} % of each other: {:.5g} and "
                                "{:.5g} {}",
                                model.modal_cases[c].name,
                                100.0 * (modes[1].frequency / modes[0].frequency - 1.0), modes[0].frequency,
                                modes[1].frequency, model.units.text(dimension::frequency)));
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
    out.add(fmt::format("{} after {} iterations in {}; density change {:.3g}, grayness {:.3g}", ending,
                        last.iteration, time_text(seconds), last.change, last.grayness));
    if (result.status == RunStatus::Interrupted) return out.take();
    if (result.design_of != last.iteration)
        out.add(fmt::format("the result is the design of iteration {}, the best that held every bound",
                            result.design_of));
    if (result.feasible) {
        out.add("every bound holds");
    } else {
        std::size_t worst = 0;
        for (std::size_t c = 0; c < all.size(); ++c)
            if (result.readings[c].excess > result.readings[worst].excess) worst = c;
        const Reading& r = result.readings[worst];
        out.add(fmt::format(
            "NOT FEASIBLE: {} came to {:.5g},{}; {}", all[worst].name, r.value,
            bounds_text(r, model.units.text(model.responses[all[worst].response].measure->dimension)),
            result.best_feasible > 0 ? fmt::format("iteration {} held every bound", result.best_feasible)
                                     : std::string("no iteration held every bound")));
    }
    if (!result.guard.words.empty()) out.add("kept beside the study's own bounds: " + result.guard.words);
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
