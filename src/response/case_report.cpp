#include "response/case_report.hpp"

#include "base/nearest.hpp"
#include "fem/probe.hpp"
#include "fem/support_forces.hpp"
#include "response/motions.hpp"
#include "response/response.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <set>

namespace upright {

namespace {

bool chosen(const std::vector<std::string>& cases, const std::string& name) {
    return cases.empty() || refers_to(cases, name);
}

std::string region_name(const Model& model, RegionId r) {
    return model.regions[index(r)].name;
}

// Places of region nodes that only left-out elements touch.
std::vector<bool> counted_nodes(const Model& model, const RegionNodes& nodes,
                                const std::vector<bool>& out_of) {
    std::vector<bool> out(nodes.node.size(), false);
    for (std::size_t e = 0; e < out_of.size(); ++e)
        for (std::size_t i = model.mesh.starts[e]; i < model.mesh.starts[e + 1]; ++i)
            if (!out_of[e]) out[static_cast<std::size_t>(nodes.of[i])] = true;
    // A node of a left-out surface does not count, whatever else touches it.
    for (std::size_t e = 0; e < out_of.size(); ++e)
        for (std::size_t i = model.mesh.starts[e]; i < model.mesh.starts[e + 1]; ++i)
            if (out_of[e]) out[static_cast<std::size_t>(nodes.of[i])] = false;
    return out;
}

std::vector<double> sizes_of(const std::vector<Voigt>& stress, int layers) {
    const auto l = static_cast<std::size_t>(layers);
    std::vector<double> out(stress.size() / l, 0.0);
    for (std::size_t i = 0; i < stress.size(); ++i) out[i / l] = std::max(out[i / l], von_mises(stress[i]));
    return out;
}

class CaseReader {
  public:
    CaseReader(const Model& model, const StaticAnalysis& analysis, const AnalysisReport& report,
               const std::vector<bool>& out_of, const std::vector<bool>& counted)
        : model_(model), analysis_(analysis), report_(report), out_of_(out_of), counted_(counted),
          full_(model.mesh.elements(), 1.0) {}

    StaticReport run(const ModelCase& c, const CaseResult& result) const {
        StaticReport out;
        out.name = c.name;
        out.displacement = result.displacement;
        out.compliance = result.compliance;
        for (std::size_t n = 0; n < model_.mesh.nodes.size(); ++n) {
            const double size = displacement_at(model_, out.displacement, static_cast<NodeId>(n)).norm();
            if (n == 0 || size > out.displacement_peak.value)
                out.displacement_peak = {size, model_.mesh.nodes[n], {}};
        }
        stress(c, out);
        reactions(c, result, out);
        return out;
    }

  private:
    void stress(const ModelCase& c, StaticReport& out) const {
        const Mesh& mesh = model_.mesh;
        const StressField field = stress_field(analysis_, out.displacement, c);
        out.stress = averaged(mesh, report_.nodes, field);
        out.von_mises = sizes_of(out.stress, field.layers);
        out.error = estimate_error(analysis_, c, out.displacement, report_.nodes, field, out.stress);
        // With heat the energy is that of the stress; without, that of the stiffness is exact.
        out.strain_energy = 0.5 * out.error.energy_norm * out.error.energy_norm;
        if (analysis_.rise(c) == 0.0) {
            out.strain_energy = 0.0;
            for (const double e : analysis_.unit_energy(out.displacement)) out.strain_energy += 0.5 * e;
        }
        out.strain_energy += analysis_.joint_energy(out.displacement);
        const auto layers = static_cast<std::size_t>(field.layers);
        bool first = true;
        for (std::size_t i = 0; i < out.von_mises.size(); ++i) {
            if (!counted_[i]) continue;
            const Vec3& place = mesh.nodes[index(report_.nodes.node[i])];
            const std::string& region = model_.regions[index(report_.nodes.region[i])].name;
            if (first || out.von_mises[i] > out.stress_peak.value)
                out.stress_peak = {out.von_mises[i], place, region};
            for (std::size_t l = 0; l < layers; ++l) {
                const Vec3 p = principal(out.stress[i * layers + l]);
                if (first || p[0] > out.principal_high.value) out.principal_high = {p[0], place, region};
                if (first || p[2] < out.principal_low.value) out.principal_low = {p[2], place, region};
                first = false;
            }
            const Material& m = model_.materials[static_cast<std::size_t>(
                model_.regions[index(report_.nodes.region[i])].material)];
            if (!m.yield) continue;
            const double safety = out.von_mises[i] > 0.0 ? *m.yield / out.von_mises[i] : 1e300;
            if (!out.least_safety || safety < out.least_safety->value)
                out.least_safety = Extreme{safety, place, region};
        }
        out.points = field.places;
        out.stress_at_points = field.at_points;
        for (std::size_t e = 0; e < mesh.elements(); ++e) {
            if (out_of_[e]) continue;
            for (std::size_t p = field.starts[e]; p < field.starts[e + 1]; ++p)
                for (std::size_t l = 0; l < layers; ++l)
                    if (const double size = von_mises(field.at_points[p * layers + l]);
                        size > out.stress_point_peak.value)
                        out.stress_point_peak = {size, field.places[p], region_name(model_, mesh.region[e])};
        }
    }

