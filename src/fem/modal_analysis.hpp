// Natural modes of a model: held or free, with the mass that rides on it.
#pragma once

#include "fem/constrained_solver.hpp"
#include "model/model.hpp"
#include "solve/lanczos.hpp"

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
    std::string method;             // in words
    std::vector<std::string> notes; // what the solvers had to say
};

class ModalAnalysis {
  public:
    explicit ModalAnalysis(const Model& model, const SolverOptions& options);
    // One case, for the share of full stiffness and mass that each element has. Of a design that is partly
    // soft the mass should be modal_mass_share (design/): cells of little stiffness ring by themselves
    // otherwise. By shift-invert Lanczos on a factorisation where that is quick and fits; by a preconditioned
    // block eigensolver on multigrid elsewhere. Throws Error (Numerics) when memory or convergence fails.
    ModalResult solve(const ModelModalCase& c, const std::vector<double>& stiffness,
                      const std::vector<double>& density) const;

  private:
    struct Found {
        EigenPairs pairs; // rigid ones first, with values near zero
        std::string method;
        double rigid_below = 0.0; // values below are rigid ones
    };
    Found by_lanczos(const ModelModalCase& c, const Transform& t, int free_motions,
                     const std::vector<double>& stiffness, const std::vector<double>& density) const;
    Found by_multigrid(const ModelModalCase& c, const Transform& t, int free_motions, SolverKind kind,
                       const std::vector<double>& stiffness, const std::vector<double>& density) const;
    Eigen::VectorXd mass_times(const Eigen::VectorXd& u, const std::vector<double>& density,
                               bool lumped_mass) const;

    const Model& model_;
    SolverOptions options_;
    ShapeClasses classes_;
    std::vector<Eigen::MatrixXd> stiffness_, mass_, lumped_; // by class
};

} // namespace upright
