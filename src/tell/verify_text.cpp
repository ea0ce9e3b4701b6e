#include "tell/verify_text.hpp"

#include "base/text.hpp"
#include "tell/bound_text.hpp"
#include "tell/lines.hpp"
#include "tell/part_text.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright {

namespace {

std::string number(const std::optional<double>& value) {
    return value ? fmt::format("{:.5g}", *value) : std::string("-");
}

constexpr double area_told = 0.995, error_doubt = 0.1, compliance_doubt = 0.05;

// "7 % softer", "20 % stiffer to 18 % softer".
std::string softness_text(double least, double most) {
    const auto one = [](double change) {
        return fmt::format("{:.0f} % {}", 100.0 * std::abs(change), change > 0.0 ? "softer" : "stiffer");
    };
    return one(least) == one(most) ? one(most) : one(least) + " to " + one(most);
}

std::string wide(const std::string& text, std::size_t columns) {
    const std::size_t have = text_columns(text);
    return have >= columns ? text : text + std::string(columns - have, ' ');
}

} // namespace

std::string verify_table(const std::vector<VerifyRow>& rows, bool black_and_white) {
    std::size_t name = 8;
    std::size_t measure = 8;
    for (const VerifyRow& r : rows) {
        name = std::max(name, text_columns(r.name));
        measure = std::max(measure, text_columns(r.measure + (r.unit.empty() ? "" : ", " + r.unit)));
    }
    Lines out;
    out.add(fmt::format("  {}  {}  {:>12}  {:>12}  {:>12}  {:>8}", std::string(name, ' '),
                        std::string(measure, ' '), "full space",
                        black_and_white ? "black, white" : "densities", "part", "change"));
    for (const VerifyRow& r : rows) {
        const bool both = r.design && r.part && std::abs(*r.design) > 0.0;
        std::string line =
            fmt::format("  {}  {}  {:>12}  {:>12}  {:>12}  {:>8}", wide(r.name, name),
                        wide(r.measure + (r.unit.empty() ? "" : ", " + r.unit), measure), number(r.whole),
                        number(r.design), number(r.part),
                        both ? fmt::format("{:+.1f} %", 100.0 * (*r.part / *r.design - 1.0)) : "");
        if (r.bounded() && r.holds && r.excess > bound_tolerance)
            line += fmt::format("  {}: at the bound (+{:.2g} %; {:g} % are allowed)",
                                limits_text(r.min, r.max, ""), 100.0 * r.excess, 100.0 * r.tolerance);
        else if (r.bounded())
            line += fmt::format("  {}: {}{}", limits_text(r.min, r.max, ""), standing_text(r.excess),
                                r.holds ? "" : ", FAILS");
        if (!r.where.empty()) line += "  at " + r.where;
        while (!line.empty() && line.back() == ' ') line.pop_back();
        out.add(line);
    }
    return out.take();
}

std::string verified_part_text(const Verified& v) {
    Lines out;
    const UnitSystem& units = v.space.units;
    out.add(v.body_volume > 0.0 ? fmt::format("part: a body of {:.5g} {}, mass {}, {} tetrahedra",
                                              v.body_volume, units.text(dimension::volume),
                                              units.mass_text(v.part.mass, 5), v.part.solid->tets.size())
                                : fmt::format("part: cut at {:.4g}, mass {}, {} tetrahedra", v.threshold,
                                              units.mass_text(v.part.mass, 5), v.part.solid->tets.size()));
    if (v.body_volume > 0.0 && v.part.level != 0.0)
        out.add(fmt::format("its free surface was moved {} by {:.2g} {}, so that the mesh has its volume",
                            v.part.level > 0.0 ? "inward" : "outward",
                            std::abs(v.part.level) * v.space.mesh.size, units.length));
    if (v.blend > 0.0) out.add(fillets_text(v.space, v.part.outside(), v.blend));
    if (!v.part.one_piece()) out.add(pieces_text(v.space, v.part));
    if (v.run_of_shells)
        out.add(
            "its edges are faces as wide as the shells are thick: what holds an edge holds the whole face, "
            "so that it cannot turn");
    if (v.homogenised)
        for (std::size_t i = 0; i < v.part.infills.size(); ++i) {
            const InfillMade& made = v.part.infills[i];
            out.add(
                fmt::format("infill {}: solid material as stiff as its {} is from afar, {:.3g} % of the "
                            "density; displacements, frequencies and masses are those of the part, stresses "
                            "in it are means over struts and voids",
                            made.name, text(v.space.infills[i].cell), 100.0 * made.solid / made.zone));
        }
    if (v.part.solid->tets.size() > most_second_order)
        out.add(fmt::format("tetrahedra of first order, since {} are too many for middles of edges: stiffer "
                            "than the part is",
                            v.part.solid->tets.size()));
    return out.take();
}