    // A force or moment on a freedom, added to a reaction.
    void add_to(Reaction& sum, std::size_t freedom, double value) const {
        const Model::Spot spot = model_.spot(freedom);
        if (spot.component >= 3) {
            sum.moment[spot.component - 3] += value;
            return;
        }
        const Vec3 force = value * Vec3::Unit(spot.component);
        sum.force += force;
        sum.moment += spot.at.cross(force);
    }

    void reactions(const ModelCase& c, const CaseResult& result, StaticReport& out) const {
        const double length = model_.mesh.bounds.diagonal();
        // All forces by size, moments as forces at the body's length: what balance is measured by, also where
        // they cancel (heat, a centred spin).
        double at_work = 0.0;
        const auto work = [&](std::size_t freedom, double value) {
            at_work += std::abs(value) / (model_.spot(freedom).component >= 3 ? length : 1.0);
        };
        const Eigen::VectorXd acting = analysis_.forces(c, full_, full_);
        for (Eigen::Index f = 0; f < acting.size(); ++f)
            if (acting[f] != 0.0) work(static_cast<std::size_t>(f), acting[f]);
        const SupportForces holding(model_, c);
        const Eigen::VectorXd forces =
            holding.of(analysis_.stiffness_times(result.displacement, full_) - acting);
        const auto take = [&](const std::string& name, int support) {
            Reaction one;
            one.name = name;
            bool any = false;
            for (std::size_t e = 0; e < holding.held().size(); ++e) {
                if (holding.held()[e].support != support) continue;
                any = true;
                for (const Term& t : holding.held()[e].equation->terms) {
                    add_to(one, t.freedom, forces[static_cast<Eigen::Index>(e)] * t.factor);
                    work(t.freedom, forces[static_cast<Eigen::Index>(e)] * t.factor);
                }
            }
            if (any) out.reactions.push_back(one);
        };
        for (const std::size_t s : c.supports) take(model_.supports[s].name, static_cast<int>(s));
        for (const ModelJoint& j : model_.joints) {
            if (j.ends[0] >= 0 && j.ends[1] >= 0) continue;
            Reaction one;
            one.name = j.name + " (joint to ground)";
            const Eigen::VectorXd f = StaticAnalysis::joint_forces(j, result.displacement);
            for (std::size_t i = 0; i < j.freedoms.size(); ++i) {
                add_to(one, j.freedoms[i], -f[static_cast<Eigen::Index>(i)]);
                work(j.freedoms[i], f[static_cast<Eigen::Index>(i)]);
            }
            out.reactions.push_back(one);
        }
        take("symmetry", -1);
        out.applied = resultant(model_, c);
        Resultant rest = out.applied;
        for (const Reaction& r : out.reactions) {
            rest.force += r.force;
            rest.moment += r.moment;
        }
        // About the middle of the body, so that its place does not matter.
        rest.moment -= (0.5 * (model_.mesh.bounds.low + model_.mesh.bounds.high)).cross(rest.force);
        if (model_.mesh.dimension() == 2) {
            rest.force.z() = 0.0;
            rest.moment.head<2>().setZero();
        }
        out.at_work = at_work;
        out.balance =
            at_work > 0.0 ? std::max(rest.force.norm(), rest.moment.norm() / length) / at_work : 0.0;
        if (out.balance > balance_doubt)
            out.doubts.push_back(fmt::format(
                "the case \"{}\" is out of balance by {:.1e} of its forces: its numbers are in doubt", c.name,
                out.balance));
    }

