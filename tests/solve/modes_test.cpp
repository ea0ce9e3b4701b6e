// The two searches for modes against closed forms and dense decompositions.
#include "solve/lanczos.hpp"
#include "solve/linear_solver.hpp"
#include "solve/lobpcg.hpp"

#include "base/angles.hpp"

#include <Eigen/Dense>
#include <cmath>
#include <gtest/gtest.h>

using namespace upright;

namespace {

// Springs of stiffness 1 between `n` unit masses; fixed at both ends, or free.
Eigen::MatrixXd chain_stiffness(int n, bool held) {
    Eigen::MatrixXd k = Eigen::MatrixXd::Zero(n, n);
    for (int i = 0; i < n; ++i) {
        k(i, i) = !held && (i == 0 || i == n - 1) ? 1.0 : 2.0;
        if (i > 0) k(i, i - 1) = k(i - 1, i) = -1.0;
    }
    return k;
}

// The i-th value of such a chain, from 1: `parts` are the springs of one that is held, the masses of one that
// is free.
double chain_value(int i, int parts) {
    return std::pow(2.0 * std::sin(0.5 * i * pi / parts), 2);
}

EigenPairs by_lanczos(const Eigen::MatrixXd& k, const Eigen::MatrixXd& m, double shift, EigenWish wish) {
    const Eigen::LDLT<Eigen::MatrixXd> factor(k + shift * m);
    EigenProblem problem;
    problem.mass = SparseMatrix(m.sparseView());
    problem.shift = shift;
    problem.inverse = [&](const Eigen::MatrixXd& b) -> Eigen::MatrixXd { return factor.solve(b); };
    return lowest_modes(problem, wish);
}

EigenPairs by_iteration(const Eigen::MatrixXd& k, const Eigen::MatrixXd& m, const EigenWish& wish,
                        const Eigen::MatrixXd& rigid = {}, const Eigen::MatrixXd& start = {}) {
    IterativeEigenProblem problem;
    problem.length = k.rows();
    problem.stiffness = [&](Eigen::MatrixXd& v, Eigen::MatrixXd& out) { out = k * v; };
    problem.mass = [&](Eigen::MatrixXd& v, Eigen::MatrixXd& out) { out = m * v; };
    const Eigen::LDLT<Eigen::MatrixXd> factor(k + 0.05 * Eigen::MatrixXd::Identity(k.rows(), k.rows()));
    problem.precondition = [&](const Eigen::MatrixXd& r, Eigen::MatrixXd& out) { out = factor.solve(r); };
    problem.rigid = rigid;
    problem.start = start;
    return lowest_modes_iterative(problem, wish);
}

void expect_modes(const EigenPairs& pairs, const Eigen::MatrixXd& k, const Eigen::MatrixXd& m, double slack) {
    const Eigen::MatrixXd gram = pairs.vectors.transpose() * m * pairs.vectors;
    EXPECT_LT((gram - Eigen::MatrixXd::Identity(gram.rows(), gram.cols())).norm(), 1e-6);
    for (Eigen::Index i = 0; i < pairs.values.size(); ++i) {
        const Eigen::VectorXd v = pairs.vectors.col(i);
        EXPECT_LT((k * v - pairs.values[i] * m * v).norm(), slack * (k * v).norm() + 1e-9) << i;
        if (i > 0) EXPECT_GE(pairs.values[i], pairs.values[i - 1] - 1e-12);
    }
}

} // namespace

TEST(LanczosModes, OfAHeldChainAreThoseOfItsClosedForm) {
    const int n = 120;
    const Eigen::MatrixXd k = chain_stiffness(n, true);
    const Eigen::MatrixXd m = Eigen::MatrixXd::Identity(n, n);
    EigenWish wish;
    wish.count = 8;
    const EigenPairs pairs = by_lanczos(k, m, 0.0, wish);
    ASSERT_EQ(pairs.values.size(), 8);
    for (int i = 0; i < 8; ++i) {
        const double exact = chain_value(i + 1, n + 1);
        EXPECT_NEAR(pairs.values[i], exact, 1e-9 * exact) << i;
    }
    expect_modes(pairs, k, m, 1e-6);
}

TEST(LanczosModes, AFreeChainHasItsRigidModeFirst) {
    const int n = 60;
    const Eigen::MatrixXd k = chain_stiffness(n, false);
    const Eigen::MatrixXd m = Eigen::MatrixXd::Identity(n, n);
    EigenWish wish;
    wish.count = 4;
    const EigenPairs pairs = by_lanczos(k, m, 1e-3, wish);
    ASSERT_GE(pairs.values.size(), 4);
    EXPECT_NEAR(pairs.values[0], 0.0, 1e-10);
    for (int i = 1; i < 4; ++i) {
        const double exact = chain_value(i, n);
        EXPECT_NEAR(pairs.values[i], exact, 1e-8 * exact);
    }
    EXPECT_NEAR(std::abs(pairs.vectors(0, 0)), 1.0 / std::sqrt(n), 1e-8);
}

TEST(LanczosModes, AreFoundTogetherWhereThreeShareAFrequency) {
    // Three chains that know nothing of each other: every value three times.
    const int n = 30;
    Eigen::MatrixXd k = Eigen::MatrixXd::Zero(3 * n, 3 * n);
    for (int c = 0; c < 3; ++c) k.block(c * n, c * n, n, n) = chain_stiffness(n, true);
    const Eigen::MatrixXd m = Eigen::MatrixXd::Identity(3 * n, 3 * n);
    EigenWish wish;
    wish.count = 6;
    const EigenPairs pairs = by_lanczos(k, m, 0.0, wish);
    ASSERT_GE(pairs.values.size(), 6);
    for (int i = 0; i < 6; ++i) {
        const double exact = chain_value(i / 3 + 1, n + 1);
        EXPECT_NEAR(pairs.values[i], exact, 1e-8 * exact) << i;
    }
    expect_modes(pairs, k, m, 1e-5);
}

