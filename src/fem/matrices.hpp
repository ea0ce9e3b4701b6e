// The whole model as sparse matrices, for others to solve: K u = f with u = T q + g.
#pragma once

#include "base/sparse_matrix.hpp"
#include "model/model.hpp"

namespace upright {

// Stiffness on every freedom, joints included, constraints not applied.
SparseMatrix stiffness_matrix(const Model& model);
// Consistent mass on every freedom, point masses included.
SparseMatrix mass_matrix(const Model& model);
// T (freedoms x unknowns) and g of a case.
SparseMatrix transform_matrix(const Transform& transform);
Eigen::VectorXd transform_offset(const Transform& transform);

} // namespace upright
