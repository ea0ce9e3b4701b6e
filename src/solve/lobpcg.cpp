#include "solve/lobpcg.hpp"

#include "base/blas_threads.hpp"
#include "base/dense.hpp"
#include "base/instruction_sets.hpp"
#include "base/reduction.hpp"
#include "solve/linear_solver.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cblas.h>
#include <cmath>
#include <fmt/format.h>
#include <omp.h>

namespace upright {

namespace {

constexpr int most_steps = 300;
constexpr double dropped = 1e-12; // of a Gram matrix scaled to unit diagonal

// Long columns are worked on by blocks of rows, one thread each.
constexpr Eigen::Index rows_a_block = 4096;

int whole(Eigen::Index n) {
    return static_cast<int>(n);
}

// The products of two blocks of long columns.
Eigen::MatrixXd gram(const Eigen::MatrixXd& a, const Eigen::MatrixXd& b) {
    Eigen::MatrixXd out = Eigen::MatrixXd::Zero(a.cols(), b.cols());
    if (out.size() == 0) return out;
    const Eigen::Index n = a.rows();
    const Eigen::Index blocks = (n + rows_a_block - 1) / rows_a_block;
    std::vector<Eigen::MatrixXd> parts(static_cast<std::size_t>(blocks));
#pragma omp parallel for schedule(static)
    for (Eigen::Index k = 0; k < blocks; ++k) {
        const Eigen::Index from = k * rows_a_block;
        Eigen::MatrixXd& part = parts[static_cast<std::size_t>(k)];
        part.resize(a.cols(), b.cols());
        cblas_dgemm(CblasColMajor, CblasTrans, CblasNoTrans, whole(a.cols()), whole(b.cols()),
                    whole(std::min(rows_a_block, n - from)), 1.0, a.data() + from, whole(n), b.data() + from,
                    whole(n), 0.0, part.data(), whole(a.cols()));
    }
    for (const Eigen::MatrixXd& p : parts) out += p;
    total(out.data(), static_cast<std::size_t>(out.size()));
    return out;
}

// Long columns `b` (`rows` by `inner`) times a small matrix `c` (`inner` by `columns`), added to keep * `a`.
struct ColumnSum {
    const double* b = nullptr;
    std::size_t rows = 0, inner = 0;
    const double* c = nullptr;
    std::size_t columns = 0;
    double keep = 0.0;
    double* a = nullptr;
};

// Sixteen rows of `Many` columns, which stay in registers.
template <int Many>
inline __attribute__((always_inline)) void add_some_columns(const ColumnSum& s, std::size_t row,
                                                            std::size_t column) {
    Eight sums[Many][2] = {};
    const double* c = s.c + column * s.inner;
    for (std::size_t k = 0; k < s.inner; ++k) {
        const Eight* b = reinterpret_cast<const Eight*>(s.b + k * s.rows + row);
        const Eight first = b[0];
        const Eight second = b[1];
#pragma GCC unroll 8
        for (int m = 0; m < Many; ++m) {
            const double by = c[static_cast<std::size_t>(m) * s.inner + k];
            sums[m][0] += by * first;
            sums[m][1] += by * second;
        }
    }
    for (int m = 0; m < Many; ++m) {
        Eight* to = reinterpret_cast<Eight*>(s.a + (column + static_cast<std::size_t>(m)) * s.rows + row);
        for (int h = 0; h < 2; ++h) to[h] = s.keep == 0.0 ? sums[m][h] : s.keep * to[h] + sums[m][h];
    }
}

UPRIGHT_CLONES void add_columns(const ColumnSum& s, std::size_t from, std::size_t to) {
    std::size_t row = from;
    for (; row + 16 <= to; row += 16) {
        std::size_t column = 0;
        for (; column + 8 <= s.columns; column += 8) add_some_columns<8>(s, row, column);
        for (; column + 4 <= s.columns; column += 4) add_some_columns<4>(s, row, column);
        for (; column < s.columns; ++column) add_some_columns<1>(s, row, column);
    }
    for (std::size_t column = 0; column < s.columns; ++column)
        for (std::size_t r = row; r < to; ++r) {
            double sum = 0.0;
            for (std::size_t k = 0; k < s.inner; ++k) sum += s.b[k * s.rows + r] * s.c[column * s.inner + k];
            double& out = s.a[column * s.rows + r];
            out = s.keep == 0.0 ? sum : s.keep * out + sum;
        }
}

// a = keep * a + factor * b * c, by rows in place.
void accumulate(double keep, Eigen::MatrixXd& a, double factor, const Eigen::MatrixXd& b,
                const Eigen::MatrixXd& c) {
    if (b.cols() == 0 || c.cols() == 0) return;
    const Eigen::Index n = a.rows();
    const Eigen::MatrixXd by = factor * c;
    const ColumnSum sum{b.data(),  static_cast<std::size_t>(n),        static_cast<std::size_t>(b.cols()),
                        by.data(), static_cast<std::size_t>(c.cols()), keep,
                        a.data()};
#pragma omp parallel for schedule(static)
    for (Eigen::Index from = 0; from < n; from += rows_a_block)
        add_columns(sum, static_cast<std::size_t>(from),
                    static_cast<std::size_t>(std::min(n, from + rows_a_block)));
}

void subtract(Eigen::MatrixXd& a, const Eigen::MatrixXd& b, const Eigen::MatrixXd& c) {
    accumulate(1.0, a, -1.0, b, c);
}

Eigen::MatrixXd combine(const Eigen::MatrixXd& a, const Eigen::MatrixXd& c) {
    Eigen::MatrixXd out(a.rows(), c.cols());
    accumulate(0.0, out, 1.0, a, c);
    return out;
}

// A block with its products.
struct Block {
    Eigen::MatrixXd v, K, M;
    Eigen::Index cols() const { return v.cols(); }
    void turn(const Eigen::MatrixXd& c) {
        v = combine(v, c);
        K = combine(K, c);
        M = combine(M, c);
    }
};

// Makes a block orthonormal in M; directions that others nearly make up go.
void orthonormalise(Block& b) {
    for (int pass = 0; pass < 2 && b.cols() > 0; ++pass) {
        Eigen::MatrixXd G = gram(b.v, b.M);
        G = 0.5 * (G + G.transpose()).eval();
        const Eigen::VectorXd scale = G.diagonal().cwiseMax(1e-300).cwiseSqrt().cwiseInverse();
        const SymmetricEigen eigen = symmetric_eigen(scale.asDiagonal() * G * scale.asDiagonal());
        Eigen::Index first = 0;
        while (first < G.cols() && eigen.values[first] < dropped) ++first;
        const Eigen::Index kept = G.cols() - first;
        const Eigen::MatrixXd turn = scale.asDiagonal() * eigen.vectors.rightCols(kept) *
                                     eigen.values.tail(kept).cwiseSqrt().cwiseInverse().asDiagonal();
        b.turn(turn);
    }
}

class Search {
  public:
    Search(const IterativeEigenProblem& problem, const EigenWish& wish) : problem_(problem), wish_(wish) {
        if (problem.rigid.cols() > 0) {
            rigid_.v = problem.rigid;
            rigid_.M.resizeLike(rigid_.v);
            problem.mass(rigid_.v, rigid_.M);
            rigid_.K = Eigen::MatrixXd::Zero(rigid_.v.rows(), rigid_.v.cols());
            orthonormalise(rigid_);
        }
    }

