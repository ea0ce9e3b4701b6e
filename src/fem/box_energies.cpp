#include "fem/box_energies.hpp"

#include "base/instruction_sets.hpp"
#include "solve/grid/cell_blocks.hpp"

#include <algorithm>

namespace upright {

namespace {

constexpr int most_in_run = 256;
constexpr int room_of_row = most_in_run + 16;

// Of an element's nodes those at the low end along x, rows of y first, and those at the high end.
constexpr std::array<std::size_t, 4> left{0, 3, 4, 7};
constexpr std::array<std::size_t, 4> right{1, 2, 5, 6};
// An element's node at each corner of a cell, x first.
constexpr std::array<Eigen::Index, 8> node_at_corner{0, 1, 3, 2, 4, 5, 7, 6};

using Rows = double[12][room_of_row];

// The displacements of a run's nodes, a row of each component in each of the four edges.
inline __attribute__((always_inline)) void take_rows(const NodeId* nodes, int count, const double* u,
                                                     Rows& rows) {
    for (std::size_t r = 0; r < 4; ++r) {
        double* x = rows[3 * r];
        double* y = rows[3 * r + 1];
        double* z = rows[3 * r + 2];
        const auto take = [&](int i, NodeId id) __attribute__((always_inline)) {
            const double* at = u + 3 * index(id);
            x[i] = at[0];
            y[i] = at[1];
            z[i] = at[2];
        };
        for (int i = 0; i < count; ++i) take(i, nodes[8 * static_cast<std::size_t>(i) + left[r]]);
        take(count, nodes[8 * static_cast<std::size_t>(count - 1) + right[r]]);
        for (int i = count + 1; i < count + 9; ++i) x[i] = y[i] = z[i] = 0.0;
    }
}

// Sums and differences of eight cells' nodes: [component][axes of difference].
inline __attribute__((always_inline)) void transform(const Rows& rows, int first, Eight (&out)[3][8]) {
    for (int c = 0; c < 3; ++c) {
        Eight(&t)[8] = out[c];
        for (int r = 0; r < 4; ++r) {
            const double* at = rows[3 * r + c] + first;
            const Eight low = *reinterpret_cast<const Eight*>(at);
            const Eight high = *reinterpret_cast<const Eight*>(at + 1);
            t[2 * r] = high + low;
            t[2 * r + 1] = high - low;
        }
        for (const int bit : {2, 4})
            for (int p = 0; p < 8; ++p) {
                if ((p & bit) != 0) continue;
                const Eight low = t[p];
                const Eight high = t[p | bit];
                t[p] = high + low;
                t[p | bit] = high - low;
            }
    }
}

template <bool Two>
inline __attribute__((always_inline)) void energies_of_run(const double* blocks, const NodeId* nodes,
                                                           int count, const double* u, const double* v,
                                                           double* out) {
    alignas(64) Rows of_u;
    alignas(64) Rows of_v;
    take_rows(nodes, count, u, of_u);
    if (Two) take_rows(nodes, count, v, of_v);
    for (int first = 0; first < count; first += 8) {
        Eight a[3][8];
        Eight b[3][8];
        transform(of_u, first, a);
        if (Two) transform(of_v, first, b);
        Eight sum{};
#pragma GCC unroll 8
        for (int own = 0; own < 8; ++own) {
            const double* k = blocks + 9 * own;
            const Eight x = a[0][own ^ 1];
            const Eight y = a[1][own ^ 2];
            const Eight z = a[2][own ^ 4];
            if (Two) {
                sum += b[0][own ^ 1] * (k[0] * x + k[1] * y + k[2] * z);
                sum += b[1][own ^ 2] * (k[3] * x + k[4] * y + k[5] * z);
                sum += b[2][own ^ 4] * (k[6] * x + k[7] * y + k[8] * z);
            } else {
                sum += x * (k[0] * x + (k[1] + k[3]) * y + (k[2] + k[6]) * z);
                sum += y * (k[4] * y + (k[5] + k[7]) * z);
                sum += z * (k[8] * z);
            }
        }
        const int many = std::min(8, count - first);
        if (many == 8)
            *reinterpret_cast<Eight*>(out + first) = sum;
        else
            for (int i = 0; i < many; ++i) out[first + i] = sum[i];
    }
}

UPRIGHT_CLONES void energies_of_one(const double* blocks, const NodeId* nodes, int count, const double* u,
                                    double* out) {
    energies_of_run<false>(blocks, nodes, count, u, u, out);
}

UPRIGHT_CLONES void energies_of_two(const double* blocks, const NodeId* nodes, int count, const double* u,
                                    const double* v, double* out) {
    energies_of_run<true>(blocks, nodes, count, u, v, out);
}

} // namespace

BoxEnergies::BoxEnergies(const Mesh& mesh, const ShapeClasses& classes,
                         const std::vector<Eigen::MatrixXd>& matrices)
    : mesh_(mesh) {
    if (!mesh.on_grid() || mesh.dimension() != 3 || mesh.shell() || classes.round()) return;
    for (const ElementKind kind : mesh.kinds)
        if (kind != ElementKind::Hex8) return;
    for (const Eigen::MatrixXd& own : matrices) {
        Eigen::MatrixXd K(24, 24);
        for (Eigen::Index a = 0; a < 8; ++a)
            for (Eigen::Index b = 0; b < 8; ++b)
                K.block<3, 3>(3 * a, 3 * b) =
                    own.block<3, 3>(3 * node_at_corner[static_cast<std::size_t>(a)],
                                    3 * node_at_corner[static_cast<std::size_t>(b)]);
        const Eigen::MatrixXd B = grid::hadamard_of_cell(K);
        Eigen::MatrixXd rest = B;
        blocks_.emplace_back();
        std::size_t at = 0;
        for (int block = 0; block < 8; ++block)
            for (int r = 0; r < 3; ++r)
                for (int c = 0; c < 3; ++c, ++at) {
                    const int row = 3 * (block ^ (1 << r)) + r;
                    const int column = 3 * (block ^ (1 << c)) + c;
                    blocks_.back()[at] = B(row, column);
                    rest(row, column) = 0.0;
                }
        if (rest.cwiseAbs().maxCoeff() > 1e-13 * B.cwiseAbs().maxCoeff()) return;
    }
    const auto follows = [&](std::size_t e) {
        const NodeRange before = mesh.nodes_of(static_cast<ElementId>(e - 1));
        const NodeRange own = mesh.nodes_of(static_cast<ElementId>(e));
        bool out = classes.of[e] == classes.of[e - 1];
        for (std::size_t r = 0; r < 4; ++r) out = out && before[right[r]] == own[left[r]];
        return out;
    };
    for (std::size_t e = 0; e < mesh.elements(); ++e) {
        if (e == 0 || runs_.back().count == most_in_run || !follows(e))
            runs_.push_back({e, 0, classes.of[e]});
        ++runs_.back().count;
    }
}

void BoxEnergies::find(const double* u, const double* v, double* out, int threads) const {
#pragma omp parallel for num_threads(threads) schedule(static)
    for (std::size_t r = 0; r < runs_.size(); ++r) {
        const Run& run = runs_[r];
        const NodeId* nodes = mesh_.nodes_of(static_cast<ElementId>(run.first)).begin();
        const double* blocks = blocks_[run.kind].data();
        if (u == v)
            energies_of_one(blocks, nodes, run.count, u, out + run.first);
        else
            energies_of_two(blocks, nodes, run.count, u, v, out + run.first);
    }
}

} // namespace upright
