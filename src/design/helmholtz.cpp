#include "design/helmholtz.hpp"

#include "solve/aggregation.hpp"

#include <Eigen/Dense>
#include <cmath>

namespace upright {

namespace {

// Integral of grad N' grad N over the cell of an element.
Eigen::MatrixXd laplacian(const Mesh& mesh, ElementId e) {
    const ElementKind kind = first_order(mesh.kind(e));
    const KindTraits& t = traits(kind);
    const NodeRange ids = mesh.nodes_of(e);
    Eigen::MatrixXd x(3, t.nodes);
    for (int i = 0; i < t.nodes; ++i) x.col(i) = mesh.nodes[index(ids[static_cast<std::size_t>(i)])];
    Eigen::MatrixXd out = Eigen::MatrixXd::Zero(t.nodes, t.nodes);
    Eigen::VectorXd N;
    Eigen::MatrixXd G;
    for (const RulePoint& p : integration_rule(kind)) {
        interpolate(kind, p.at, N, G);
        // The metric of the tangents serves solids, planes and shells alike.
        const Eigen::MatrixXd J = x * G.transpose();
        const Eigen::MatrixXd metric = J.transpose() * J;
        const double det = std::sqrt(metric.determinant());
        out += G.transpose() * metric.inverse() * G * (p.weight * det);
    }
    return out * mesh.depth(e);
}

// One factorisation serves for good, where it is wanted and fits into memory; else multigrid.
std::unique_ptr<LinearSolver> make_solver(const ElementSystem& system, const SolverOptions& options) {
    SolverOptions direct = options;
    direct.kind = SolverKind::Direct;
    const bool multigrid =
        options.kind == SolverKind::GridMultigrid || options.kind == SolverKind::Aggregation;
    if (!multigrid) {
        try {
            return make_direct_solver(system, direct);
        } catch (const Error& no_room) {
            if (options.kind == SolverKind::Direct || no_room.code() != ExitCode::Numerics) throw;
        }
    }
    NearKernel constant; // the field that costs no energy but that of the reaction term
    for (std::size_t u = 0; u < system.unknowns; ++u)
        constant.node_of.push_back(static_cast<std::int32_t>(u));
    constant.motions = Eigen::MatrixXd::Ones(static_cast<Eigen::Index>(system.unknowns), 1);
    return make_aggregation_solver(system, std::move(constant), options);
}

} // namespace

HelmholtzFilter::HelmholtzFilter(const Model& model, const std::vector<std::int32_t>& variable_of,
                                 double radius, const SolverOptions& options) {
    const Mesh& mesh = model.mesh;
    const double r = radius / (2.0 * std::sqrt(3.0));
    std::vector<std::int32_t> unknown_of(mesh.nodes.size(), -1);
    starts_.push_back(0);
    ElementSystem system;
    for (std::size_t e = 0; e < mesh.elements(); ++e) {
        if (variable_of[e] < 0) continue;
        const auto id = static_cast<ElementId>(e);
        const NodeRange ids = mesh.nodes_of(id);
        const int corners = traits(mesh.kinds[e]).corners;
        for (int i = 0; i < corners; ++i) {
            std::int32_t& unknown = unknown_of[index(ids[static_cast<std::size_t>(i)])];
            if (unknown < 0) unknown = static_cast<std::int32_t>(unknowns_++);
            corners_.push_back(unknown);
            system.dofs.push_back(unknown);
        }
        starts_.push_back(corners_.size());
        system.starts.push_back(system.dofs.size());
        volumes_.push_back(mesh.volume(e));
        Eigen::MatrixXd K = r * r * laplacian(mesh, id);
        K.diagonal().array() += mesh.volume(e) / corners;
        matrices_.push_back(std::move(K));
    }
    for (const Eigen::MatrixXd& K : matrices_) system.matrix_of.push_back(&K);
    system.unknowns = unknowns_;
    if (unknowns_ == 0) return;
    solver_ = make_solver(system, options);
    solver_->update(std::vector<double>(matrices_.size(), 1.0));
}

Eigen::VectorXd HelmholtzFilter::spread(const std::vector<double>& values, bool by_volume) const {
    Eigen::VectorXd out = Eigen::VectorXd::Zero(static_cast<Eigen::Index>(unknowns_));
    for (std::size_t v = 0; v < volumes_.size(); ++v) {
        const double share =
            values[v] * (by_volume ? volumes_[v] : 1.0) / static_cast<double>(starts_[v + 1] - starts_[v]);
        for (std::size_t k = starts_[v]; k < starts_[v + 1]; ++k) out[corners_[k]] += share;
    }
    return out;
}

std::vector<double> HelmholtzFilter::collect(const Eigen::VectorXd& nodal, bool by_volume) const {
    std::vector<double> out(volumes_.size(), 0.0);
    for (std::size_t v = 0; v < volumes_.size(); ++v) {
        for (std::size_t k = starts_[v]; k < starts_[v + 1]; ++k) out[v] += nodal[corners_[k]];
        out[v] *= (by_volume ? volumes_[v] : 1.0) / static_cast<double>(starts_[v + 1] - starts_[v]);
    }
    return out;
}

std::vector<double> HelmholtzFilter::apply(const std::vector<double>& x) const {
    if (!solver_) return x;
    return collect(solver_->solve(spread(x, true)), false);
}

std::vector<double> HelmholtzFilter::transpose(const std::vector<double>& g) const {
    if (!solver_) return g;
    return collect(solver_->solve(spread(g, false)), true);
}

} // namespace upright
