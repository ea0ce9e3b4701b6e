#include "response/design_state.hpp"

#include "base/blocks.hpp"
#include "base/reduction.hpp"
#include "design/interpolation.hpp"

#include <algorithm>
#include <chrono>

namespace upright {

namespace {

using Clock = std::chrono::steady_clock;

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

void put(Memory& memory, const std::string& name, const std::vector<Eigen::MatrixXd>& all) {
    for (std::size_t i = 0; i < all.size(); ++i) {
        if (all[i].size() == 0) continue;
        std::vector<double>& flat = memory[name + "." + std::to_string(i)];
        flat.assign(all[i].data(), all[i].data() + all[i].size());
        flat.push_back(static_cast<double>(all[i].cols()));
    }
}

std::vector<Eigen::MatrixXd> get(const Memory& memory, const std::string& name, std::size_t count) {
    std::vector<Eigen::MatrixXd> out(count);
    for (std::size_t i = 0; i < count; ++i) {
        const auto at = memory.find(name + "." + std::to_string(i));
        if (at == memory.end() || at->second.size() < 2) continue;
        const auto cols = static_cast<Eigen::Index>(at->second.back());
        const auto rows = static_cast<Eigen::Index>(at->second.size() - 1) / cols;
        out[i] = Eigen::Map<const Eigen::MatrixXd>(at->second.data(), rows, cols);
    }
    return out;
}

} // namespace

DesignState::DesignState(StaticAnalysis& statics, const std::vector<bool>& modal_wanted, bool stress)
    : model_(statics.model()), statics_(statics), modal_wanted_(modal_wanted), stress_(stress) {
    for (std::size_t e = 0; e < model_.mesh.elements(); ++e)
        design_.push_back(model_.role(static_cast<ElementId>(e)) == Role::Design);
    if (std::any_of(modal_wanted_.begin(), modal_wanted_.end(), [](bool b) { return b; }))
        modal_.emplace(model_, statics.options());
}

void DesignState::analyse(const std::vector<double>& density, double penalty,
                          const MeasureAccuracy& accuracy) {
    copy_by_blocks(density, density_);
    accuracy_ = accuracy.statics;
    gray_ = upright::grayness(density, design_);
    interpolate_stiffness(density, penalty, stiffness_, slope_);
    statics_.solve(stiffness_, density, accuracy.statics, cases_);
    for (std::string& note : statics_.take_notes()) notes_.push_back(std::move(note));
    von_mises_.clear();
    if (stress_)
        for (std::size_t c = 0; c < cases_.size(); ++c)
            von_mises_.push_back(statics_.von_mises_stress(cases_[c].displacement, &model_.cases[c]));
    adjoint_seconds_ = 0.0;
    modal_seconds_ = 0.0;
    if (!modal_) return;
    const auto start = Clock::now();
    mass_ = modal_mass_share(density);
    mass_slope_ = modal_mass_slope(density);
    modals_.clear();
    for (std::size_t c = 0; c < model_.modal_cases.size(); ++c) {
        modals_.emplace_back();
        if (!modal_wanted_[c]) continue;
        modals_.back() = modal_->solve(model_.modal_cases[c], stiffness_, mass_, accuracy.modals);
        for (const std::string& note : modals_.back().notes) notes_.push_back(note);
    }
    modal_seconds_ = since(start);
}

Eigen::VectorXd DesignState::mass_times(std::size_t c, const Eigen::VectorXd& shape) const {
    return modal_->mass_times(shape, mass_, model_.modal_cases[c].lumped);
}

Vec3 DesignState::support_force(std::size_t c, const std::string& /*support*/,
                                const std::array<Eigen::VectorXd, 3>& fields) const {
    const Eigen::VectorXd rest = statics_.residual(cases_[c], model_.cases[c], stiffness_, density_);
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

void DesignState::add_compliance(std::size_t c, double weight, std::vector<double>& gradient) const {
    const Eigen::VectorXd& adjoint = cases_[c].adjoint();
    statics_.unit_energy(cases_[c].displacement, &adjoint, energy_);
#pragma omp parallel for simd schedule(static)
    for (std::size_t e = 0; e < energy_.size(); ++e) gradient[e] -= weight * slope_[e] * energy_[e];
    const bool of_material =
        std::any_of(model_.cases[c].loads.begin(), model_.cases[c].loads.end(), [&](const auto& load) {
            return model_.loads[load.first].of_body() || model_.loads[load.first].heat != 0.0;
        });
    if (!of_material) return;
    add_body_loads(statics_, model_.cases[c], cases_[c].displacement + adjoint, weight, slope_, gradient);
}

void DesignState::solve_adjoints(std::vector<Pending>& pending) {
    std::vector<AdjointLoad> loads;
    std::vector<Pending*> waiting;
    for (Pending& p : pending) {
        if (p.load.size() == 0) continue;
        loads.push_back({static_cast<std::size_t>(p.in_case), std::move(p.load)});
        waiting.push_back(&p);
    }
    if (loads.empty()) return;
    const auto start = Clock::now();
    std::vector<Eigen::VectorXd> answers = statics_.solve_adjoints(loads, accuracy_);
    adjoint_seconds_ += since(start);
    for (std::size_t i = 0; i < waiting.size(); ++i) {
        Pending& p = *waiting[i];
        const auto c = static_cast<std::size_t>(p.in_case);
        Eigen::VectorXd& v = answers[i];
        if (p.minus.size() > 0) v -= p.minus;
        std::vector<double>& gradient = p.smooth.gradient;
        gradient.resize(density_.size(), 0.0);
        statics_.unit_energy(cases_[c].displacement, &v, energy_);
#pragma omp parallel for simd schedule(static)
        for (std::size_t e = 0; e < energy_.size(); ++e) gradient[e] -= slope_[e] * energy_[e];
        add_body_loads(statics_, model_.cases[c], v, 1.0, slope_, gradient);
    }
}

void DesignState::keep(Memory& memory) const {
    put(memory, "warm-static", statics_.warm_state());
    if (modal_) put(memory, "warm-modal", modal_->warm_state());
}

void DesignState::take_up(const Memory& memory) {
    statics_.set_warm_state(get(memory, "warm-static", statics_.warm_state().size()));
    if (modal_) modal_->set_warm_state(get(memory, "warm-modal", model_.modal_cases.size()));
}

} // namespace upright