    const Model& model_;
    const StaticAnalysis& analysis_;
    const AnalysisReport& report_;
    const std::vector<bool>& out_of_;
    const std::vector<bool>& counted_;
    std::vector<double> full_;
};

class Measurer {
  public:
    Measurer(const Study& study, const Model& model, const AnalysisReport& report)
        : study_(study), model_(model), report_(report), plane_(model.mesh.dimension() == 2) {}

    std::vector<Outcome> run() {
        for (std::size_t i = 0; i < study_.responses.size(); ++i) {
            index_ = i;
            const ResponseCard& r = study_.responses[i];
            if (of_material(r.measure)) {
                Outcome& o = add("");
                for (const double w : linear_weights(model_, r)) o.value += w;
            } else if (r.measure == Measure::Frequency) {
                for (std::size_t c = 0; c < report_.modals.size(); ++c) frequency(r, c);
            } else if (r.measure == Measure::Compliance) {
                compliance(r);
            } else {
                for (const StaticReport& s : report_.statics)
                    if ((r.in_case.empty() || refers_to(r.in_case, s.name)) && fits(r, s.name))
                        one_case(r, s);
            }
        }
        for (Outcome& o : out_) {
            const auto slack = [](double bound) { return bound_tolerance * std::abs(bound); };
            if (o.max) o.holds = o.value <= *o.max + slack(*o.max);
            if (o.min) o.holds = o.holds && o.value >= *o.min - slack(*o.min);
        }
        return out_;
    }

  private:
    Outcome& add(const std::string& in_case) {
        Outcome o;
        o.response = index_;
        o.in_case = in_case;
        o.min = study_.responses[index_].min;
        o.max = study_.responses[index_].max;
        out_.push_back(o);
        return out_.back();
    }

    // A reaction is measured where its support is.
    bool fits(const ResponseCard& r, const std::string& in_case) const {
        return r.measure != Measure::Reaction ||
               std::any_of(study_.cases.begin(), study_.cases.end(), [&](const StaticCase& c) {
                   return c.name == in_case && holds_in(study_, c, r.at);
               });
    }

    // The sum over its cases (weighted where none is named), or the largest of them.
    void compliance(const ResponseCard& r) {
        double sum = 0.0;
        double most = 0.0;
        std::string where;
        for (std::size_t c = 0; c < model_.cases.size(); ++c) {
            const ModelCase& card = model_.cases[c];
            if (!r.in_case.empty() && !refers_to(r.in_case, card.name)) continue;
            const auto found = std::find_if(report_.statics.begin(), report_.statics.end(),
                                            [&](const StaticReport& s) { return s.name == card.name; });
            if (found == report_.statics.end()) return; // was not analysed
            sum += (r.in_case.empty() ? card.weight : 1.0) * found->compliance;
            if (found->compliance > most) where = card.name;
            most = std::max(most, found->compliance);
        }
        Outcome& o = add(r.in_case);
        o.value = r.worst ? most : sum;
        if (r.worst) o.where = where;
    }

    void frequency(const ResponseCard& r, std::size_t c) {
        if (!r.in_case.empty() && !refers_to(r.in_case, report_.modal_names[c])) return;
        const std::vector<Mode>& modes = report_.modals[c].modes;
        if (static_cast<int>(modes.size()) < r.mode) return;
        add(report_.modal_names[c]).value = modes[static_cast<std::size_t>(r.mode) - 1].frequency;
    }

