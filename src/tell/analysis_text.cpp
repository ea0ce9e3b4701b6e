#include "tell/analysis_text.hpp"

#include "tell/bound_text.hpp"

#include "base/text.hpp"
#include "response/motions.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright {

namespace {

class TableLines {
  public:
    void add(const std::string& name, const std::string& text) {
        out_ += fmt::format("  {:<22}{}\n", name, text);
    }
    void head(const std::string& text) { out_ += text + "\n"; }
    std::string take() { return std::move(out_); }

  private:
    std::string out_;
};

std::string vector(const Vec3& v, bool plane, double scale = 0.0) {
    const double least = 1e-9 * std::max(scale, v.norm());
    const auto clean = [&](double x) { return std::abs(x) <= least ? 0.0 : x; };
    return plane ? fmt::format("({:.5g}, {:.5g})", clean(v.x()), clean(v.y()))
                 : fmt::format("({:.5g}, {:.5g}, {:.5g})", clean(v.x()), clean(v.y()), clean(v.z()));
}

std::string at(const Extreme& e, bool plane, double scale) {
    return "at " + vector(e.place, plane, scale) + (e.region.empty() ? "" : " in " + e.region);
}

std::string padded(const std::string& text, std::size_t width) {
    const std::size_t have = text_columns(text);
    return have >= width ? text : text + std::string(width - have, ' ');
}

} // namespace

std::string static_table(const Model& model, const AnalysisReport& report, const StaticReport& s,
                         const std::vector<Vec3>& probes) {
    const bool plane = model.mesh.dimension() == 2;
    const double size = model.mesh.bounds.diagonal();
    const auto unit = [&](const Dimension& d) { return model.units.text(d); };
    const std::string stress = unit(dimension::stress);
    TableLines out;
    out.head(s.name + " (static)");
    out.add("largest displacement",
            fmt::format("{:.5g} {} {}", s.displacement_peak.value, unit(dimension::length),
                        at(s.displacement_peak, plane, size)));
    const std::string layer = report.layers == 2 ? ", upper or lower face" : "";
    out.add("largest stress", fmt::format("{:.5g} {} von Mises {}", s.stress_peak.value, stress,
                                          at(s.stress_peak, plane, size)));
    std::string left;
    for (const std::string& name : report.excepted) left += (left.empty() ? "; left out: " : ", ") + name;
    out.add("", "averaged at the nodes within a region" + layer + left);
    out.add("", fmt::format("{:.5g} {} at the integration point {}", s.stress_point_peak.value, stress,
                            vector(s.stress_point_peak.place, plane, size)));
    out.add("principal stress",
            fmt::format("{:.5g} {} {}", s.principal_high.value, stress, at(s.principal_high, plane, size)));
    out.add("", fmt::format("{:.5g} {} {}", s.principal_low.value, stress, at(s.principal_low, plane, size)));
    if (!s.least_safety)
        out.add("least safety", "not known: no material has a yield");
    else if (s.least_safety->value > 1e6)
        out.add("least safety", "no stress");
    else
        out.add("least safety", fmt::format("{:.4g} against yield {}", s.least_safety->value,
                                            at(*s.least_safety, plane, size)));
    bool first = true;
    const auto moment_text = [&](const Vec3& m) {
        return (plane ? fmt::format("{:.5g}", m.z()) : vector(m, false, s.at_work * size)) + " " +
               unit(dimension::moment);
    };
    for (const Reaction& r : s.reactions) {
        out.add(first ? "reactions" : "",
                fmt::format("{}: {} {}, about the origin {}", r.name, vector(r.force, plane, s.at_work),
                            unit(dimension::force), moment_text(r.moment)));
        first = false;
    }
    out.add("applied", fmt::format("{} {}, about the origin {}; out of balance by {:.1e}",
                                   vector(s.applied.force, plane, s.at_work), unit(dimension::force),
                                   moment_text(s.applied.moment), s.balance));
    out.add("compliance", fmt::format("{:.6g} {}; strain energy {:.6g}", s.compliance,
                                      unit(dimension::moment), s.strain_energy));
    out.add("estimated error", fmt::format("{:.3g} % in the energy norm", 100.0 * s.error.relative));
    if (s.buckling) {
        std::string factors;
        for (const BucklingMode& m : s.buckling->modes)
            factors += fmt::format("{}{:.5g}", factors.empty() ? "" : ", ", m.factor);
        out.add("buckling", factors.empty()
                                ? fmt::format("none below {:g} times the loads", most_buckling_factor)
                                : "at " + factors + " times the loads" +
                                      (model.mesh.copies() > 1 ? ", of shapes that mirror alone" : ""));
    }
    if (model.mesh.copies() > 1)
        out.add("symmetry", fmt::format("reactions, compliance and energy are those of the modelled 1/{}",
                                        model.mesh.copies()));
    const auto moved = [&](const Vec3& u) {
        return fmt::format("{} {}", vector(u, plane, s.displacement_peak.value), unit(dimension::length));
    };
    const auto point_text = [&](const ModelPoint& p) -> std::string {
        const bool on_node = p.off <= 1e-9 * size;
        if (const CouplingId c = on_node ? CouplingId::None : model.coupling_at(p); c != CouplingId::None) {
            Vec3 u = Vec3::Zero();
            for (int a = 0; a < model.mesh.dimension(); ++a)
                u[a] = s.displacement[static_cast<Eigen::Index>(model.freedom_of_coupling(c, a))];
            return fmt::format("moves {} with {}", moved(u), model.couplings[c].name);
        }
        if (p.off > model.node_reach()) return "lies off the body";
        return "moves " + moved(displacement_at(model, s.displacement, p.node)) +
               (on_node ? ""
                        : fmt::format("; read at the node {:.3g} {} away", p.off, unit(dimension::length)));
    };
    for (const ModelPoint& p : model.points) out.add("point " + p.name, point_text(p));
    for (const Vec3& place : probes) {
        const ProbeReading r = read_probe(model, report, s, place);
        std::string words =
            fmt::format("moves {}; {:.5g} {} von Mises", moved(r.displacement), r.von_mises, stress);
        if (r.off > 1e-6 * size)
            words += fmt::format("; outside of the body, read {:.3g} {} away at {}", r.off,
                                 unit(dimension::length), vector(r.place, plane, size));
        out.add("probe " + vector(place, plane, size), words);
        out.add("", fmt::format("stress xx yy zz xy yz zx: {:.5g}, {:.5g}, {:.5g}, {:.5g}, {:.5g}, {:.5g} {}",
                                r.stress[0], r.stress[1], r.stress[2], r.stress[3], r.stress[4], r.stress[5],
                                stress));
    }
    return out.take();
}

