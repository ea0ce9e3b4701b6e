// Natural modes of a model: held or free, with the mass that rides on it.
#pragma once

#include "fem/reduced_system.hpp"
#include "model/model.hpp"

#include <Eigen/Core>

#include <array>
#include <deque>
#include <memory>
#include <vector>

namespace upright {

struct Mode {
    double frequency = 0.0; // cycles a unit of time
    Eigen::VectorXd shape;  // every freedom of the model, of unit modal mass
    // Participation of the translations along x, y, z and the rotations about x, y, z through the centre of
    // mass; the square is the effective mass (inertia) that the mode moves.
    std::array<double, 6> participation{};
    int cluster = 0; // modes of one frequency (within 1e-4) share a number
};

struct ModalResult {
    std::vector<Mode> modes;            // elastic ones, ascending
    std::vector<Mode> rigid;            // what is left free: found apart, frequency near zero
    int free_motions = 0;               // how many the supports leave free by geometry
    double mass = 0.0;                  // of the model, point masses included
    Vec3 center = Vec3::Zero();         // of that mass
    std::array<double, 6> moved_mass{}; // mass (inertia) about the centre: what effective masses add up to
    std::size_t unknowns = 0;
    int steps = 0;
    double seconds = 0.0;
};

class ModalAnalysis {
  public:
    explicit ModalAnalysis(const Model& model, const SolverOptions& options);
    // One case, for the share of full stiffness and mass that each element has.
    // Throws Error (Numerics) when memory or convergence fails.
    ModalResult solve(const ModelModalCase& c, const std::vector<double>& stiffness,
                      const std::vector<double>& density) const;

  private:
    Eigen::VectorXd mass_times(const Eigen::VectorXd& u, const std::vector<double>& density,
                               bool lumped_mass) const;

    const Model& model_;
    SolverOptions options_;
    std::deque<Eigen::MatrixXd> stiffness_, mass_, lumped_; // grids share them
    std::vector<std::size_t> of_;                           // element -> matrices
};

} // namespace upright
