// The lowest modes of K u = lambda M u by block Lanczos on the inverse of K + shift M, with full
// orthogonalisation and thick restarts (Grimes, Lewis & Simon 1994; Wu & Simon 2000). A block finds modes
// that share a frequency together.
#pragma once

#include "base/sparse_matrix.hpp"
#include <Eigen/Core>

#include <functional>

namespace upright {

struct EigenProblem {
    SparseMatrix mass;                                              // M, symmetric, may be singular
    std::function<Eigen::MatrixXd(const Eigen::MatrixXd&)> inverse; // (K + shift M)^-1 of a block
    double shift = 0.0;
};

struct EigenWish {
    int count = 6;           // lowest modes wanted, rigid ones among them
    double up_to = 0.0;      // where above zero: all with lambda below it, `count` or more
    double tolerance = 1e-8; // of the residual, relative
    int most_columns = 0;    // of the basis before a restart; 0: a good number
};

struct EigenPairs {
    Eigen::VectorXd values;  // ascending
    Eigen::MatrixXd vectors; // one a column, of unit mass
    int steps = 0;           // blocks taken
    Eigen::MatrixXd block;   // of an iterative search all that it worked with: the best start for a next one
};

// Throws Error (Numerics) when it does not converge. Finds fewer than wanted where the problem has fewer.
EigenPairs lowest_modes(const EigenProblem& problem, const EigenWish& wish);

} // namespace upright
