// Conjugate gradients with geometric multigrid on a lattice of cells, its constraints included.
#pragma once

#include "solve/conjugate_gradients.hpp"
#include "solve/grid/multigrid.hpp"
#include "solve/grid_system.hpp"

#include <memory>

namespace upright {

// Why the multigrid would not serve a system well; empty when it would.
std::string unfit_for_multigrid(const GridSystem& system);

// The system with its constraints as an operator on long vectors: a fine vector of the lattice, then the
// unknowns beyond it. For conjugate gradients and for modes.
class GridOperator : public IterativeSystem {
  public:
    // Keeps references to the system and to the matrices that its extra elements point to.
    GridOperator(const GridSystem& system, const grid::MultigridOptions& options);
    // Throws Error (Numerics) for a system that is not held, here or at the first precondition().
    void update(const std::vector<double>& scale);
    // For products alone: no levels are made, and precondition() must not be called.
    void update_product(const std::vector<double>& scale) { multigrid_.take(scale); }

    std::size_t length() const override { return multigrid_.length() + system_.beyond.size(); }
    double multiply(double* v, double* out) override { return product(v, out); }
    double multiply(float* v, double* out) override;
    void precondition(float* const* r, float* const* z, int count) override;
    int threads() const override { return multigrid_.threads(); }

    void clear(double* out) const; // to zero
    // Loads T' f on the unknowns to a long vector, and a long vector to values of the unknowns.
    void spread_loads(const double* unknowns, double* out) const;
    void spread_values(const double* unknowns, double* out) const;
    void collect(const double* v, double* unknowns) const;

    bool strengthen(double cycles) override { return multigrid_.strengthen(cycles); }
    const grid::Multigrid& multigrid() const { return multigrid_; }
    double bytes() const;

  private:
    // A dependent freedom that is more than a matter of its own node.
    struct Follower {
        std::size_t place = 0;
        std::size_t first = 0, last = 0; // terms
    };
    struct Term {
        std::size_t place = 0;
        double factor = 0.0;
    };
    template <class V> double product(V* v, double* out);
    void extend();
    template <class Call> void each_unknown(Call&& call) const;

    const GridSystem& system_;
    grid::Multigrid multigrid_;
    std::vector<Follower> followers_;
    std::vector<Term> terms_;
    Strip<double> wide_; // a direction in double precision, where there are followers
    std::vector<std::vector<std::size_t>> extra_places_; // of the extra elements' unknowns; npos: held
    // Motions of the unknowns beyond the lattice, extended into the body, and their stiffness.
    std::vector<std::vector<float>> motions_;
    Eigen::MatrixXd motion_inverse_;
};

// Throws Error (Numerics) for a system that it does not fit.
std::unique_ptr<LinearSolver> make_grid_solver(const GridSystem& system, const SolverOptions& options);

} // namespace upright