TEST(LanczosModes, FreedomsWithoutMassBringNoneOfTheirOwn) {
    // Every second node has no mass: condensed, the springs are half as stiff and half as many.
    const int n = 41;
    const Eigen::MatrixXd k = chain_stiffness(n, true);
    Eigen::MatrixXd m = Eigen::MatrixXd::Zero(n, n);
    for (int i = 1; i < n; i += 2) m(i, i) = 1.0;
    EigenWish wish;
    wish.count = 5;
    const EigenPairs pairs = by_lanczos(k, m, 0.0, wish);
    ASSERT_GE(pairs.values.size(), 5);
    for (int i = 0; i < 5; ++i) {
        const double exact = 0.5 * chain_value(i + 1, 21);
        EXPECT_NEAR(pairs.values[i], exact, 1e-8 * exact) << i;
    }
    // There are twenty in all; asked for more, it says how many there are.
    wish.count = 30;
    EXPECT_EQ(by_lanczos(k, m, 0.0, wish).values.size(), 20);
}

TEST(LanczosModes, UpToAFrequencyAreAllBelowIt) {
    const int n = 80;
    const Eigen::MatrixXd k = chain_stiffness(n, true);
    const Eigen::MatrixXd m = Eigen::MatrixXd::Identity(n, n);
    EigenWish wish;
    wish.count = 1;
    wish.up_to = 0.1;
    const EigenPairs pairs = by_lanczos(k, m, 0.0, wish);
    int below = 0;
    for (int i = 1; i <= n; ++i) below += chain_value(i, n + 1) < 0.1 ? 1 : 0;
    int found = 0;
    for (Eigen::Index i = 0; i < pairs.values.size(); ++i) found += pairs.values[i] < 0.1 ? 1 : 0;
    EXPECT_EQ(found, below);
}

TEST(IterativeModes, AreThoseOfTheDecomposition) {
    const int n = 70;
    const Eigen::MatrixXd k = chain_stiffness(n, true);
    Eigen::MatrixXd m = Eigen::MatrixXd::Identity(n, n);
    for (int i = 0; i < n; ++i) m(i, i) = 1.0 + 0.8 * std::sin(0.4 * i);
    const Eigen::GeneralizedSelfAdjointEigenSolver<Eigen::MatrixXd> dense(k, m);
    EigenWish wish;
    wish.count = 5;
    wish.tolerance = 1e-6;
    const EigenPairs pairs = by_iteration(k, m, wish);
    ASSERT_EQ(pairs.values.size(), 5);
    for (int i = 0; i < 5; ++i)
        EXPECT_NEAR(pairs.values[i], dense.eigenvalues()[i], 1e-9 * dense.eigenvalues()[i]) << i;
    expect_modes(pairs, k, m, 1e-4);
}

TEST(IterativeModes, LeaveRigidMotionsOut) {
    const int n = 50;
    const Eigen::MatrixXd k = chain_stiffness(n, false);
    const Eigen::MatrixXd m = Eigen::MatrixXd::Identity(n, n);
    EigenWish wish;
    wish.count = 3;
    wish.tolerance = 1e-6;
    const EigenPairs pairs = by_iteration(k, m, wish, Eigen::MatrixXd::Ones(n, 1));
    ASSERT_EQ(pairs.values.size(), 3);
    for (int i = 0; i < 3; ++i) {
        const double exact = chain_value(i + 1, n);
        EXPECT_NEAR(pairs.values[i], exact, 1e-9 * exact) << i;
        EXPECT_NEAR(pairs.vectors.col(i).sum(), 0.0, 1e-8);
    }
}

TEST(IterativeModes, BeginFromWhatTheLastSearchEndedWith) {
    const int n = 70;
    const Eigen::MatrixXd k = chain_stiffness(n, true);
    const Eigen::MatrixXd m = Eigen::MatrixXd::Identity(n, n);
    EigenWish wish;
    wish.count = 4;
    wish.tolerance = 1e-5;
    const EigenPairs cold = by_iteration(k, m, wish);
    const EigenPairs warm = by_iteration(k, m, wish, {}, cold.block);
    EXPECT_LT(warm.steps, cold.steps);
    for (int i = 0; i < 4; ++i) EXPECT_NEAR(warm.values[i], cold.values[i], 1e-8 * cold.values[i]);
}

TEST(IterativeModes, SayWhereTheyDoNotConverge) {
    // Far too many masses in a row for steps that nothing helps.
    const Eigen::Index n = 20000;
    IterativeEigenProblem problem;
    problem.length = n;
    problem.stiffness = [&](Eigen::MatrixXd& v, Eigen::MatrixXd& out) {
        out = 2.0 * v;
        out.topRows(n - 1) -= v.bottomRows(n - 1);
        out.bottomRows(n - 1) -= v.topRows(n - 1);
    };
    problem.mass = [](Eigen::MatrixXd& v, Eigen::MatrixXd& out) { out = v; };
    problem.precondition = [](const Eigen::MatrixXd& r, Eigen::MatrixXd& out) { out = r; };
    EigenWish wish;
    wish.count = 2;
    wish.tolerance = 1e-9;
    EXPECT_THROW(lowest_modes_iterative(problem, wish), NoConvergence);
}
