// What hangs together, holds and acts: links, supports, loads, cases.
#include "check/writer.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright::check {

void Writer::links() {
    if (model_.couplings.empty() && model_.joints.empty() && model_.masses.empty() && model_.bonds.empty())
        return;
    section("Couplings, joints, masses, bonds");
    for (const ModelCoupling& c : model_.couplings) {
        LedgerLine& l =
            line(c.name, fmt::format("{} coupling of {} nodes of {} to {}", c.rigid ? "rigid" : "averaging",
                                     c.nodes.size(), joined(c.surfaces), place(c.at)));
        bool used = false;
        for (const ModelSupport& s : model_.supports) used = used || refers_to(s.on, c.name);
        for (const ModelLoad& s : model_.loads) used = used || refers_to(s.on, c.name);
        for (const ModelMass& s : model_.masses) used = used || refers_to(s.on, c.name);
        for (const ModelJoint& s : model_.joints)
            for (const CouplingId end : s.ends)
                used = used || (end != CouplingId::None && &model_.couplings[end] == &c);
        if (!used && !c.rigid) doubt(l, "nothing refers to it, so it does nothing");
        std::size_t design = 0;
        std::vector<bool> coupled(model_.mesh.nodes.size(), false);
        for (const NodeId n : c.nodes) coupled[index(n)] = true;
        std::size_t touching = 0;
        for (std::size_t e = 0; e < model_.mesh.elements(); ++e) {
            const auto id = static_cast<ElementId>(e);
            const NodeRange ids = model_.mesh.nodes_of(id);
            if (std::none_of(ids.begin(), ids.end(), [&](NodeId n) { return coupled[index(n)]; })) continue;
            ++touching;
            design += model_.role(id) == Role::Design ? 1 : 0;
        }
        if (design == touching)
            doubt(l, "all elements at it are design: material may fade there; keep a layer, as with skin_of");
    }
    for (const ModelJoint& j : model_.joints) {
        const auto end = [&](CouplingId c) {
            return c == CouplingId::None ? std::string("ground") : model_.couplings[c].name;
        };
        const std::string linear = unit(dimension::stiffness);
        const std::string angular = unit(dimension::moment);
        line(j.name, fmt::format("joint between {} and {}, axis {}: axial {} {}, shear {} {}, torsion {} "
                                 "{}/rad, bending {} {}/rad",
                                 end(j.ends[0]), end(j.ends[1]), vector(j.axis, 1.0), number(j.stiffness[0]),
                                 linear, number(j.stiffness[1]), linear, number(j.stiffness[2]), angular,
                                 number(j.stiffness[3]), angular));
    }
    for (const ModelMass& m : model_.masses)
        line(m.name, fmt::format("mass {} on {}", model_.units.mass_text(m.value), joined(m.on)));
    for (const ModelBond& b : model_.bonds) {
        LedgerLine& l =
            line(b.name, fmt::format("bond: {} nodes of {} tied to {}, widest gap {} {}", b.tied,
                                     b.between[0], b.between[1], number(b.widest), unit(dimension::length)));
        if (b.loose > 0) l.text += fmt::format("; {} nodes lie farther off and stay free", b.loose);
        if (b.tied < 3) doubt(l, "so few nodes make a hinge");
    }
}

void Writer::supports() {
    section("Supports");
    if (model_.supports.empty() && model_.symmetry.empty())
        missing(line("none", "nothing holds the body"), "write a [[support]] with on and hold");
    for (const SupportId i : model_.supports.ids()) {
        const ModelSupport& s = model_.supports[i];
        std::string what = joined(s.words, " ");
        if (!s.frame.empty()) what += " of " + s.frame;
        if (s.moves()) {
            std::vector<std::string> moved;
            std::size_t k = 0;
            for (std::size_t a = 0; a < 6; ++a) {
                if (!s.hold[a]) continue;
                if (s.move[a] != 0.0)
                    moved.push_back(fmt::format("{} by {}{}", s.words[k], number(s.move[a]),
                                                a < 3 ? " " + unit(dimension::length) : " rad"));
                ++k;
            }
            what += " and moves " + joined(moved);
        }
        LedgerLine& l = line(s.name, fmt::format("on {}: holds {} at {} place{}", joined(s.on), what, s.nodes,
                                                 s.nodes == 1 ? "" : "s"));
        const bool used = std::any_of(model_.cases.begin(), model_.cases.end(), [&](const ModelCase& c) {
            return std::find(c.supports.begin(), c.supports.end(), i) != c.supports.end();
        });
        const bool modal =
            std::any_of(model_.modal_cases.begin(), model_.modal_cases.end(), [&](const ModelModalCase& c) {
                return std::find(c.supports.begin(), c.supports.end(), i) != c.supports.end();
            });
        if (!used && !modal) doubt(l, "no case uses it");
    }
}