std::string surfaces_left_text(const Verified& v) {
    Lines out;
    for (const SurfaceLeft& s : v.surfaces)
        if (s.share() < area_told)
            out.add(fmt::format("{}: {:.0f} % of its area is left", s.name, 100.0 * s.share()));
    return out.take();
}

std::string rounds_text(const Verified& v) {
    if (v.rounds.size() < 2) return {};
    Lines out;
    out.add(fmt::format("  {:>12}  {:>22}  {:>18}", "tetrahedra", "error of energy norm",
                        "largest stress, " + v.space.units.text(dimension::stress)));
    for (const VerifyRound& r : v.rounds)
        out.add(fmt::format("  {:>12}  {:>20.1f} %  {:>18.5g}", r.tets, 100.0 * r.error, r.stress));
    return out.take();
}

std::string verify_doubts_text(const Verified& v) {
    Lines out;
    if (std::any_of(v.rows.begin(), v.rows.end(),
                    [](const VerifyRow& r) { return r.where.find('[') != std::string::npos; }))
        out.add("[held] [loaded] [edge]: a stress found there depends on the mesh");
    // How much softer than the design in the run's elements, least and most.
    double least = 1e300;
    double most = -1e300;
    std::string errors;
    double largest_error = 0.0;
    for (const StaticReport& s : v.report.statics) {
        if (const auto design = v.run.of_case(s.name, "compliance"); design && *design > 0.0) {
            least = std::min(least, s.compliance / *design - 1.0);
            most = std::max(most, s.compliance / *design - 1.0);
        }
        largest_error = std::max(largest_error, s.error.relative);
        errors += fmt::format("{}{} {:.1f} %", errors.empty() ? "" : ", ", s.name, 100.0 * s.error.relative);
    }
    if (!errors.empty()) out.add("estimated error of the energy norm: " + errors);
    if (largest_error > error_doubt)
        out.add("doubt: stresses may be off by as much and more; --refine looks closer");
    if (v.part.unfilled && most >= least)
        out.add(fmt::format("with its infill the part is {} than the design, which has none",
                            softness_text(least, most)));
    else if (v.body_volume <= 0.0 && most >= least && std::max(most, -least) > compliance_doubt)
        out.add(
            fmt::format("doubt: the part is {} than the design in the run's elements:\n  {}members of few "
                        "elements, stairs at held and loaded faces; the study on finer ones tells which "
                        "is right",
                        softness_text(least, most),
                        v.first_order_run ? "tetrahedra of first order are too stiff, " : ""));
    for (const StaticReport& s : v.report.statics)
        for (const std::string& doubt : s.doubts) out.add("doubt: " + doubt);
    return out.take();
}

std::string verdict_text(const Verified& v, bool offer) {
    if (v.passed()) return "VERIFIED: the part holds every bound";
    std::string failed = "NOT VERIFIED:";
    if (!v.part.one_piece()) failed += " the part is not one piece that reaches every support and load;";
    for (const VerifyRow& r : v.rows)
        if (r.bounded() && !r.holds)
            failed += fmt::format(" {} broken by {:.3g} %;", r.name, 100.0 * r.excess);
    failed.back() = '.';
    Lines out;
    out.add(failed);
    for (const VerifyRow& r : v.rows) {
        if (!r.bounded() || r.holds || r.excess >= mendable || r.tolerance != bound_tolerance || !r.part)
            continue;
        // What the part makes of the design stays about what it is.
        const bool above = r.max && *r.part > *r.max;
        const double limit = above ? *r.max : *r.min;
        out.add(fmt::format("to mend it, ask the optimiser for {} {} {:.4g} instead of {:.4g}{}", r.name,
                            above ? "at most" : "at least", limit * limit / *r.part, limit,
                            offer ? "; or look for another threshold: --mend" : ""));
    }
    return out.take();
}

} // namespace upright
