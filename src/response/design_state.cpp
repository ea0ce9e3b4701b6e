#include "response/design_state.hpp"

#include "base/blocks.hpp"
#include "base/reduction.hpp"
#include "design/interpolation.hpp"
#include "response/buckling.hpp"

#include <algorithm>
#include <chrono>

namespace upright {

namespace {

using Clock = std::chrono::steady_clock;

// Of the energy of answers in a search for buckling: its sensitivities hang on shapes.
constexpr double loosest_buckling = 1e-14;

double since(Clock::time_point t) {
    return std::chrono::duration<double>(Clock::now() - t).count();
}

// The part of a gradient that comes from loads that act on the material: v' df/drho.
void add_body_loads(const StaticAnalysis& analysis, const ModelCase& c, const Eigen::VectorXd& v,
                    double factor, const std::vector<double>& slope, std::vector<double>& gradient) {
    const Model& model = analysis.model();
    const int d = model.mesh.dimension();
    std::vector<Vec3> parts;
    for (const auto& [l, share] : c.loads) {
        const ModelLoad& load = model.loads[l];
        if (!load.of_body()) continue;
        for (std::size_t e = 0; e < gradient.size(); ++e) {
            const auto id = static_cast<ElementId>(e);
            model.body_force(load, id, parts);
            const NodeRange ids = model.mesh.nodes_of(id);
            double work = 0.0;
            for (std::size_t i = 0; i < ids.size(); ++i)
                work +=
                    v.segment(static_cast<Eigen::Index>(model.freedom(ids[i], 0)), d).dot(parts[i].head(d));
            gradient[e] += factor * share * work;
        }
    }
    const std::vector<double> heat = analysis.unit_heat_work(c, v);
    for (std::size_t e = 0; e < heat.size(); ++e) gradient[e] += factor * slope[e] * heat[e];
}

} // namespace

DesignState::DesignState(StaticAnalysis& statics, const std::vector<bool>& modal_wanted, bool stress)
    : model_(statics.model()), statics_(statics), modal_wanted_(modal_wanted), stress_(stress),
      buckling_wanted_(buckling_wanted(model_)) {
    for (std::size_t e = 0; e < model_.mesh.elements(); ++e)
        design_.push_back(model_.role(static_cast<ElementId>(e)) == Role::Design);
    if (std::any_of(modal_wanted_.begin(), modal_wanted_.end(), [](bool b) { return b; }))
        modal_.emplace(model_, statics.options());
}

void DesignState::analyse(const std::vector<double>& drawn, double penalty, const MeasureAccuracy& accuracy) {
    analyse(ThreeDesigns{drawn, {}, {}}, penalty, accuracy);
}

void DesignState::analyse(const ThreeDesigns& designs, double penalty, const MeasureAccuracy& accuracy) {
    copy_by_blocks(designs.drawn, density_);
    copy_by_blocks(designs.thin, thin_);
    copy_by_blocks(designs.thick, thick_);
    const std::vector<double>& density = designs.analysed();
    accuracy_ = accuracy.statics;
    gray_ = upright::grayness(designs.drawn, design_);
    interpolate_stiffness(density, penalty, stiffness_, slope_);
    statics_.solve(stiffness_, density, accuracy.statics, cases_);
    for (std::string& note : statics_.take_notes()) notes_.push_back(std::move(note));
    von_mises_.clear();
    if (stress_)
        for (const CaseId c : model_.cases.ids())
            von_mises_.push_back(statics_.von_mises_stress(displacement(c), &model_.cases[c]));
    look_for_buckling(penalty);
    adjoint_seconds_ = 0.0;
    modal_seconds_ = 0.0;
    if (!modal_) return;
    const auto start = Clock::now();
    mass_ = modal_mass_share(density);
    mass_slope_ = modal_mass_slope(density);
    modals_.clear();
    for (const ModalCaseId c : model_.modal_cases.ids()) {
        modals_.emplace_back();
        if (!modal_wanted_[index(c)]) continue;
        modals_.back() = modal_->solve(model_.modal_cases[c], stiffness_, mass_, accuracy.modals);
        for (const std::string& note : modals_.back().notes) notes_.push_back(note);
    }
    modal_seconds_ = since(start);
}

void DesignState::look_for_buckling(double penalty) {
    buckling_seconds_ = 0.0;
    if (std::all_of(buckling_wanted_.begin(), buckling_wanted_.end(), [](int n) { return n == 0; })) return;
    const auto start = Clock::now();
    interpolate_buckling_stress(*analysed(), penalty, stress_share_, stress_slope_);
    geometric_.clear();
    buckling_.assign(model_.cases.size(), {});
    for (const CaseId c : model_.cases.ids()) {
        geometric_.push_back(nullptr);
        if (buckling_wanted_[index(c)] == 0) continue;
        geometric_.back() =
            std::make_unique<GeometricStiffness>(statics_, model_.cases[c], displacement(c), stress_share_);
        buckling_[index(c)] = buckling_modes(statics_, c, *geometric_.back(), buckling_wanted_[index(c)],
                                             std::min(accuracy_.energy, loosest_buckling));
    }
    for (std::string& note : statics_.take_notes()) notes_.push_back(std::move(note));
    buckling_seconds_ = since(start);
}

Eigen::VectorXd DesignState::mass_times(ModalCaseId c, const Eigen::VectorXd& shape) const {
    return modal_->mass_times(shape, mass_, model_.modal_cases[c].lumped);
}

Vec3 DesignState::support_force(CaseId c, const std::string& /*support*/,
                                const std::array<Eigen::VectorXd, 3>& fields) const {
    const Eigen::VectorXd rest =
        statics_.residual(cases_[index(c)], model_.cases[c], stiffness_, *analysed());
    Vec3 out = Vec3::Zero();
    for (int a = 0; a < 3; ++a) {
        const Eigen::VectorXd& field = fields[static_cast<std::size_t>(a)];
        out[a] = inner_product(static_cast<std::size_t>(rest.size()), field.data(), rest.data());
    }
    return out;
}

std::vector<std::string> DesignState::take_notes() {
    std::vector<std::string> out;
    out.swap(notes_);
    return out;
}

void DesignState::add_compliance(CaseId c, double weight, std::vector<double>& gradient) const {
    const Eigen::VectorXd& adjoint = cases_[index(c)].adjoint();
    statics_.unit_energy(cases_[index(c)].displacement, &adjoint, energy_);
#pragma omp parallel for simd schedule(static)
    for (std::size_t e = 0; e < energy_.size(); ++e) gradient[e] -= weight * slope_[e] * energy_[e];
    const bool of_material =
        std::any_of(model_.cases[c].loads.begin(), model_.cases[c].loads.end(), [&](const auto& load) {
            return model_.loads[load.first].of_body() || model_.loads[load.first].heat != 0.0;
        });
    if (!of_material) return;
    add_body_loads(statics_, model_.cases[c], cases_[index(c)].displacement + adjoint, weight, slope_,
                   gradient);
}

void DesignState::solve_adjoints(std::vector<Pending>& pending) {
    std::vector<AdjointLoad> loads;
    std::vector<Pending*> waiting;
    for (Pending& p : pending) {
        if (p.load.size() == 0) continue;
        loads.push_back({p.in_case, std::move(p.load)});
        waiting.push_back(&p);
    }
    if (loads.empty()) return;
    const auto start = Clock::now();
    std::vector<Eigen::VectorXd> answers = statics_.solve_adjoints(loads, accuracy_);
    adjoint_seconds_ += since(start);
    for (std::size_t i = 0; i < waiting.size(); ++i) {
        Pending& p = *waiting[i];
        const CaseId c = p.in_case;
        Eigen::VectorXd& v = answers[i];
        if (p.minus.size() > 0) v -= p.minus;
        std::vector<double>& gradient = p.smooth.gradient;
        gradient.resize(density_.size(), 0.0);
        statics_.unit_energy(cases_[index(c)].displacement, &v, energy_);
#pragma omp parallel for simd schedule(static)
        for (std::size_t e = 0; e < energy_.size(); ++e) gradient[e] -= slope_[e] * energy_[e];
        add_body_loads(statics_, model_.cases[c], v, 1.0, slope_, gradient);
    }
}

void DesignState::walk(const Walk& w) {
    if (w.reading()) {
        std::vector<Eigen::MatrixXd> statics;
        w("warm-static", statics);
        statics_.set_warm_state(std::move(statics));
    } else {
        w.give("warm-static", statics_.warm_state());
    }
    if (!modal_) return;
    std::vector<Eigen::MatrixXd> modes = modal_->warm_state();
    w("warm-modal", modes);
    if (w.reading()) modal_->set_warm_state(std::move(modes));
}

} // namespace upright
