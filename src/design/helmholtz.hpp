// The filter as the solution of -r^2 lap(y) + y = x with free boundaries (Lazarov & Sigmund 2011): its cost
// does not grow with the radius, so it serves meshes whose elements differ much in size.
#pragma once

#include "model/model.hpp"
#include "solve/linear_solver.hpp"

#include <Eigen/Core>

#include <memory>
#include <vector>

namespace upright {

class HelmholtzFilter {
  public:
    // `variable_of`: for each element its variable, or -1. The length r that does as a hat of `radius` does
    // is radius / (2 sqrt(3)). The mass of the reaction term is lumped, which keeps densities between 0
    // and 1. Solved as the options say. Throws Error (Numerics) where a factorisation is asked for that does
    // not fit into memory.
    HelmholtzFilter(const Model& model, const std::vector<std::int32_t>& variable_of, double radius,
                    const SolverOptions& options);
    std::vector<double> apply(const std::vector<double>& x) const;
    std::vector<double> transpose(const std::vector<double>& g) const;

  private:
    Eigen::VectorXd spread(const std::vector<double>& values, bool by_volume) const;
    std::vector<double> collect(const Eigen::VectorXd& nodal, bool by_volume) const;
    std::size_t unknowns_ = 0;
    std::vector<std::size_t> starts_;   // of each variable's corners
    std::vector<std::int32_t> corners_; // unknowns
    std::vector<double> volumes_;       // of each variable
    std::vector<Eigen::MatrixXd> matrices_;
    std::unique_ptr<LinearSolver> solver_;
};

} // namespace upright
