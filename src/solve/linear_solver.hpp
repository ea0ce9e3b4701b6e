// The seam to linear solvers: symmetric positive definite systems that are sums of element matrices.
// Nothing above this folder may assume that a matrix exists.
#pragma once

#include "base/error.hpp"

#include <Eigen/Core>

#include <algorithm>
#include <cstdint>
#include <functional>
#include <memory>
#include <string>
#include <utility>
#include <vector>

namespace upright {

// Aggregation serves every mesh, the grid multigrid meshes that are lattices of cells, and the lattice
// multigrid any solid mesh, under which it lays a lattice of its own.
enum class SolverKind { Auto, Direct, GridMultigrid, LatticeMultigrid, Aggregation };

struct SolverOptions {
    int threads = 0;      // 0: all cores
    double memory = 12e9; // bytes that solving may take
    SolverKind kind = SolverKind::Auto;
    // Of a factorisation: update() comes once, and what another would need is let go.
    bool once = false;
    // Of iterations: working room is let go of after every solve.
    bool frugal = false;
};

// The number of threads that options come to on this machine.
int threads_of(const SolverOptions& options);

// Matrices that nobody keeps: they are made whenever they are asked for.
class MadeMatrices {
  public:
    virtual ~MadeMatrices() = default;
    virtual void make(std::size_t number, Eigen::MatrixXd& out) const = 0;
    // The rows of one node, three freedoms each: 3 x width, column by column.
    virtual void make_rows(std::size_t number, std::size_t node, double* out) const = 0;
    // All of them, node by node: 3 x 3 blocks, column by column, row of blocks by row of blocks.
    virtual void make_blocks(std::size_t number, double* out) const = 0;
};

// The structure of a system: K = sum over elements of scale_e * matrix_e at the element's unknowns.
struct ElementSystem {
    std::size_t unknowns = 0;
    std::vector<std::size_t> starts{0}; // where each element's unknowns begin in `dofs`, and the end
    std::vector<std::int32_t> dofs;     // -1 where held
    // The matrix of each element, as wide as it has dofs; owned by the caller, who keeps them as long as the
    // solver lives. Elements may share one. nullptr: it is made.
    std::vector<const Eigen::MatrixXd*> matrix_of;
    const MadeMatrices* made = nullptr;
    std::vector<std::uint32_t> number_of; // beside matrix_of, as `made` knows it; empty where nothing is made
    // The order to eliminate the unknowns in (solve/dissection.hpp); empty: a factorisation finds its own.
    std::vector<std::int32_t> order;

    std::size_t elements() const { return matrix_of.size(); }
    std::size_t width(std::size_t e) const { return starts[e + 1] - starts[e]; }
    // The matrix of an element, in `room` where it has to be made.
    const Eigen::MatrixXd& matrix(std::size_t e, Eigen::MatrixXd& room) const {
        if (matrix_of[e] != nullptr) return *matrix_of[e];
        made->make(number_of[e], room);
        return room;
    }
};

struct SolverCost {
    std::string
        method; // in words: "sparse Cholesky", "grid multigrid", "lattice multigrid", "aggregation multigrid"
    int iterations = 0; // of the last solve, the most that a right-hand side took; 0: direct
    int levels = 0;     // of a multigrid
    double bytes = 0.0; // all that is held for solving
    std::size_t unknowns = 0;
    double factor_bytes = 0.0;
    double factor_flops = 0.0;    // of one factorisation
    double prepare_seconds = 0.0; // once
    double factor_seconds = 0.0;  // the last one
    double solve_seconds = 0.0;   // the last one, all right-hand sides
};

// What a solve has to reach. A direct solver reaches more than any of it.
struct SolveWish {
    // Share of the energy that the error may have, as the preconditioned residual measures it:
    // z'r <= energy * b'x. Displacements are right to about its square root.
    double energy = 1e-18;
    // Instead of it, where above zero: |r| <= residual * |b|.
    double residual = 0.0;
    // The answers as they come in are values to start from, one a column; they are scaled to fit best.
    bool warm = false;
};

// A block of right-hand sides on the unknowns. A column is filled in when it is wanted, so that nobody has to
// keep what is nothing but for a few unknowns.
class Loads {
  public:
    using Fill = std::function<void(Eigen::Index column, double* to)>; // every place is written
    Loads(Eigen::Index rows, Eigen::Index cols, Fill fill)
        : rows_(rows), cols_(cols), fill_(std::move(fill)) {}
    // Those of a matrix, one a column, which has to live as long.
    explicit Loads(const Eigen::MatrixXd& all)
        : rows_(all.rows()), cols_(all.cols()), fill_([&all](Eigen::Index column, double* to) {
              std::copy_n(all.col(column).data(), all.rows(), to);
          }) {}

    Eigen::Index rows() const { return rows_; }
    Eigen::Index cols() const { return cols_; }
    void column(Eigen::Index column, double* to) const { fill_(column, to); }
    Eigen::MatrixXd matrix() const {
        Eigen::MatrixXd out(rows_, cols_);
        for (Eigen::Index c = 0; c < cols_; ++c) fill_(c, out.col(c).data());
        return out;
    }

  private:
    Eigen::Index rows_ = 0, cols_ = 0;
    Fill fill_;
};

// An iterative solver did not reach what was asked for; another one may.
struct NoConvergence : Error {
    explicit NoConvergence(const std::string& what)
        : Error(Error::numerics(what, "Write solver = \"direct\" in [run] where memory allows")) {}
};

class LinearSolver {
  public:
    LinearSolver() = default;
    LinearSolver(const LinearSolver&) = delete;
    LinearSolver& operator=(const LinearSolver&) = delete;
    virtual ~LinearSolver() = default;

    // Takes the scale of every element's matrix. Throws Error (Numerics) for a singular system, as the first
    // solve after it may.
    virtual void update(const std::vector<double>& scale) = 0;
    // Solves for a block of right-hand sides, one a column of `answers`. Throws NoConvergence; what `answers`
    // holds then is of no use.
    virtual void solve(const Loads& loads, const SolveWish& wish, Eigen::MatrixXd& answers) = 0;
    Eigen::MatrixXd solve(const Eigen::MatrixXd& loads, const SolveWish& wish = {}) {
        Eigen::MatrixXd out;
        solve(Loads(loads), wish, out);
        return out;
    }
    virtual SolverCost cost() const = 0;
};

// Sparse supernodal Cholesky (CHOLMOD: Chen, Davis, Hager & Rajamanickam 2008), nested dissection ordering;
// the symbolic analysis is made once and reused by every update.
// Learns the structure here. Throws Error (Numerics) when the memory would not do.
std::unique_ptr<LinearSolver> make_direct_solver(const ElementSystem& system, const SolverOptions& options);

} // namespace upright
