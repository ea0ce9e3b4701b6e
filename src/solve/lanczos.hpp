// Block Lanczos with full orthogonalisation and thick restarts (Grimes, Lewis & Simon 1994; Wu & Simon 2000):
// the lowest modes of K u = lambda M u on the inverse of K + shift M, and the largest eigenvalues of any
// operator that is symmetric in some metric. A block finds modes that share a frequency together.
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

// An operator A that is symmetric in a metric B: v' B A w = w' B A v.
struct SymmetricOperator {
    Eigen::Index length = 0;
    // A v, and B A v beside it, which is often at hand when A v is.
    struct Block {
        Eigen::MatrixXd value, image;
    };
    std::function<Block(const Eigen::MatrixXd& v, const Eigen::MatrixXd& image)> apply;
    // B v, taken anew after every change where it is cheap; empty: images are carried along.
    std::function<Eigen::MatrixXd(const Eigen::MatrixXd&)> metric;
};

// The largest eigenvalues of A above `floor` (zero or more), `wish.count` of them or as many as there are,
// descending; vectors are of unit size in B. `wish.up_to` is not looked at. Throws as lowest_modes().
EigenPairs largest_eigenvalues(const SymmetricOperator& op, const EigenWish& wish, double floor);

} // namespace upright