    // The lowest `count` modes, from the start given.
    bool run(int count, const Eigen::MatrixXd& start, EigenPairs& out) {
        const auto wanted = static_cast<Eigen::Index>(count);
        begin(wanted + std::max<Eigen::Index>(2, wanted / 3), start);
        lambda_ = rayleigh_ritz_of_start();
        P_ = {};
        P_.v.resize(problem_.length, 0);
        for (int step = 0; step < most_steps; ++step, ++out.steps) {
            Block W;
            if (settled(wanted, W)) {
                const Eigen::Index found = std::min(wanted, X_.cols());
                out.values = lambda_.head(found);
                out.vectors = X_.v.leftCols(found);
                out.block = X_.v;
                return true;
            }
            complete(W);
            free_of_rigid(W);
            for (int pass = 0; pass < 2; ++pass) {
                remove(W, X_);
                if (P_.cols() > 0) remove(W, P_);
                orthonormalise(W);
            }
            if ((W.cols() == 0 && P_.cols() == 0) || !turn(W)) break;
            // Rounding gathers: products are made anew now and then.
            if (step % 20 == 19) {
                complete(X_);
                orthonormalise(X_);
                lambda_ = rayleigh_ritz_of_start();
                complete(P_);
                remove(P_, X_);
                orthonormalise(P_);
            }
        }
        return false;
    }

