#include "solve/lattice/block_rows.hpp"

#include "base/instruction_sets.hpp"
#include "base/reduction.hpp"

#include <Eigen/Eigenvalues>
#include <Eigen/LU>
#include <algorithm>
#include <cmath>

namespace upright::lattices {

namespace {

// Four numbers at any address; the last is not meant.
typedef double FourDoubles __attribute__((vector_size(32), aligned(8), may_alias));
typedef float FourFloats __attribute__((vector_size(16), aligned(4), may_alias));

struct RowRange {
    std::size_t from = 0, to = 0;
};

// Of rows [0, nodes) a share of each thread's, with about as many blocks.
RowRange share_of(const BlockPattern& pattern, int part, int parts) {
    const auto bound = [&](int p) {
        const std::size_t blocks =
            pattern.blocks() * static_cast<std::size_t>(p) / static_cast<std::size_t>(parts);
        const auto row = std::lower_bound(pattern.starts.begin(), pattern.starts.end() - 1, blocks);
        return static_cast<std::size_t>(row - pattern.starts.begin());
    };
    return {part == 0 ? 0 : bound(part), part + 1 == parts ? pattern.nodes() : bound(part + 1)};
}

template <class Call> void by_shares(const BlockPattern& pattern, int threads, Call&& call) {
    const int parts = pattern.blocks() < 4000 ? 1 : std::max(1, threads);
#pragma omp parallel for num_threads(parts) schedule(static, 1) if (parts > 1)
    for (int p = 0; p < parts; ++p) call(share_of(pattern, p, parts));
}

template <class T>
__attribute__((always_inline)) inline void rows_exact(const BlockPattern& pattern, const double* blocks,
                                                      const T* x, double* y, RowRange rows) {
    for (std::size_t r = rows.from; r < rows.to; ++r) {
        FourDoubles first{};
        FourDoubles second{};
        FourDoubles third{};
        for (std::size_t k = pattern.starts[r]; k < pattern.starts[r + 1]; ++k) {
            const double* b = blocks + 9 * k;
            const T* v = x + 3 * static_cast<std::size_t>(pattern.at[k]);
            first += *reinterpret_cast<const FourDoubles*>(b) * static_cast<double>(v[0]);
            second += *reinterpret_cast<const FourDoubles*>(b + 3) * static_cast<double>(v[1]);
            third += *reinterpret_cast<const FourDoubles*>(b + 6) * static_cast<double>(v[2]);
        }
        const FourDoubles sum = first + second + third;
        for (std::size_t c = 0; c < 3; ++c) y[3 * r + c] = sum[c];
    }
}

UPRIGHT_CLONES void rows_double(const BlockPattern& pattern, const double* blocks, const double* x, double* y,
                                RowRange rows) {
    rows_exact(pattern, blocks, x, y, rows);
}

UPRIGHT_CLONES void rows_mixed(const BlockPattern& pattern, const double* blocks, const float* x, double* y,
                               RowRange rows) {
    rows_exact(pattern, blocks, x, y, rows);
}

template <int Count>
__attribute__((always_inline)) inline void rows_single(const BlockPattern& pattern, const float* blocks,
                                                       const float* const* x, float* const* y,
                                                       RowRange rows) {
    for (std::size_t r = rows.from; r < rows.to; ++r) {
        FourFloats sums[Count] = {};
        for (std::size_t k = pattern.starts[r]; k < pattern.starts[r + 1]; ++k) {
            const float* b = blocks + 9 * k;
            const std::size_t at = 3 * static_cast<std::size_t>(pattern.at[k]);
            const FourFloats first = *reinterpret_cast<const FourFloats*>(b);
            const FourFloats second = *reinterpret_cast<const FourFloats*>(b + 3);
            const FourFloats third = *reinterpret_cast<const FourFloats*>(b + 6);
            for (int s = 0; s < Count; ++s) {
                const float* v = x[s] + at;
                sums[s] += first * v[0] + second * v[1] + third * v[2];
            }
        }
        for (int s = 0; s < Count; ++s)
            for (std::size_t c = 0; c < 3; ++c) y[s][3 * r + c] -= sums[s][c];
    }
}

UPRIGHT_CLONES void subtract_rows(const BlockPattern& pattern, const float* blocks, const float* const* x,
                                  float* const* y, int count, RowRange rows) {
    switch (count) {
    case 1:
        rows_single<1>(pattern, blocks, x, y, rows);
        break;
    case 2:
        rows_single<2>(pattern, blocks, x, y, rows);
        break;
    case 3:
        rows_single<3>(pattern, blocks, x, y, rows);
        break;
    default:
        rows_single<4>(pattern, blocks, x, y, rows);
    }
}

} // namespace

std::size_t BlockPattern::diagonal(std::size_t node) const {
    const auto begin = at.begin() + static_cast<std::ptrdiff_t>(starts[node]);
    const auto end = at.begin() + static_cast<std::ptrdiff_t>(starts[node + 1]);
    return static_cast<std::size_t>(std::lower_bound(begin, end, static_cast<std::int32_t>(node)) -
                                    at.begin());
}

void multiply(const BlockPattern& pattern, const double* blocks, const double* x, double* y, int threads) {
    by_shares(pattern, threads, [&](RowRange rows) { rows_double(pattern, blocks, x, y, rows); });
}

void multiply(const BlockPattern& pattern, const double* blocks, const float* x, double* y, int threads) {
    by_shares(pattern, threads, [&](RowRange rows) { rows_mixed(pattern, blocks, x, y, rows); });
}

void multiply(const BlockPattern& pattern, const float* blocks, const float* x, float* y, int threads) {
    by_shares(pattern, threads, [&](RowRange rows) {
        std::fill(y + 3 * rows.from, y + 3 * rows.to, 0.0F);
        subtract_rows(pattern, blocks, &x, &y, 1, rows);
        for (std::size_t i = 3 * rows.from; i < 3 * rows.to; ++i) y[i] = -y[i];
    });
}

void subtract_product(const BlockPattern& pattern, const float* blocks, const float* const* x,
                      float* const* y, int count, int threads) {
    by_shares(pattern, threads, [&](RowRange rows) { subtract_rows(pattern, blocks, x, y, count, rows); });
}

void invert_diagonal(const BlockPattern& pattern, const double* blocks, Strip<float>& out, int threads) {
    const std::size_t n = pattern.nodes();
    if (out.size() != 9 * n) out = Strip<float>(9 * n);
    float* to = out.data();
#pragma omp parallel for num_threads(threads) schedule(static)
    for (std::size_t i = 0; i < n; ++i) {
        Eigen::Matrix3d block = Eigen::Map<const Eigen::Matrix3d>(blocks + 9 * pattern.diagonal(i));
        block = 0.5 * (block + block.transpose()).eval();
        // To unit diagonal, so that the inverse is one of numbers near one, whatever the stiffness.
        Eigen::Vector3d root;
        for (int c = 0; c < 3; ++c) {
            const bool moves = block(c, c) > 0.0;
            root[c] = moves ? 1.0 / std::sqrt(block(c, c)) : 0.0;
            if (!moves) {
                block.row(c).setZero();
                block.col(c).setZero();
            }
        }
        Eigen::Matrix3d scaled = root.asDiagonal() * block * root.asDiagonal();
        for (int c = 0; c < 3; ++c) scaled(c, c) = 1.0 + 1e-9;
        Eigen::Matrix3d inverse = scaled.inverse();
        // Of a block that is no more than positive by rounding, the diagonal alone.
        if (!inverse.allFinite() || !(inverse.diagonal().minCoeff() > 0.0)) inverse.setIdentity();
        Eigen::Map<Eigen::Matrix3f>(to + 9 * i) =
            (root.asDiagonal() * inverse * root.asDiagonal()).cast<float>();
    }
}

double largest_eigenvalue(const BlockPattern& pattern, const float* blocks, const float* inverse, int steps,
                          int threads) {
    const std::size_t n = pattern.nodes();
    std::vector<float> r(3 * n);
    std::vector<float> z(3 * n);
    std::vector<float> p(3 * n + 16, 0.0F); // products read a little beyond
    std::vector<float> Ap(3 * n + 16, 0.0F);
    std::uint32_t seed = 2463534242U;
    for (float& v : r) {
        seed = seed * 1664525U + 1013904223U;
        v = static_cast<float>(seed >> 8) / 8388608.0F - 1.0F;
    }
    const auto product = [&](const std::vector<float>& a, const std::vector<float>& b) {
        return sum_of_blocks(
            3 * n,
            [&](std::size_t from, std::size_t to) {
                double sum = 0.0;
                for (std::size_t i = from; i < to; ++i) sum += static_cast<double>(a[i]) * b[i];
                return sum;
            },
            threads);
    };
    Eigen::VectorXd diagonal(steps);
    Eigen::VectorXd beside(steps);
    int count = 0;
    double rz = 0.0;
    double last_alpha = 1.0;
    for (; count < steps; ++count) {
#pragma omp parallel for num_threads(threads) schedule(static) if (n > 4000)
        for (std::size_t i = 0; i < n; ++i) {
            const float* d = inverse + 9 * i;
            for (std::size_t k = 0; k < 3; ++k)
                z[3 * i + k] = d[k] * r[3 * i] + d[3 + k] * r[3 * i + 1] + d[6 + k] * r[3 * i + 2];
        }
        const double next = product(r, z);
        if (!(next > 0.0) || !std::isfinite(next)) break;
        const double beta = count > 0 ? next / rz : 0.0;
        rz = next;
#pragma omp parallel for num_threads(threads) schedule(static) if (n > 4000)
        for (std::size_t i = 0; i < 3 * n; ++i) p[i] = z[i] + static_cast<float>(beta) * p[i];
        multiply(pattern, blocks, p.data(), Ap.data(), threads);
        const double energy = product(p, Ap);
        if (!(energy > 0.0) || !std::isfinite(energy)) break;
        const double alpha = rz / energy;
        diagonal[count] = 1.0 / alpha + beta / last_alpha;
        if (count > 0) beside[count - 1] = std::sqrt(beta) / last_alpha;
        last_alpha = alpha;
#pragma omp parallel for num_threads(threads) schedule(static) if (n > 4000)
        for (std::size_t i = 0; i < 3 * n; ++i) r[i] -= static_cast<float>(alpha) * Ap[i];
    }
    if (count == 0) return 1.0;
    Eigen::SelfAdjointEigenSolver<Eigen::MatrixXd> eigen;
    eigen.computeFromTridiagonal(diagonal.head(count), beside.head(count - 1), Eigen::EigenvaluesOnly);
    return std::max(1.0, eigen.eigenvalues().maxCoeff());
}

} // namespace upright::lattices
