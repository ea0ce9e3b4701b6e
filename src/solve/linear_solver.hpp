// The seam to linear solvers: symmetric positive definite systems that are sums of element matrices.
// Nothing above this folder may assume that a matrix exists.
#pragma once

#include <Eigen/Core>

#include <cstdint>
#include <memory>
#include <vector>

namespace upright {

struct SolverOptions {
    int threads = 0;      // 0: all cores
    double memory = 12e9; // bytes the factorisation may take
};

// The structure of a system: K = sum over elements of scale_e * matrix_e at the element's unknowns.
struct ElementSystem {
    std::size_t unknowns = 0;
    std::vector<std::size_t> starts{0}; // where each element's unknowns begin in `dofs`, and the end
    std::vector<std::int32_t> dofs;     // -1 where held
    // The matrix of each element, as wide as it has dofs; owned by the caller, who keeps them as long as the
    // solver lives. Elements may share one.
    std::vector<const Eigen::MatrixXd*> matrix_of;

    std::size_t elements() const { return matrix_of.size(); }
    std::size_t width(std::size_t e) const { return starts[e + 1] - starts[e]; }
};

struct SolverCost {
    std::size_t unknowns = 0;
    double factor_bytes = 0.0;
    double factor_flops = 0.0;    // of one factorisation
    double prepare_seconds = 0.0; // once
    double factor_seconds = 0.0;  // the last one
    double solve_seconds = 0.0;   // the last one, all right-hand sides
};

class LinearSolver {
  public:
    LinearSolver() = default;
    LinearSolver(const LinearSolver&) = delete;
    LinearSolver& operator=(const LinearSolver&) = delete;
    virtual ~LinearSolver() = default;

    // Learns the structure, once. Throws Error (Numerics) when the memory would not do.
    virtual void prepare(const ElementSystem& system) = 0;
    // Takes the scale of every element's matrix. Throws Error (Numerics) for a singular system.
    virtual void update(const std::vector<double>& scale) = 0;
    // Solves for a block of right-hand sides, one a column.
    virtual Eigen::MatrixXd solve(const Eigen::MatrixXd& loads) = 0;
    virtual SolverCost cost() const = 0;
};

// Sparse supernodal Cholesky (CHOLMOD: Chen, Davis, Hager & Rajamanickam 2008), nested dissection ordering;
// the symbolic analysis is made once and reused by every update.
std::unique_ptr<LinearSolver> make_direct_solver(const SolverOptions& options);

} // namespace upright
