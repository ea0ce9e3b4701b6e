// Sparse matrices whose positions are counted in 64 bits: those of ten million displacements pass 2^31.
#pragma once

#include <Eigen/SparseCore>

#include <cstdint>

namespace upright {

using SparseMatrix = Eigen::SparseMatrix<double, Eigen::ColMajor, std::int64_t>;
using SparseEntry = Eigen::Triplet<double, std::int64_t>;

} // namespace upright
