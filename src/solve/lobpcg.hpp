// The lowest modes of K u = lambda M u without any factorisation of K: locally optimal block preconditioned
// conjugate gradients (Knyazev 2001), with the basis kept orthonormal in M (Duersch, Shao, Yang & Gu 2018).
#pragma once

#include "solve/lanczos.hpp"

#include <Eigen/Core>

#include <functional>

namespace upright {

// Operators on blocks of vectors whose inner products are plain sums.
struct IterativeEigenProblem {
    Eigen::Index length = 0;
    std::function<void(Eigen::MatrixXd& v, Eigen::MatrixXd& out)> stiffness; // may write to v in between
    std::function<void(Eigen::MatrixXd& v, Eigen::MatrixXd& out)> mass;
    std::function<void(const Eigen::MatrixXd& r, Eigen::MatrixXd& out)> precondition;
    Eigen::MatrixXd rigid; // motions that cost no energy, or no columns: kept out of the search
    Eigen::MatrixXd start; // vectors to begin with, or no columns
};

inline constexpr double eigen_tolerance = 1e-4; // of the residual's norm eta; a value is right to its square

// `wish.count` elastic modes (rigid ones not among them), or those below `wish.up_to`. `tolerance` is that of
// eta = sqrt(r' w / lambda), w the preconditioned residual: the relative error of lambda is about its square.
// Vectors are of unit mass. Throws NoConvergence.
EigenPairs lowest_modes_iterative(const IterativeEigenProblem& problem, const EigenWish& wish);

} // namespace upright