    const Block& last() const { return X_; }

  private:
    void begin(Eigen::Index width, const Eigen::MatrixXd& start) {
        X_.v = start;
        if (X_.v.cols() < width) {
            Eigen::MatrixXd more(problem_.length, width);
            more.leftCols(X_.v.cols()) = X_.v;
            fill(more, X_.v.cols());
            X_.v = more;
        }
        complete(X_);
        free_of_rigid(X_);
        orthonormalise(X_);
    }

    // Whether all that is wanted has settled; the preconditioned residuals of what has not.
    bool settled(Eigen::Index wanted, Block& W) const {
        Eigen::MatrixXd R = X_.K;
        R -= X_.M * lambda_.asDiagonal();
        W.v.resizeLike(R);
        problem_.precondition(R, W.v);
        std::vector<Eigen::Index> open;
        bool done = true;
        for (Eigen::Index c = 0; c < X_.cols(); ++c) {
            const double energy =
                inner_product(static_cast<std::size_t>(R.rows()), R.col(c).data(), W.v.col(c).data());
            const double eta = std::sqrt(std::max(0.0, energy) / std::max(lambda_[c], 1e-300));
            if (c < wanted && !(eta <= wish_.tolerance)) done = false;
            if (!(eta <= 0.5 * wish_.tolerance)) open.push_back(c);
        }
        Eigen::MatrixXd kept(problem_.length, static_cast<Eigen::Index>(open.size()));
        for (std::size_t i = 0; i < open.size(); ++i)
            kept.col(static_cast<Eigen::Index>(i)) = W.v.col(open[i]);
        W.v = std::move(kept);
        return done;
    }

    // Rayleigh-Ritz on [X W P], which is orthonormal in M: its small matrix.
    Eigen::MatrixXd small_matrix(const Block& W) const {
        const Eigen::Index x = X_.cols();
        const Eigen::Index w = W.cols();
        const Eigen::Index p = P_.cols();
        Eigen::MatrixXd A = Eigen::MatrixXd::Zero(x + w + p, x + w + p);
        A.topLeftCorner(x, x) = lambda_.asDiagonal();
        A.block(0, x, x, w) = gram(X_.v, W.K);
        A.block(x, x, w, w) = gram(W.v, W.K);
        if (p > 0) {
            A.block(0, x + w, x, p) = gram(X_.v, P_.K);
            A.block(x, x + w, w, p) = gram(W.v, P_.K);
            A.block(x + w, x + w, p, p) = gram(P_.v, P_.K);
        }
        const Eigen::MatrixXd upper = A.triangularView<Eigen::Upper>();
        A = upper + upper.transpose().eval();
        A.diagonal() *= 0.5;
        return A;
    }

