#include "fem/static_analysis.hpp"

#include "fem/element.hpp"

#include <cmath>
#include <map>

namespace upright {

StaticAnalysis::StaticAnalysis(const Model& model, const SolverOptions& options) : model_(model) {
    const Mesh& mesh = model.mesh;
    const Element& element = element_for(mesh.kind);
    // All cells of a grid have one shape, so a material has one matrix.
    const Eigen::MatrixXd corners = corners_of(mesh, ElementId{0});
    for (const Material& material : model.materials) {
        const Eigen::MatrixXd D = material.E * elastic_matrix(model.family, material.nu);
        templates_.push_back(element.stiffness(corners, D, mesh.thickness(), model.formulation));
        stress_.push_back(D * element.center_strain(corners));
    }
    for (std::size_t e = 0; e < mesh.elements(); ++e)
        template_of_.push_back(model.regions[index(mesh.region[e])].material);

    std::map<std::vector<std::pair<std::int32_t, int>>, std::size_t> known;
    for (std::size_t c = 0; c < model.cases.size(); ++c) {
        std::vector<std::pair<std::int32_t, int>> key;
        for (const HeldDirection& h : model.held(model.cases[c]))
            key.emplace_back(static_cast<std::int32_t>(h.node), h.axis);
        const auto [at, fresh] = known.emplace(key, groups_.size());
        if (fresh) {
            Group group;
            group.unknown_of.assign(model.freedoms(), 0);
            for (const auto& [node, axis] : key)
                group.unknown_of[static_cast<std::size_t>(node) * static_cast<std::size_t>(mesh.dimension()) +
                                 static_cast<std::size_t>(axis)] = -1;
            for (std::size_t i = 0; i < group.unknown_of.size(); ++i) {
                if (group.unknown_of[i] < 0) continue;
                group.unknown_of[i] = static_cast<std::int32_t>(group.component_of.size());
                group.component_of.push_back(i);
            }
            groups_.push_back(std::move(group));
        }
        groups_[at->second].cases.push_back(c);
    }
    const int d = mesh.dimension();
    for (Group& group : groups_) {
        ElementSystem system;
        system.unknowns = group.component_of.size();
        system.templates = templates_;
        system.template_of = template_of_;
        system.dofs_per_element = d * mesh.nodes_per_element();
        for (const NodeId node : mesh.connectivity)
            for (int a = 0; a < d; ++a)
                system.dofs.push_back(group.unknown_of[index(node) * static_cast<std::size_t>(d) +
                                                       static_cast<std::size_t>(a)]);
        group.solver = make_direct_solver(options);
        group.solver->prepare(system);
    }
}

std::vector<CaseResult> StaticAnalysis::solve(const std::vector<double>& stiffness,
                                              const std::vector<double>& density) {
    std::vector<CaseResult> out(model_.cases.size());
    for (Group& group : groups_) {
        const auto unknowns = static_cast<Eigen::Index>(group.component_of.size());
        Eigen::MatrixXd loads(unknowns, static_cast<Eigen::Index>(group.cases.size()));
        std::vector<Eigen::VectorXd> full;
        for (std::size_t i = 0; i < group.cases.size(); ++i) {
            full.push_back(model_.forces(model_.cases[group.cases[i]], density));
            for (Eigen::Index u = 0; u < unknowns; ++u)
                loads(u, static_cast<Eigen::Index>(i)) =
                    full[i][static_cast<Eigen::Index>(group.component_of[static_cast<std::size_t>(u)])];
        }
        group.solver->update(stiffness);
        const Eigen::MatrixXd solution = group.solver->solve(loads);
        for (std::size_t i = 0; i < group.cases.size(); ++i) {
            CaseResult& result = out[group.cases[i]];
            result.displacement = Eigen::VectorXd::Zero(static_cast<Eigen::Index>(model_.freedoms()));
            for (Eigen::Index u = 0; u < unknowns; ++u)
                result.displacement[static_cast<Eigen::Index>(
                    group.component_of[static_cast<std::size_t>(u)])] =
                    solution(u, static_cast<Eigen::Index>(i));
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
    const int d = model_.mesh.dimension();
    const int corners = model_.mesh.nodes_per_element();
    Eigen::VectorXd out(d * corners);
    for (int c = 0; c < corners; ++c)
        out.segment(d * c, d) = u.segment(static_cast<Eigen::Index>(index(model_.mesh.node(e, c))) * d, d);
    return out;
}

std::vector<double> StaticAnalysis::unit_energy(const Eigen::VectorXd& displacement) const {
    std::vector<double> out(model_.mesh.elements());
    for (std::size_t e = 0; e < out.size(); ++e) {
        const Eigen::VectorXd u = element_displacement(displacement, static_cast<ElementId>(e));
        out[e] = u.dot(templates_[static_cast<std::size_t>(template_of_[e])] * u);
    }
    return out;
}

Eigen::VectorXd StaticAnalysis::reactions(const CaseResult& result, const ModelCase& c,
                                          const std::vector<double>& stiffness,
                                          const std::vector<double>& density) const {
    const int d = model_.mesh.dimension();
    Eigen::VectorXd internal = -model_.forces(c, density);
    for (std::size_t e = 0; e < model_.mesh.elements(); ++e) {
        const auto id = static_cast<ElementId>(e);
        const Eigen::VectorXd f = stiffness[e] * (templates_[static_cast<std::size_t>(template_of_[e])] *
                                                  element_displacement(result.displacement, id));
        for (int a = 0; a < model_.mesh.nodes_per_element(); ++a)
            internal.segment(static_cast<Eigen::Index>(index(model_.mesh.node(id, a))) * d, d) +=
                f.segment(d * a, d);
    }
    Eigen::VectorXd out = Eigen::VectorXd::Zero(internal.size());
    for (const HeldDirection& h : model_.held(c)) {
        const Eigen::Index at = static_cast<Eigen::Index>(index(h.node)) * d + h.axis;
        out[at] = internal[at];
    }
    return out;
}

std::vector<double> StaticAnalysis::von_mises_stress(const Eigen::VectorXd& displacement) const {
    std::vector<double> out(model_.mesh.elements());
    for (std::size_t e = 0; e < out.size(); ++e) {
        const auto id = static_cast<ElementId>(e);
        const Eigen::VectorXd s =
            stress_[static_cast<std::size_t>(template_of_[e])] * element_displacement(displacement, id);
        const double across =
            model_.family == ElementFamily::PlaneStrain ? model_.material(id).nu * (s[0] + s[1]) : 0.0;
        out[e] = von_mises(s, across);
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