void Writer::loads() {
    section("Loads");
    if (model_.loads.empty() && (!model_.cases.empty() || model_.modal_cases.empty()))
        missing(line("none", "nothing loads the body"), "write a [[load]]");
    for (const LoadId i : model_.loads.ids()) {
        const ModelLoad& load = model_.loads[i];
        const Resultant sum = resultant(model_, load);
        const std::string on = load.on.empty() ? "the whole body, all material" : joined(load.on);
        const std::string heat =
            load.kind == LoadKind::Heat ? fmt::format("heat: {:+g} K in the whole body", load.heat) : "";
        LedgerLine& l =
            !heat.empty()
                ? line(load.name, heat)
                : line(load.name,
                       fmt::format("{} on {}: {} {}, moment about the origin {} {}", text(load.kind), on,
                                   force(sum), unit(dimension::force), moment(sum), unit(dimension::moment)));
        const bool used = std::any_of(model_.cases.begin(), model_.cases.end(), [&](const ModelCase& c) {
            return std::any_of(c.loads.begin(), c.loads.end(),
                               [&](const auto& entry) { return entry.first == i; });
        });
        if (!used) doubt(l, "no case uses it");
        if (load.kind == LoadKind::Pressure && load.pressure < 0)
            doubt(l, "a negative pressure pulls the surface outward");
        if (load.kind == LoadKind::Pressure &&
            sum.force.norm() < 1e-9 * std::abs(load.pressure) * target_area(load))
            l.text += " (balanced over its surface)";
        pads(l, load);
        across_symmetry(l, load, sum);
    }
}

std::string Writer::force(const Resultant& sum) const {
    return vector(sum.force,
                  std::max({sum.force.norm(), sum.moment.norm() / model_.mesh.bounds.diagonal(), 1e-300}));
}

std::string Writer::moment(const Resultant& sum) const {
    const double scale = std::max(sum.moment.norm(), 1e-6 * sum.force.norm() * model_.mesh.bounds.diagonal());
    const auto clean = [&](double x) { return std::abs(x) < 1e-9 * scale ? 0.0 : x; };
    return plane_ ? fmt::format("{:.6g}", clean(sum.moment.z()))
                  : fmt::format("({:.6g}, {:.6g}, {:.6g})", clean(sum.moment.x()), clean(sum.moment.y()),
                                clean(sum.moment.z()));
}

double Writer::target_area(const ModelLoad& load) const {
    double out = 0.0;
    for (const ModelSurface& s : model_.surfaces)
        if (refers_to(load.on, s.name)) out += s.area;
    return out;
}

void Writer::pads(LedgerLine& l, const ModelLoad& load) const {
    double bare = 0.0;
    double whole = 0.0;
    bool thin = false;
    std::string surface;
    const double radius = filter_radius(model_);
    for (const ModelSurface& s : model_.surfaces) {
        if (!refers_to(load.on, s.name)) continue;
        for (const MeshFace& f : s.faces) {
            const double area = model_.mesh.face_area(f);
            whole += area;
            if (model_.role(f.element) == Role::Design) {
                bare += area;
                surface = s.name;
            }
            const FieldRegion& card = model_.shapes[model_.mesh.region[index(f.element)]];
            if (const Skin* skin = std::get_if<Skin>(&card.extent))
                thin = thin || skin->depth < 0.999 * radius;
        }
    }
    for (const ModelPoint& p : model_.points) {
        if (!refers_to(load.on, p.name)) continue;
        for (std::size_t e = 0; e < model_.mesh.elements(); ++e)
            for (const NodeId n : model_.mesh.nodes_of(static_cast<ElementId>(e)))
                if (n == p.node && model_.role(static_cast<ElementId>(e)) == Role::Design) {
                    doubt(l,
                          "the point " + p.name +
                              " stands on design cells: material may fade under the load; keep some there");
                    return;
                }
    }
    if (bare > 0.0)
        doubt(l, fmt::format("{:.0f} % of its area are design cells: material may fade under it; keep a "
                             "layer, as with skin_of = \"{}\", depth = \"{} {}\"",
                             100.0 * bare / whole, surface, number(radius), unit(dimension::length)));
    else if (thin)
        doubt(l, fmt::format("the kept layer under it is thinner than the filter radius of {} {}",
                             number(radius), unit(dimension::length)));
}

void Writer::across_symmetry(LedgerLine& l, const ModelLoad& load, const Resultant& sum) const {
    for (const SymmetryCut& cut : model_.mesh.symmetry) {
        const int a = cut.axis;
        if (load.kind == LoadKind::Pressure || std::abs(sum.force[a]) < 1e-9 * sum.force.norm()) continue;
        doubt(l, fmt::format("it has a part along {}, across the symmetry plane: the mirrored part is "
                             "loaded the opposite way",
                             "xyz"[a]));
    }
    // A total on what a plane cuts: of the modelled part, or of the whole?
    if (load.kind != LoadKind::Force && load.kind != LoadKind::Moment && load.kind != LoadKind::Toward)
        return;
    const std::vector<SymmetryCut> cuts = cutting_planes(model_, load.on);
    if (cuts.empty()) return;
    const std::string share = modelled_part(1 << cuts.size());
    if (load.covers == Covers::Whole)
        l.text += "; " + share + " of what was written, which covers the whole body";
    else if (load.covers == Covers::Unsaid)
        doubt(l, fmt::format("the symmetry plane cuts what it acts on, and it acts on {} of the body in "
                             "full: write covers = \"whole\" where it is the total of the whole body, "
                             "covers = \"modelled\" where it is that of the modelled part",
                             share));
}