    void one_case(const ResponseCard& r, const StaticReport& s) {
        if (r.measure == Measure::Displacement) {
            displacement(r, s);
        } else if (r.measure == Measure::Reaction) {
            Outcome& o = add(s.name);
            Vec3 force = Vec3::Zero();
            for (const Reaction& one : s.reactions)
                if (refers_to(r.at, one.name)) force += one.force;
            o.value = component_of(study_, r, force, Vec3::Zero());
        } else {
            strength(r, s);
        }
    }

    void displacement(const ResponseCard& r, const StaticReport& s) {
        Outcome& o = add(s.name);
        bool any = false;
        double least = 0.0;
        double most = 0.0;
        Vec3 at_least = Vec3::Zero();
        Vec3 at_most = Vec3::Zero();
        for (const Motion& m : motions(model_, r)) {
            const double value = component_of(study_, r, m.of(s.displacement), m.at);
            if (!any || value < least) {
                least = value;
                at_least = m.at;
            }
            if (!any || value > most) {
                most = value;
                at_most = m.at;
            }
            any = true;
        }
        const bool low = reads_lowest(r, least, most);
        o.value = low ? least : most;
        o.where = place_text(low ? at_least : at_most, plane_);
    }

    void strength(const ResponseCard& r, const StaticReport& s) {
        const std::vector<bool> out_of = left_out(model_, r.except);
        const std::vector<bool> counted = counted_nodes(model_, report_.nodes, out_of);
        Outcome& o = add(s.name);
        const bool safety = r.measure == Measure::Safety;
        double worst = -1.0; // use of the strength, or the stress itself
        for (std::size_t i = 0; i < s.von_mises.size(); ++i) {
            const ModelRegion& region = model_.regions[index(report_.nodes.region[i])];
            if (!counted[i] || (!r.of.empty() && !refers_to(r.of, region.name))) continue;
            const Material& m = model_.materials[static_cast<std::size_t>(region.material)];
            std::optional<double> limit;
            if (r.max_share) {
                const auto strength = r.max_share->ultimate ? m.ultimate : m.yield;
                if (strength) limit = r.max_share->share * *strength;
            }
            if ((safety && !m.yield) || (r.max_share && !limit)) continue;
            const double use = safety  ? s.von_mises[i] / *m.yield
                               : limit ? s.von_mises[i] / *limit
                                       : s.von_mises[i];
            if (use <= worst) continue;
            worst = use;
            o.value = safety ? (use > 0.0 ? 1.0 / use : 1e300) : s.von_mises[i];
            if (limit) o.max = limit;
            o.where = place_text(model_.mesh.nodes[index(report_.nodes.node[i])], plane_);
        }
        if (worst < 0.0)
            throw Error::input(r.place,
                               safety || r.max_share ? "no material of \"" + r.name +
                                                           "\" has the strength that it is measured by"
                                                     : "nothing is left for \"" + r.name + "\" to measure",
                               safety || r.max_share ? "Write yield (or ultimate) in the [[material]]"
                                                     : "Except less, or name other regions");
    }