std::string modal_table(const Model& model, const std::string& name, const ModalResult& m, bool lumped) {
    const bool plane = model.mesh.dimension() == 2;
    TableLines out;
    out.head(name + " (modal, " + (lumped ? "lumped" : "consistent") + " mass)");
    out.add("mass", fmt::format("{} with what rides on it, centre {}", model.units.mass_text(m.mass, 5),
                                vector(m.center, plane, model.mesh.bounds.diagonal())));
    if (m.free_motions > 0) {
        double fastest = 0.0;
        for (const Mode& r : m.rigid) fastest = std::max(fastest, r.frequency);
        out.add("rigid-body modes",
                fmt::format("{} of the {} that the supports leave free, set apart (up to {:.1e} {})",
                            m.rigid.size(), m.free_motions, fastest, model.units.text(dimension::frequency)));
    } else {
        out.add("rigid-body modes", "none: fully held");
    }
    if (model.mesh.copies() > 1)
        out.add("symmetry", "modes that mirror across the symmetry planes alone; others are not found");
    const std::string unit = model.units.text(dimension::frequency);
    const std::vector<std::size_t> axes =
        plane ? std::vector<std::size_t>{0, 1} : std::vector<std::size_t>{0, 1, 2};
    out.head(fmt::format("  {:<6}{:>14}   effective mass along {}, %", "mode", "frequency, " + unit,
                         plane ? "x, y" : "x, y, z"));
    std::array<double, 6> sum{};
    for (std::size_t i = 0; i < m.modes.size(); ++i) {
        const Mode& mode = m.modes[i];
        std::string shares;
        for (const std::size_t a : axes) {
            const double share =
                m.moved_mass[a] > 0.0 ? mode.participation[a] * mode.participation[a] / m.moved_mass[a] : 0.0;
            sum[a] += share;
            shares += fmt::format("{:9.2f}", 100.0 * share);
        }
        const bool shared = (i > 0 && m.modes[i - 1].cluster == mode.cluster) ||
                            (i + 1 < m.modes.size() && m.modes[i + 1].cluster == mode.cluster);
        std::string words = shared ? "   repeated" : "";
        if (mode.local()) words += "   " + local_words(mode) + ", at " + place_text(mode.moved_at, plane);
        out.head(fmt::format("  {:<6}{:>14.6g}{}{}", i + 1, mode.frequency, shares, words));
    }
    std::string sums;
    for (const std::size_t a : axes) sums += fmt::format("{:9.2f}", 100.0 * sum[a]);
    out.head(fmt::format("  {:<20}{}", "sum", sums));
    return out.take();
}

