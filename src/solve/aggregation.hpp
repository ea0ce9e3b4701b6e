// Conjugate gradients with multigrid by smoothed aggregation (Vanek, Mandel & Brezina 1996) on the rigid-body
// motions: for meshes without a lattice.
#pragma once

#include "solve/conjugate_gradients.hpp"
#include "solve/linear_solver.hpp"
#include "solve/rows.hpp"

#include <Eigen/Core>

#include <cstdint>
#include <memory>
#include <vector>

namespace upright {

// What an aggregate must be able to do without any energy.
struct NearKernel {
    std::vector<std::int32_t> node_of; // of each unknown
    Eigen::MatrixXd motions;           // unknowns x rigid-body motions
};

// Measured on two cores; for choosing and for estimates.
inline constexpr double aggregation_bytes = 5000.0;           // an unknown
inline constexpr double aggregation_setup_seconds = 3e-5;     // an unknown
inline constexpr double aggregation_iteration_seconds = 7e-7; // an unknown and right-hand side

// The assembled matrix with its hierarchy; for conjugate gradients and for modes.
class AggregationOperator : public IterativeSystem {
  public:
    // Keeps copies; the element matrices must live as long.
    AggregationOperator(const ElementSystem& system, NearKernel kernel, int threads);
    ~AggregationOperator() override;
    void update(const std::vector<double>& scale);
    // Makes the aggregates anew at the next update: those of an early design serve a late one badly.
    void renew() { renew_ = true; }

    std::size_t length() const override;
    double multiply(double* v, double* out) override;
    double multiply(float* v, double* out) override;
    void precondition(float* const* r, float* const* z, int count) override;
    int threads() const override { return threads_; }
    double bytes() const;
    int levels() const;

  private:
    struct Level;
    void assemble(const std::vector<double>& scale);
    void aggregate(Level& fine);
    static Rows tentative(const Level& fine, Level& coarse);
    Rows smoothed(const Level& fine, const Rows& tentative, const Level& coarse) const;
    static void factorise(Level& last);
    void cycle(std::size_t l);

    ElementSystem system_;
    int threads_ = 1;
    bool renew_ = true;
    std::vector<double> wide_;          // a direction in double precision
    std::vector<std::uint32_t> target_; // where each entry of each element's matrix goes in its row
    std::vector<std::unique_ptr<Level>> levels_;
};

std::unique_ptr<LinearSolver> make_aggregation_solver(const ElementSystem& system, NearKernel kernel,
                                                      const SolverOptions& options);

} // namespace upright