    const Study& study_;
    const Model& model_;
    const AnalysisReport& report_;
    bool plane_;
    std::size_t index_ = 0;
    std::vector<Outcome> out_;
};

} // namespace

Vec3 displacement_at(const Model& model, const Eigen::VectorXd& u, NodeId node) {
    Vec3 out = Vec3::Zero();
    for (int a = 0; a < std::min(model.mesh.freedoms(), 3); ++a)
        out[a] = u[static_cast<Eigen::Index>(model.freedom(node, a))];
    return out;
}

void require_names(const Model& model, const AnalysisWish& wish) {
    const auto require = [](const std::vector<std::string>& wanted, const std::vector<std::string>& known,
                            const std::string& kind) {
        for (const std::string& name : wanted)
            if (std::none_of(known.begin(), known.end(),
                             [&](const std::string& k) { return refers_to(name, k); }))
                throw Error::usage("there is no " + kind + " \"" + name + "\"", suggestion(name, known));
    };
    std::vector<std::string> cases;
    for (const ModelCase& c : model.cases) cases.push_back(c.name);
    for (const ModelModalCase& c : model.modal_cases) cases.push_back(c.name);
    require(wish.cases, cases, "case");
    std::vector<std::string> places;
    for (const ModelRegion& r : model.regions) places.push_back(r.name);
    for (const ModelSurface& s : model.surfaces) places.push_back(s.name);
    require(wish.except, places, "region or surface");
}

AnalysisReport analyze(const Model& model, const AnalysisWish& wish) {
    require_names(model, wish);
    AnalysisReport out;
    out.excepted = wish.except;
    out.nodes = region_nodes(model.mesh);
    out.layers = model.mesh.shell() ? 2 : 1;
    for (const ModelRegion& r : model.regions) out.mass += r.mass;
    Model part = model;
    part.cases.clear();
    for (const ModelCase& c : model.cases)
        if (chosen(wish.cases, c.name)) part.cases.push_back(c);
    const std::vector<double> full(model.mesh.elements(), 1.0);
    if (!part.cases.empty()) {
        const std::vector<bool> out_of = left_out(model, wish.except);
        const std::vector<bool> counted = counted_nodes(model, out.nodes, out_of);
        if (std::none_of(counted.begin(), counted.end(), [](bool b) { return b; }))
            throw Error::usage("everything is left out of the stress", "Except less");
        StaticAnalysis analysis(part, wish.solver);
        const std::vector<CaseResult> results = analysis.solve(full, full);
        const CaseReader reader(part, analysis, out, out_of, counted);
        for (std::size_t c = 0; c < results.size(); ++c)
            out.statics.push_back(reader.run(part.cases[c], results[c]));
        out.cost = analysis.cost();
        out.notes = analysis.take_notes();
        for (const StaticReport& s : out.statics)
            out.notes.insert(out.notes.end(), s.doubts.begin(), s.doubts.end());
    }
    std::optional<ModalAnalysis> modal;
    for (const ModelModalCase& c : model.modal_cases) {
        if (!chosen(wish.cases, c.name)) continue;
        if (!modal) modal.emplace(model, wish.solver);
        out.modal_names.push_back(c.name);
        out.modals.push_back(modal->solve(c, full, full));
        out.notes.insert(out.notes.end(), out.modals.back().notes.begin(), out.modals.back().notes.end());
    }

    return out;
}

std::vector<Outcome> measure_all(const Study& study, const Model& model, const AnalysisReport& report) {
    return Measurer(study, model, report).run();
}

ProbeReading read_probe(const Model& model, const AnalysisReport& report, const StaticReport& result,
                        const Vec3& place) {
    const Probe probe = find_probe(model.mesh, place);
    ProbeReading out;
    out.asked = place;
    out.place = probe.place;
    out.off = probe.off;
    out.region = region_name(model, model.mesh.region[index(probe.element)]);
    const NodeRange ids = model.mesh.nodes_of(probe.element);
    const auto layers = static_cast<std::size_t>(report.layers);
    for (std::size_t l = 0; l < layers; ++l) {
        Voigt s = Voigt::Zero();
        for (std::size_t i = 0; i < ids.size(); ++i)
            s += probe.values[static_cast<Eigen::Index>(i)] *
                 result.stress[static_cast<std::size_t>(
                                   report.nodes.of[model.mesh.starts[index(probe.element)] + i]) *
                                   layers +
                               l];
        if (l > 0 && von_mises(s) <= out.von_mises) continue;
        out.stress = s;
        out.von_mises = von_mises(s);
    }
    for (std::size_t i = 0; i < ids.size(); ++i)
        out.displacement +=
            probe.values[static_cast<Eigen::Index>(i)] * displacement_at(model, result.displacement, ids[i]);
    return out;
}

} // namespace upright
