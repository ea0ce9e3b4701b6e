// Decompositions of dense matrices, compiled once: their templates cost seconds in every file that uses them.
#pragma once

#include <Eigen/Core>

namespace upright {

// Of a symmetric matrix, of which the lower triangle is read: values rising, vectors of unit length as
// columns. `found` is false where the iteration did not end.
struct SymmetricEigen {
    Eigen::VectorXd values;
    Eigen::MatrixXd vectors;
    bool found = false;
};
SymmetricEigen symmetric_eigen(const Eigen::MatrixXd& a);

// The values of K x = value M x, rising; K symmetric, M symmetric and positive.
Eigen::VectorXd generalised_values(const Eigen::MatrixXd& K, const Eigen::MatrixXd& M);

// Columns of unit length at right angles that span those of a matrix (Householder, columns by size); what is
// below `threshold` times the largest pivot counts as dependent.
Eigen::MatrixXd column_basis(const Eigen::MatrixXd& a, double threshold);

} // namespace upright