std::string response_table(const Model& model, const std::vector<Outcome>& outcomes) {
    if (outcomes.empty()) return {};
    std::string out = "responses, full material\n";
    for (const Outcome& o : outcomes) {
        const ModelResponse& card = model.responses[o.response];
        const std::string unit = model.units.text(card.measure->dimension);
        std::string words = fmt::format("{:.6g}{}", o.value, unit.empty() ? "" : " " + unit);
        if (o.min || o.max) words += ", " + limits_text(o.min, o.max, "");
        if (card.max_share)
            words += fmt::format(" ({:g} % of {})", 100.0 * card.max_share->share,
                                 card.max_share->ultimate ? "ultimate" : "yield");
        if (o.min || o.max)
            words += ": " + (!o.holds && of_material(card) ? std::string("for the optimiser")
                                                           : standing_text(o.excess));
        if (!o.where.empty()) words += ", at " + o.where;
        out += fmt::format("  {} {}\n", padded(card.name + (o.in_case.empty() ? "" : " @ " + o.in_case), 28),
                           words);
    }
    return out;
}

std::string refinement_table(const Analysed& coarse_one, const Analysed& fine_one) {
    const Model& coarse_model = coarse_one.model;
    const AnalysisReport& coarse = coarse_one.report;
    const AnalysisReport& fine = fine_one.report;
    std::string out = fmt::format("{:<42}{:>14}{:>14}{:>12}\n", "", "this mesh", "finer mesh", "change");
    const auto row = [&](const std::string& what, double a, double b, const std::string& unit) {
        const std::string change =
            std::abs(a) > 0.0 ? fmt::format("{:+.2f} %", 100.0 * (b - a) / std::abs(a)) : std::string("-");
        out += fmt::format("{}{:>14.6g}{:>14.6g}{:>12}\n",
                           padded(what + (unit.empty() ? "" : ", " + unit), 42), a, b, change);
    };
    row("elements", static_cast<double>(coarse_model.mesh.elements()),
        static_cast<double>(fine_one.model.mesh.elements()), "");
    row("mass", coarse.mass, fine.mass, coarse_model.units.text(dimension::mass));
    for (std::size_t i = 0; i < coarse.statics.size() && i < fine.statics.size(); ++i) {
        const StaticReport& a = coarse.statics[i];
        const StaticReport& b = fine.statics[i];
        const auto name = [&](const char* what) { return a.name + ": " + what; };
        row(name("displacement"), a.displacement_peak.value, b.displacement_peak.value,
            coarse_model.units.text(dimension::length));
        row(name("stress"), a.stress_peak.value, b.stress_peak.value,
            coarse_model.units.text(dimension::stress));
        if (a.least_safety && b.least_safety)
            row(name("least safety"), a.least_safety->value, b.least_safety->value, "");
        if (a.buckling && b.buckling && !a.buckling->modes.empty() && !b.buckling->modes.empty())
            row(name("buckling factor"), a.buckling->modes[0].factor, b.buckling->modes[0].factor, "");
        row(name("compliance"), a.compliance, b.compliance, coarse_model.units.text(dimension::moment));
        row(name("estimated error, %"), 100.0 * a.error.relative, 100.0 * b.error.relative, "");
    }
    for (std::size_t i = 0; i < coarse.modals.size() && i < fine.modals.size(); ++i)
        for (std::size_t m = 0; m < coarse.modals[i].modes.size() && m < fine.modals[i].modes.size(); ++m)
            row(fmt::format("{}: mode {}", coarse.modal_names[i], m + 1), coarse.modals[i].modes[m].frequency,
                fine.modals[i].modes[m].frequency, coarse_model.units.text(dimension::frequency));
    for (std::size_t i = 0; i < coarse_one.outcomes.size() && i < fine_one.outcomes.size(); ++i) {
        const ModelResponse& card = coarse_model.responses[coarse_one.outcomes[i].response];
        row("response " + card.name +
                (coarse_one.outcomes[i].in_case.empty() ? "" : " @ " + coarse_one.outcomes[i].in_case),
            coarse_one.outcomes[i].value, fine_one.outcomes[i].value,
            coarse_model.units.text(card.measure->dimension));
    }
    return out;
}

} // namespace upright
