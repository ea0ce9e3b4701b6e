// Matrices of 3 x 3 blocks between nodes, row by row: in double precision for products that have to be right,
// in single for the cycle of a multigrid.
#pragma once

#include "solve/strip.hpp"

#include <cstddef>
#include <cstdint>
#include <vector>

namespace upright::lattices {

// Which blocks there are. Columns of a row ascend; the block on the diagonal is always there.
struct BlockPattern {
    std::vector<std::size_t> starts{0}; // by node: where its row begins, and the end
    std::vector<std::int32_t> at;       // the column of each block
    std::size_t nodes() const { return starts.size() - 1; }
    std::size_t blocks() const { return at.size(); }
    std::size_t diagonal(std::size_t node) const; // its place in `at`
    double bytes() const {
        return 8.0 * static_cast<double>(starts.size()) + 4.0 * static_cast<double>(at.size());
    }
};

inline constexpr std::size_t most_vectors = 4; // that a product takes together

// y = A x, or y -= A x for several vectors. Nine numbers a block, column by column, in a Strip: rows are read
// a little beyond their ends, and so are vectors of three numbers a node.
void multiply(const BlockPattern& pattern, const double* blocks, const double* x, double* y, int threads);
void multiply(const BlockPattern& pattern, const double* blocks, const float* x, double* y, int threads);
void multiply(const BlockPattern& pattern, const float* blocks, const float* x, float* y, int threads);
void subtract_product(const BlockPattern& pattern, const float* blocks, const float* const* x,
                      float* const* y, int count, int threads);

// The inverse of each block on the diagonal, column by column; rows and columns of freedoms without any
// stiffness of their own are zero.
void invert_diagonal(const BlockPattern& pattern, const double* blocks, Strip<float>& out, int threads);

// The largest eigenvalue of D^-1 A, from below, by so many steps of Lanczos' method (as the numbers of
// conjugate gradients from a random load give it: Golub & Van Loan, section 11.3.5); D^-1 as
// invert_diagonal() has it. A few elements that are bent more than others may have a larger one that is not
// seen.
double largest_eigenvalue(const BlockPattern& pattern, const float* blocks, const float* inverse, int steps,
                          int threads);

} // namespace upright::lattices