    // To the lowest vectors of [X W P], and the directions that led there. False where the small problem
    // fails.
    bool turn(const Block& W) {
        const Eigen::Index x = X_.cols();
        const Eigen::Index w = W.cols();
        const Eigen::Index p = P_.cols();
        const SymmetricEigen eigen = symmetric_eigen(small_matrix(W));
        if (!eigen.found) return false;
        const Eigen::MatrixXd C = eigen.vectors.leftCols(x);
        lambda_ = eigen.values.head(x);
        // The new directions: what W and P gave, made orthonormal to the new X within the small space.
        Eigen::MatrixXd D = C;
        D.topRows(x).setZero();
        for (int pass = 0; pass < 2; ++pass) D -= C * (C.transpose() * D);
        const Eigen::MatrixXd Q = column_basis(D, 1e-10);
        const auto mix = [&](const Eigen::MatrixXd& a, const Eigen::MatrixXd& b, const Eigen::MatrixXd& c,
                             const Eigen::MatrixXd& by) {
            Eigen::MatrixXd sum = combine(a, by.topRows(x));
            accumulate(1.0, sum, 1.0, b, by.middleRows(x, w));
            accumulate(1.0, sum, 1.0, c, by.bottomRows(p));
            return sum;
        };
        Block next{mix(X_.v, W.v, P_.v, C), mix(X_.K, W.K, P_.K, C), mix(X_.M, W.M, P_.M, C)};
        P_ = {mix(X_.v, W.v, P_.v, Q), mix(X_.K, W.K, P_.K, Q), mix(X_.M, W.M, P_.M, Q)};
        X_ = std::move(next);
        return true;
    }

    void fill(Eigen::MatrixXd& v, Eigen::Index from) const {
        // Random loads, smoothed by the preconditioner: their answers are rich in low modes.
        Eigen::MatrixXd noise = Eigen::MatrixXd::Zero(problem_.length, v.cols() - from);
        std::uint32_t seed = 20011U;
        Eigen::MatrixXd random(noise.rows(), noise.cols());
        for (Eigen::Index c = 0; c < random.cols(); ++c)
            for (Eigen::Index r = 0; r < random.rows(); ++r) {
                seed = seed * 1664525U + 1013904223U;
                random(r, c) = static_cast<double>(seed >> 8) / 8388608.0 - 1.0;
            }
        Eigen::MatrixXd loads(noise.rows(), noise.cols());
        problem_.mass(random, loads);
        problem_.precondition(loads, noise);
        v.rightCols(v.cols() - from) = noise;
    }
    void complete(Block& b) const {
        b.K.resizeLike(b.v);
        b.M.resizeLike(b.v);
        if (b.cols() == 0) return;
        problem_.stiffness(b.v, b.K);
        problem_.mass(b.v, b.M);
    }
    static void remove(Block& b, const Block& from) {
        if (b.cols() == 0 || from.cols() == 0) return;
        const Eigen::MatrixXd c = gram(from.M, b.v);
        subtract(b.v, from.v, c);
        subtract(b.K, from.K, c);
        subtract(b.M, from.M, c);
    }
    void free_of_rigid(Block& b) const {
        for (int pass = 0; pass < 2; ++pass) remove(b, rigid_);
    }
    Eigen::VectorXd rayleigh_ritz_of_start() {
        Eigen::MatrixXd A = gram(X_.v, X_.K);
        A = 0.5 * (A + A.transpose()).eval();
        const SymmetricEigen eigen = symmetric_eigen(A);
        X_.turn(eigen.vectors);
        return eigen.values;
    }

    const IterativeEigenProblem& problem_;
    EigenWish wish_;
    Block rigid_, X_, P_;    // what moves freely, the vectors, the last directions
    Eigen::VectorXd lambda_; // of X_
};

} // namespace

EigenPairs lowest_modes_iterative(const IterativeEigenProblem& problem, const EigenWish& wish) {
    EigenPairs out;
    const BlasThreads blas(1, ::omp_get_max_threads()); // the blocks of rows have a thread each
    Search search(problem, wish);
    Eigen::MatrixXd start = problem.start;
    if (start.cols() == 0) start.resize(problem.length, 0);
    int count = std::max(1, wish.count);
    while (true) {
        if (!search.run(count, start, out))
            throw NoConvergence(fmt::format("the modes did not converge in {} steps", out.steps));
        const bool enough =
            wish.up_to <= 0.0 || out.values.size() < count || out.values[out.values.size() - 1] >= wish.up_to;
        if (enough) return out;
        // More modes lie below the limit than were asked for: go on from these.
        start = search.last().v;
        count *= 2;
    }
}

} // namespace upright
