#include "base/dense.hpp"

#include "base/angles.hpp"

#include <Eigen/LU>
#include <cmath>
#include <gtest/gtest.h>

namespace upright {
namespace {

// Second differences on n points: values 2 - 2 cos(k pi / (n + 1)), vectors sin(i k pi / (n + 1)).
Eigen::MatrixXd second_differences(Eigen::Index n) {
    Eigen::MatrixXd out = 2.0 * Eigen::MatrixXd::Identity(n, n);
    for (Eigen::Index i = 0; i + 1 < n; ++i) out(i, i + 1) = out(i + 1, i) = -1.0;
    return out;
}

} // namespace

TEST(SymmetricEigen, FindsTheSinesOfSecondDifferences) {
    for (const Eigen::Index n : {1, 2, 7, 40}) {
        const Eigen::MatrixXd A = second_differences(n);
        const SymmetricEigen found = symmetric_eigen(A);
        ASSERT_TRUE(found.found);
        for (Eigen::Index k = 0; k < n; ++k) {
            const double angle = static_cast<double>(k + 1) * pi / static_cast<double>(n + 1);
            EXPECT_NEAR(found.values[k], 2.0 - 2.0 * std::cos(angle), 1e-12) << n;
            Eigen::VectorXd sine(n);
            for (Eigen::Index i = 0; i < n; ++i) sine[i] = std::sin(static_cast<double>(i + 1) * angle);
            EXPECT_NEAR(std::abs(found.vectors.col(k).dot(sine.normalized())), 1.0, 1e-10) << n << k;
        }
        EXPECT_LT((found.vectors.transpose() * found.vectors - Eigen::MatrixXd::Identity(n, n)).norm(),
                  1e-12);
    }
}

TEST(SymmetricEigen, ReadsTheLowerTriangleAlone) {
    Eigen::MatrixXd A = second_differences(5);
    const Eigen::VectorXd values = symmetric_eigen(A).values;
    A.triangularView<Eigen::StrictlyUpper>().setConstant(99.0);
    EXPECT_LT((symmetric_eigen(A).values - values).norm(), 1e-13);
}

TEST(GeneralisedValues, AreTheRootsOfTheDeterminant) {
    const Eigen::MatrixXd K = second_differences(6);
    Eigen::MatrixXd M = Eigen::MatrixXd::Identity(6, 6);
    for (Eigen::Index i = 0; i < 6; ++i) M(i, i) = 1.0 + 0.5 * static_cast<double>(i);
    M(0, 1) = M(1, 0) = 0.3;
    const Eigen::VectorXd values = generalised_values(K, M);
    for (Eigen::Index k = 0; k < 6; ++k) {
        EXPECT_NEAR((K - values[k] * M).determinant(), 0.0, 1e-9);
        if (k > 0) EXPECT_GT(values[k], values[k - 1]);
    }
    // The sum of the values is the trace of M^-1 K.
    EXPECT_NEAR(values.sum(), (M.inverse() * K).trace(), 1e-11);
}

TEST(ColumnBasis, SpansWhatIsThereAndNoMore) {
    Eigen::MatrixXd A(6, 4);
    A.col(0) << 1, 2, 3, 4, 5, 6;
    A.col(1) << 1, 0, 1, 0, 1, 0;
    A.col(2) = 2.0 * A.col(0) - 3.0 * A.col(1);
    A.col(3).setZero();
    const Eigen::MatrixXd Q = column_basis(A, 1e-10);
    ASSERT_EQ(Q.cols(), 2);
    EXPECT_LT((Q.transpose() * Q - Eigen::Matrix2d::Identity()).norm(), 1e-13);
    EXPECT_LT((A - Q * (Q.transpose() * A)).norm(), 1e-12 * A.norm());
    EXPECT_EQ(column_basis(Eigen::MatrixXd::Zero(5, 3), 1e-10).cols(), 0);
}

} // namespace upright
