#include "response/case_report.hpp"

#include "base/nearest.hpp"
#include "base/reduction.hpp"
#include "fem/probe.hpp"
#include "fem/support_forces.hpp"
#include "response/buckling.hpp"
#include "response/measure.hpp"
#include "response/motions.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <memory>

namespace upright {

namespace {

bool chosen(const std::vector<std::string>& cases, const std::string& name) {
    return cases.empty() || refers_to(cases, name);
}

std::string region_name(const Model& model, RegionId r) {
    return model.regions[index(r)].name;
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
            out.strain_energy = 0.5 * sum_of(analysis_.unit_energy(out.displacement));
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
            const Material& m = model_.materials[model_.regions[index(report_.nodes.region[i])].material];
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
        const auto take = [&](const std::string& name, SupportId support) {
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
        for (const SupportId s : c.supports) take(model_.supports[s].name, s);
        for (const ModelJoint& j : model_.joints) {
            if (!j.grounded()) continue;
            Reaction one;
            one.name = j.name + " (joint to ground)";
            const Eigen::VectorXd f = StaticAnalysis::joint_forces(j, result.displacement);
            for (std::size_t i = 0; i < j.freedoms.size(); ++i) {
                add_to(one, j.freedoms[i], -f[static_cast<Eigen::Index>(i)]);
                work(j.freedoms[i], f[static_cast<Eigen::Index>(i)]);
            }
            out.reactions.push_back(one);
        }
        take("symmetry", SupportId::None);
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

// What an analysis found, for measures to read: full material, stress averaged at the nodes of regions.
class ReportState final : public State {
  public:
    ReportState(const Model& model, const AnalysisReport& report) : model_(model), report_(report) {
        for (const ModelCase& c : model.cases) {
            const auto at = std::find_if(report.statics.begin(), report.statics.end(),
                                         [&](const StaticReport& s) { return s.name == c.name; });
            statics_.push_back(at == report.statics.end() ? nullptr : &*at);
        }
        for (const ModelModalCase& c : model.modal_cases) {
            const auto at = std::find(report.modal_names.begin(), report.modal_names.end(), c.name);
            modals_.push_back(
                at == report.modal_names.end()
                    ? nullptr
                    : &report.modals[static_cast<std::size_t>(at - report.modal_names.begin())]);
        }
    }

    const Model& model() const override { return model_; }
    const std::vector<double>* density() const override { return nullptr; }
    bool has_case(CaseId c) const override { return statics_[index(c)] != nullptr; }
    bool has_modal_case(ModalCaseId c) const override { return modals_[index(c)] != nullptr; }
    const Eigen::VectorXd& displacement(CaseId c) const override { return statics_[index(c)]->displacement; }
    double compliance(CaseId c) const override { return statics_[index(c)]->compliance; }
    const std::vector<double>& von_mises(CaseId c) const override { return statics_[index(c)]->von_mises; }
    const BucklingResult& buckling(CaseId c) const override { return *statics_[index(c)]->buckling; }
    const ModalResult& modes(ModalCaseId c) const override { return *modals_[index(c)]; }
    Eigen::VectorXd mass_times(ModalCaseId, const Eigen::VectorXd& shape) const override { return shape; }
    Vec3 support_force(CaseId c, const std::string& support,
                       const std::array<Eigen::VectorXd, 3>&) const override {
        Vec3 out = Vec3::Zero();
        for (const Reaction& one : statics_[index(c)]->reactions)
            if (refers_to(support, one.name)) out += one.force;
        return out;
    }
    bool may_lack_modes() const override { return true; }

  private:
    const Model& model_;
    const AnalysisReport& report_;
    std::vector<const StaticReport*> statics_; // by case of the study; nullptr: not analysed
    std::vector<const ModalResult*> modals_;
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
    const std::vector<int> factors_wanted = buckling_wanted(model);
    std::vector<int> factors;
    for (const CaseId c : model.cases.ids())
        if (chosen(wish.cases, model.cases[c].name)) {
            part.cases.push_back(model.cases[c]);
            factors.push_back(factors_wanted[index(c)]);
        }
    const std::vector<double> full(model.mesh.elements(), 1.0);
    if (!part.cases.empty()) {
        const std::vector<bool> out_of = left_out(model, wish.except);
        const std::vector<bool> counted = counted_nodes(model, out.nodes, out_of);
        if (std::none_of(counted.begin(), counted.end(), [](bool b) { return b; }))
            throw Error::usage("everything is left out of the stress", "Except less");
        StaticAnalysis analysis(part, wish.solver);
        const std::vector<CaseResult> results = analysis.solve(full, full);
        const CaseReader reader(part, analysis, out, out_of, counted);
        for (const CaseId c : part.cases.ids()) {
            out.statics.push_back(reader.run(part.cases[c], results[index(c)]));
            if (factors[index(c)] == 0) continue;
            const GeometricStiffness G(analysis, part.cases[c], results[index(c)].displacement, full);
            out.statics.back().buckling = buckling_modes(analysis, c, G, factors[index(c)]);
        }
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

std::vector<Outcome> measure_all(const Model& model, const AnalysisReport& report) {
    const ReportState state(model, report);
    std::vector<Outcome> out;
    const std::vector<Column> all = columns(model);
    std::unique_ptr<Measurement> measurement;
    for (std::size_t k = 0; k < all.size(); ++k) {
        const ModelResponse& card = model.responses[all[k].response];
        const MeasureKind& kind = kind_of(card);
        if (k == 0 || all[k].response != all[k - 1].response)
            measurement = kind.bind({model, card, &report.nodes, false});
        std::optional<Reading> reading =
            measurement->read(state, {k, all[k].in_case, all[k].in_modal_case, all[k].name, nullptr});
        if (!reading) continue; // its case was not analysed
        judge(*reading);
        const std::string in_case = all[k].in_case != CaseId::None ? model.cases[all[k].in_case].name
                                    : all[k].in_modal_case != ModalCaseId::None
                                        ? model.modal_cases[all[k].in_modal_case].name
                                        : card.in_case;
        out.push_back({all[k].response, in_case, reading->value, reading->min, reading->max, reading->holds,
                       reading->excess, reading->where});
    }
    return out;
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
                                   report.nodes.of[model.mesh.start(index(probe.element)) + i]) *
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
