#include "fem/static_analysis.hpp"

#include "fem/elasticity.hpp"
#include "fem/element.hpp"

#include <algorithm>
#include <cmath>
#include <map>

namespace upright {

double StaticAnalysis::rise(const ModelCase& c) const {
    double out = 0.0;
    for (const auto& [l, factor] : c.loads) out += factor * model_.loads[l].heat;
    return out;
}

StaticAnalysis::StaticAnalysis(const Model& model, const SolverOptions& options) : model_(model) {
    const Mesh& mesh = model.mesh;
    // The cells of a grid have one shape: a material and a thickness have one matrix.
    std::map<std::pair<int, double>, std::size_t> known;
    for (std::size_t e = 0; e < mesh.elements(); ++e) {
        const auto id = static_cast<ElementId>(e);
        const int material = model.regions[index(mesh.region[e])].material;
        const auto make = [&] {
            const Element& element = element_for(mesh.kinds[e]);
            const Eigen::MatrixXd places = places_of(mesh, id);
            const Eigen::MatrixXd D = elasticity(model, id);
            matrices_.push_back(element.stiffness(places, D, mesh.depth(id), model.formulation));
            stress_.push_back(
                element.stress(places, D, mesh.depth(id), model.formulation, natural_center(mesh.kinds[e])));
        };
        std::size_t at = matrices_.size();
        if (mesh.on_grid() && same_everywhere(model.material(id))) {
            const auto [found, fresh] = known.emplace(std::pair{material, mesh.depth(id)}, matrices_.size());
            at = found->second;
            if (fresh) make();
        } else {
            make();
        }
        matrix_of_.push_back(&matrices_[at]);
        stress_of_.push_back(&stress_[at]);
    }

    std::map<std::vector<std::size_t>, std::size_t> group_of;
    for (std::size_t c = 0; c < model.cases.size(); ++c) {
        std::vector<std::size_t> key = model.cases[c].supports;
        std::sort(key.begin(), key.end());
        const auto [at, fresh] = group_of.emplace(key, groups_.size());
        if (fresh) groups_.emplace_back(model.transform(model.cases[c]));
        groups_[at->second].cases.push_back(c);
    }
    for (Group& group : groups_) {
        for (std::size_t e = 0; e < mesh.elements(); ++e)
            group.system.add(group.transform, model.freedoms_of(static_cast<ElementId>(e)), *matrix_of_[e]);
        for (const ModelJoint& joint : model.joints)
            group.system.add(group.transform, joint.freedoms, joint.matrix);
        group.solver = make_direct_solver(group.system.system(), options);
    }
}

Eigen::VectorXd StaticAnalysis::internal_forces(const Eigen::VectorXd& u,
                                                const std::vector<double>& stiffness) const {
    Eigen::VectorXd out = Eigen::VectorXd::Zero(u.size());
    const int per = model_.mesh.freedoms();
    for (std::size_t e = 0; e < model_.mesh.elements(); ++e) {
        const auto id = static_cast<ElementId>(e);
        const Eigen::VectorXd f = stiffness[e] * (*matrix_of_[e] * element_displacement(u, id));
        const NodeRange ids = model_.mesh.nodes_of(id);
        for (std::size_t i = 0; i < ids.size(); ++i)
            out.segment(static_cast<Eigen::Index>(model_.freedom(ids[i], 0)), per) +=
                f.segment(static_cast<Eigen::Index>(i) * per, per);
    }
    for (const ModelJoint& joint : model_.joints) {
        Eigen::VectorXd local(static_cast<Eigen::Index>(joint.freedoms.size()));
        for (std::size_t i = 0; i < joint.freedoms.size(); ++i)
            local[static_cast<Eigen::Index>(i)] = u[static_cast<Eigen::Index>(joint.freedoms[i])];
        const Eigen::VectorXd f = joint.matrix * local;
        for (std::size_t i = 0; i < joint.freedoms.size(); ++i)
            out[static_cast<Eigen::Index>(joint.freedoms[i])] += f[static_cast<Eigen::Index>(i)];
    }
    return out;
}

std::vector<CaseResult> StaticAnalysis::solve(const std::vector<double>& stiffness,
                                              const std::vector<double>& density) {
    std::vector<CaseResult> out(model_.cases.size());
    std::vector<double> scale = stiffness;
    scale.resize(stiffness.size() + model_.joints.size(), 1.0);
    for (Group& group : groups_) {
        const Transform& t = group.transform;
        const bool moves = t.moves();
        const auto count = static_cast<Eigen::Index>(group.cases.size());
        Eigen::MatrixXd loads(static_cast<Eigen::Index>(t.unknowns()), count + (moves ? 1 : 0));
        std::vector<Eigen::VectorXd> full;
        for (std::size_t i = 0; i < group.cases.size(); ++i) {
            full.push_back(forces(model_.cases[group.cases[i]], stiffness, density));
            loads.col(static_cast<Eigen::Index>(i)) = t.gather(full[i]);
        }
        // The enforced motion alone is one more right-hand side, the same for every case.
        Eigen::VectorXd enforced;
        if (moves) {
            enforced = t.expand(Eigen::VectorXd::Zero(static_cast<Eigen::Index>(t.unknowns())), true);
            loads.col(count) = -t.gather(internal_forces(enforced, stiffness));
        }
        group.solver->update(scale);
        const Eigen::MatrixXd solution = group.solver->solve(loads);
        for (std::size_t i = 0; i < group.cases.size(); ++i) {
            CaseResult& result = out[group.cases[i]];
            result.displacement = t.expand(solution.col(static_cast<Eigen::Index>(i)), false);
            if (moves) {
                result.unmoved = result.displacement;
                result.displacement += t.expand(solution.col(count), true);
            }
            result.compliance = full[i].dot(result.displacement);
            if (!std::isfinite(result.compliance))
                throw Error::numerics("the case \"" + model_.cases[group.cases[i]].name +
                                          "\" has no finite result",
                                      "Look for loads or material data of absurd size");
        }
    }
    return out;
}

Eigen::VectorXd StaticAnalysis::element_displacement(const Eigen::VectorXd& u, ElementId e) const {
    const int per = model_.mesh.freedoms();
    const NodeRange ids = model_.mesh.nodes_of(e);
    Eigen::VectorXd out(per * static_cast<Eigen::Index>(ids.size()));
    for (std::size_t i = 0; i < ids.size(); ++i)
        out.segment(static_cast<Eigen::Index>(i) * per, per) =
            u.segment(static_cast<Eigen::Index>(model_.freedom(ids[i], 0)), per);
    return out;
}

std::vector<double> StaticAnalysis::unit_energy(const Eigen::VectorXd& u, const Eigen::VectorXd* v) const {
    std::vector<double> out(model_.mesh.elements());
    for (std::size_t e = 0; e < out.size(); ++e) {
        const Eigen::VectorXd a = element_displacement(u, static_cast<ElementId>(e));
        const Eigen::VectorXd f = *matrix_of_[e] * a;
        out[e] = v == nullptr ? a.dot(f) : element_displacement(*v, static_cast<ElementId>(e)).dot(f);
    }
    return out;
}

Eigen::VectorXd StaticAnalysis::forces(const ModelCase& c, const std::vector<double>& stiffness,
                                       const std::vector<double>& density) const {
    Eigen::VectorXd out = model_.forces(c, density);
    const double rise = this->rise(c);
    if (rise == 0.0) return out;
    const int per = model_.mesh.freedoms();
    for (std::size_t e = 0; e < model_.mesh.elements(); ++e) {
        const auto id = static_cast<ElementId>(e);
        const Eigen::VectorXd f = element_for(model_.mesh.kinds[e])
                                      .expansion(places_of(model_.mesh, id), elasticity(model_, id),
                                                 free_strain(model_, id), model_.mesh.depth(id));
        const NodeRange ids = model_.mesh.nodes_of(id);
        for (std::size_t i = 0; i < ids.size(); ++i)
            out.segment(static_cast<Eigen::Index>(model_.freedom(ids[i], 0)), per) +=
                rise * stiffness[e] * f.segment(static_cast<Eigen::Index>(i) * per, per);
    }
    return out;
}

std::vector<double> StaticAnalysis::unit_heat_work(const ModelCase& c, const Eigen::VectorXd& u) const {
    const double rise = this->rise(c);
    std::vector<double> out;
    if (rise == 0.0) return out;
    for (std::size_t e = 0; e < model_.mesh.elements(); ++e) {
        const auto id = static_cast<ElementId>(e);
        out.push_back(rise * element_for(model_.mesh.kinds[e])
                                 .expansion(places_of(model_.mesh, id), elasticity(model_, id),
                                            free_strain(model_, id), model_.mesh.depth(id))
                                 .dot(element_displacement(u, id)));
    }
    return out;
}

Eigen::VectorXd StaticAnalysis::reactions(const CaseResult& result, const ModelCase& c,
                                          const std::vector<double>& stiffness,
                                          const std::vector<double>& density) const {
    // What couplings and bonds pass on is no reaction: the residual on the freedoms that they leave.
    const Transform linked = model_.transform(c, false);
    const Eigen::VectorXd residual =
        internal_forces(result.displacement, stiffness) - forces(c, stiffness, density);
    const Eigen::VectorXd left = linked.gather(residual);
    Eigen::VectorXd out = Eigen::VectorXd::Zero(residual.size());
    const auto hold = [&](const std::vector<Equation>& equations) {
        for (const Equation& e : equations)
            for (const Term& t : e.terms)
                if (!linked.dependent(t.freedom))
                    out[static_cast<Eigen::Index>(t.freedom)] = left[linked.unknown_of(t.freedom)];
    };
    for (const std::size_t s : c.supports) hold(model_.supports[s].equations);
    // A symmetry plane holds too, though the transform took its freedoms away.
    for (const Equation& e : model_.symmetry)
        for (const Term& t : e.terms)
            out[static_cast<Eigen::Index>(t.freedom)] = residual[static_cast<Eigen::Index>(t.freedom)];
    for (const ModelJoint& joint : model_.joints) {
        if (joint.ends[0] >= 0 && joint.ends[1] >= 0) continue;
        Eigen::VectorXd local(static_cast<Eigen::Index>(joint.freedoms.size()));
        for (std::size_t i = 0; i < joint.freedoms.size(); ++i)
            local[static_cast<Eigen::Index>(i)] =
                result.displacement[static_cast<Eigen::Index>(joint.freedoms[i])];
        const Eigen::VectorXd f = joint.matrix * local;
        for (std::size_t i = 0; i < joint.freedoms.size(); ++i)
            out[static_cast<Eigen::Index>(joint.freedoms[i])] -= f[static_cast<Eigen::Index>(i)];
    }
    return out;
}

std::vector<double> StaticAnalysis::von_mises_stress(const Eigen::VectorXd& displacement,
                                                     const ModelCase* c) const {
    const double rise = c == nullptr ? 0.0 : this->rise(*c);
    std::vector<double> out(model_.mesh.elements());
    for (std::size_t e = 0; e < out.size(); ++e) {
        const auto id = static_cast<ElementId>(e);
        Eigen::VectorXd s = *stress_of_[e] * element_displacement(displacement, id);
        if (rise != 0.0) {
            const Eigen::MatrixXd D = elasticity(model_, id);
            const Eigen::VectorXd strain = free_strain(model_, id);
            const Eigen::VectorXd free = D.topLeftCorner(strain.size(), strain.size()) * strain * rise;
            for (Eigen::Index i = 0; i < s.size(); ++i) s[i] -= free[i % free.size()];
        }
        if (model_.mesh.shell()) {
            out[e] = std::max(plane_von_mises(s.head(3)), plane_von_mises(s.tail(3)));
            continue;
        }
        out[e] = plane_von_mises(
            s, model_.family == ElementFamily::PlaneStrain ? stress_across_plane(model_, id, s, rise) : 0.0);
    }
    return out;
}

SolverCost StaticAnalysis::cost() const {
    SolverCost out;
    for (const Group& group : groups_) {
        const SolverCost one = group.solver->cost();
        out.unknowns = std::max(out.unknowns, one.unknowns);
        out.factor_bytes += one.factor_bytes;
        out.factor_flops += one.factor_flops;
        out.prepare_seconds += one.prepare_seconds;
        out.factor_seconds += one.factor_seconds;
        out.solve_seconds += one.solve_seconds;
    }
    return out;
}

} // namespace upright