void Writer::cases() {
    section("Cases");
    if (model_.cases.empty() && model_.modal_cases.empty())
        missing(line("none", "there is no case"), "write a [[case]] with supports and loads");
    double weights = 0.0;
    for (const CaseId i : model_.cases.ids()) {
        const ModelCase& c = model_.cases[i];
        weights += c.weight;
        const Resultant sum = resultant(model_, c);
        std::vector<std::string> parts;
        for (const auto& [l, factor] : c.loads)
            parts.push_back(factor == 1.0 ? model_.loads[l].name
                                          : fmt::format("{:g} x {}", factor, model_.loads[l].name));
        LedgerLine& l =
            line(c.name, fmt::format("static, weight {:g}: {}; force {} {}, moment about the origin {} {}",
                                     c.weight, joined(parts, " + "), force(sum), unit(dimension::force),
                                     moment(sum), unit(dimension::moment)));
        freedom(l, c);
        straight_into_support(l, c);
        const bool looked_at =
            std::any_of(model_.responses.begin(), model_.responses.end(), [&](const ModelResponse& r) {
                if (of_design(r) || r.measure->vibration) return false;
                if (!r.in_case.empty()) return refers_to(r.in_case, c.name);
                return !r.measure->compliance || r.worst || c.weight > 0.0;
            });
        if (model_.goal && !looked_at) doubt(l, "no response looks at this case");
    }
    for (const ModelModalCase& c : model_.modal_cases) modal(c);
    if (!model_.cases.empty() && weights == 0.0)
        missing(ledger_.sections.back().lines.front(), "every case has the weight 0");
}

void Writer::modal(const ModelModalCase& c) {
    LedgerLine& l =
        line(c.name, fmt::format("modal, {}, {} mass",
                                 c.up_to > 0.0 ? fmt::format("all modes up to {} {}", number(c.up_to),
                                                             unit(dimension::frequency))
                                               : fmt::format("{} mode{}", c.modes, c.modes == 1 ? "" : "s"),
                                 c.lumped ? "lumped" : "consistent"));
    ModelCase supports;
    supports.supports = c.supports;
    std::size_t free = 0;
    for (const FreePart& part : free_motions(model_, &supports)) free += part.motions.size();
    l.text += free == 0 ? "; fully held"
                        : fmt::format("; {} motion{} left free: so many rigid-body modes are set apart", free,
                                      free == 1 ? "" : "s");
    if (!model_.mesh.symmetry.empty())
        doubt(l,
              fmt::format("on {} of the body only modes that mirror across the plane{} are found; model "
                          "the whole for the others",
                          modelled_part(model_.mesh.copies()), model_.mesh.symmetry.size() > 1 ? "s" : ""));
    if (model_.goal &&
        std::none_of(model_.responses.begin(), model_.responses.end(), [&](const ModelResponse& r) {
            return r.measure->vibration && (r.in_case.empty() || refers_to(r.in_case, c.name));
        }))
        l.text += "; no response looks at it, so the optimiser leaves it out";
}

void Writer::freedom(LedgerLine& l, const ModelCase& c) {
    // Cases that use the same supports have one answer.
    const auto [known, fresh] = motions_.emplace(c.supports, std::vector<FreePart>{});
    if (fresh) known->second = free_motions(model_, &c);
    const std::vector<FreePart>& parts = known->second;
    bool all_held = true;
    for (const FreePart& part : parts) {
        if (part.motions.empty()) continue;
        all_held = false;
        std::vector<std::string> words;
        for (const FreeMotion& m : part.motions) words.push_back(m.text(model_.units));
        const std::string which = parts.size() == 1 ? ""
                                                    : fmt::format("the piece of {} elements around {} is ",
                                                                  part.elements, place(part.center));
        missing(l, which + "not held: free in " + joined(words, "; "));
        if (parts.size() > 4 && l.remarks.size() >= 4) break; // many pieces say it no better
    }
    if (all_held) l.text += "; fully held";
}

void Writer::straight_into_support(LedgerLine& l, const ModelCase& c) const {
    std::vector<std::size_t> held;
    for (const SupportId s : c.supports)
        held.insert(held.end(), model_.supports[s].held.begin(), model_.supports[s].held.end());
    std::sort(held.begin(), held.end());
    double lost = 0.0;
    double whole = 0.0;
    for (const auto& [load, factor] : c.loads)
        for (const Term& f : model_.loads[load].forces) {
            if (model_.spot(f.freedom).component >= 3) continue;
            whole += std::abs(factor * f.factor);
            if (std::binary_search(held.begin(), held.end(), f.freedom)) lost += std::abs(factor * f.factor);
        }
    if (whole > 0.0 && lost > 0.01 * whole)
        doubt(l, fmt::format("{:.0f} % of its forces act on held nodes in held directions and go "
                             "straight into the support",
                             100.0 * lost / whole));
}

} // namespace upright::check
