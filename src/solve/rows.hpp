// Sparse matrices row by row, and their products, for the multigrid by aggregation.
#pragma once

#include <cstddef>
#include <cstdint>
#include <vector>

namespace upright {

// A sparse matrix row by row.
struct Rows {
    std::size_t columns = 0;
    std::vector<std::size_t> starts{0};
    std::vector<std::int32_t> at;
    std::vector<double> value;
    std::size_t rows() const { return starts.size() - 1; }
    double bytes() const {
        return 8.0 * static_cast<double>(starts.size()) + 12.0 * static_cast<double>(at.size());
    }
};

// Columns that belong together: those of one node, or the motions of one aggregate.
struct ColumnGroups {
    std::vector<std::int32_t> of;    // by column
    std::vector<std::int32_t> first; // by group: its first column, and the end
};

void multiply(const Rows& m, const double* x, double* y, int threads);
Rows transposed(const Rows& m);
// From the group of each column, which do not decrease. Where some row of `b` has a part of a group alone
// every column is its own.
ColumnGroups groups_of(const Rows& b, const std::vector<std::int32_t>& node_of);
// a * b, row by row with dense rows of sums (Gustavson 1978): rows of one pattern together, columns by
// groups; columns ascending. `node_of`: the group of each column of b.
Rows product(const Rows& a, const Rows& b, const std::vector<std::int32_t>& node_of, int threads);

} // namespace upright
