// The equations of a model under one set of constraints, and the solver chosen for them.
#pragma once

#include "fem/grid_system.hpp"
#include "fem/reduced_system.hpp"
#include "solve/solver_table.hpp"
#include "study/study.hpp"

#include <memory>
#include <string>
#include <vector>

namespace upright {

// Chooses by structure, size and memory; `asked` other than Auto is taken where it can serve.
SolverPlan plan_solver(const Model& model, const ShapeClasses& classes, std::size_t unknowns,
                       std::size_t right_sides, const SolverOptions& options);
// The plan for each group of static cases that share supports, nothing of it made.
struct CasePlan {
    std::vector<CaseId> cases;
    SolverPlan solver;
};
std::vector<CasePlan> plan_cases(const Model& model, const SolverOptions& options);
// What is wrong where a plan does not fit, and what would fit: Error (Numerics).
Error no_room(const Model& model, const SolverPlan& plan, double memory);
// What [run] asks for.
SolverOptions solver_options(const RunCard& run);

// The rigid-body motions on the unknowns, and the node each belongs to.
NearKernel near_kernel(const Model& model, const Transform& transform);
// Where the unknowns of a solid model stand; reference points of couplings are beyond the body.
UnknownPlaces unknown_places(const Model& model, const Transform& transform);

class ConstrainedSolver : private SystemSource {
  public:
    // `stiffness` is kept by the caller. Throws Error (Numerics) when memory would not do.
    ConstrainedSolver(const Model& model, const Transform& transform, const ShapeClasses& classes,
                      const ClassMatrices& stiffness, std::size_t right_sides, const SolverOptions& options);

    // Takes the share of full stiffness of every element.
    void update(const std::vector<double>& share);
    // On the unknowns, as LinearSolver does. Falls back to another solver where this one does not converge,
    // and says so in `notes`.
    void solve(const Loads& loads, const SolveWish& wish, Eigen::MatrixXd& answers);

    SolverCost cost() const { return solver_->cost(); }
    const SolverPlan& plan() const { return plan_; }
    // Sentences since the last call.
    std::vector<std::string> take_notes();

  private:
    void make(SolverKind kind);
    const ElementSystem& elements() override;
    NearKernel near_kernel() override { return upright::near_kernel(model_, transform_); }
    UnknownPlaces unknown_places() override;
    const GridSystem& grid() override;

    const Model& model_;
    const Transform& transform_;
    const ShapeClasses& classes_;
    const ClassMatrices& stiffness_;
    SolverOptions options_;
    SolverFacts facts_;
    SolverPlan plan_;
    std::unique_ptr<ReducedSystem> elements_; // where a solver asks for them
    ReducedSystem joints_;
    std::unique_ptr<GridSystem> grid_;
    std::unique_ptr<LinearSolver> solver_;
    SolverKind made_ = SolverKind::Direct;
    std::vector<double> share_;
    std::vector<std::string> notes_;
};

} // namespace upright
