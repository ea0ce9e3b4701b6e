// Static analysis of all cases: those that share supports are solved together on one factorisation.
#pragma once

#include "model/model.hpp"
#include "solve/linear_solver.hpp"

#include <Eigen/Core>

#include <memory>
#include <vector>

namespace upright {

// What one case came to.
struct CaseResult {
    Eigen::VectorXd displacement; // dimension() for each node
    double compliance = 0.0;      // force times displacement
};

class StaticAnalysis {
  public:
    // Throws Error (Numerics) when the model needs more memory than the options allow.
    StaticAnalysis(const Model& model, const SolverOptions& options);

    // Solves every case for the share of its full stiffness and of its full mass that each element has.
    // Throws Error (Numerics) when the structure is singular.
    std::vector<CaseResult> solve(const std::vector<double>& stiffness, const std::vector<double>& density);

    // The strain energy u_e' k_e u_e of full material, for each element.
    std::vector<double> unit_energy(const Eigen::VectorXd& displacement) const;

    // Nodal forces of the supports: stiffness times displacement less the loads, zero where nothing is held.
    Eigen::VectorXd reactions(const CaseResult& result, const ModelCase& c,
                              const std::vector<double>& stiffness, const std::vector<double>& density) const;

    // Von Mises stress in the material at the middle of each element (full modulus: the stress that the solid
    // material of a partly filled cell would feel).
    std::vector<double> von_mises_stress(const Eigen::VectorXd& displacement) const;

    const Model& model() const { return model_; }
    SolverCost cost() const;

  private:
    struct Group {
        std::vector<std::size_t> cases;
        std::vector<std::int32_t> unknown_of; // for each displacement component, or -1 where held
        std::vector<std::size_t> component_of;
        std::unique_ptr<LinearSolver> solver;
    };
    Eigen::VectorXd element_displacement(const Eigen::VectorXd& u, ElementId e) const;

    const Model& model_;
    std::vector<Eigen::MatrixXd> templates_; // element stiffness, one for each material
    std::vector<Eigen::MatrixXd> stress_;    // stress from displacements at the middle, one for each material
    std::vector<std::int32_t> template_of_;
    std::vector<Group> groups_;
};

} // namespace upright
