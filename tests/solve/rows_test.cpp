// Sparse rows against the library's sparse matrices.
#include "solve/rows.hpp"

#include <Eigen/SparseCore>
#include <gtest/gtest.h>
#include <random>

using namespace upright;

namespace {

using Sparse = Eigen::SparseMatrix<double, Eigen::RowMajor>;

Sparse random_sparse(int rows, int columns, double share, unsigned seed) {
    std::mt19937 random(seed);
    std::uniform_real_distribution<double> in(-1.0, 1.0);
    std::vector<Eigen::Triplet<double>> entries;
    for (int i = 0; i < rows; ++i)
        for (int j = 0; j < columns; ++j)
            if (0.5 * (in(random) + 1.0) < share) entries.emplace_back(i, j, in(random));
    Sparse out(rows, columns);
    out.setFromTriplets(entries.begin(), entries.end());
    return out;
}

Rows rows_of(const Sparse& m) {
    Rows out;
    out.columns = static_cast<std::size_t>(m.cols());
    for (int i = 0; i < m.outerSize(); ++i) {
        for (Sparse::InnerIterator it(m, i); it; ++it) {
            out.at.push_back(static_cast<std::int32_t>(it.col()));
            out.value.push_back(it.value());
        }
        out.starts.push_back(out.at.size());
    }
    return out;
}

Eigen::MatrixXd dense(const Rows& m) {
    Eigen::MatrixXd out =
        Eigen::MatrixXd::Zero(static_cast<Eigen::Index>(m.rows()), static_cast<Eigen::Index>(m.columns));
    for (std::size_t i = 0; i < m.rows(); ++i)
        for (std::size_t k = m.starts[i]; k < m.starts[i + 1]; ++k)
            out(static_cast<Eigen::Index>(i), m.at[k]) += m.value[k];
    return out;
}

std::vector<std::int32_t> by_threes(std::size_t columns) {
    std::vector<std::int32_t> out(columns);
    for (std::size_t i = 0; i < columns; ++i) out[i] = static_cast<std::int32_t>(i / 3);
    return out;
}

} // namespace

TEST(SparseRows, MultiplyAVectorWithAnyNumberOfThreads) {
    const Sparse m = random_sparse(57, 43, 0.1, 1);
    const Rows rows = rows_of(m);
    const Eigen::VectorXd x = Eigen::VectorXd::LinSpaced(43, -1.0, 2.0);
    for (const int threads : {1, 2, 5}) {
        Eigen::VectorXd y(57);
        multiply(rows, x.data(), y.data(), threads);
        EXPECT_LT((y - m * x).norm(), 1e-14) << threads;
    }
}

TEST(SparseRows, TransposeTwiceIsTheSame) {
    const Rows rows = rows_of(random_sparse(31, 64, 0.08, 2));
    const Rows across = transposed(rows);
    EXPECT_EQ(across.rows(), 64U);
    EXPECT_EQ(across.columns, 31U);
    EXPECT_EQ(dense(across), dense(rows).transpose());
    const Rows back = transposed(across);
    EXPECT_EQ(back.starts, rows.starts);
    EXPECT_EQ(back.at, rows.at);
    EXPECT_EQ(back.value, rows.value);
}

TEST(SparseRows, ProductsAreThoseOfTheLibrary) {
    for (const unsigned seed : {3U, 4U, 5U}) {
        const Sparse a = random_sparse(40, 60, 0.1, seed);
        const Sparse b = random_sparse(60, 36, 0.1, seed + 10);
        const Eigen::MatrixXd expected = Eigen::MatrixXd(a) * Eigen::MatrixXd(b);
        for (const int threads : {1, 3}) {
            const Rows c = product(rows_of(a), rows_of(b), by_threes(36), threads);
            ASSERT_EQ(c.rows(), 40U);
            EXPECT_LT((dense(c) - expected).norm(), 1e-13);
            for (std::size_t i = 0; i < c.rows(); ++i)
                for (std::size_t k = c.starts[i] + 1; k < c.starts[i + 1]; ++k)
                    EXPECT_LT(c.at[k - 1], c.at[k]);
        }
    }
}

TEST(SparseRows, ProductsOfWholeGroupsToo) {
    // Rows in threes of one pattern, columns in threes: as an aggregation has them.
    const Sparse pattern = random_sparse(12, 14, 0.25, 21);
    std::mt19937 random(22);
    std::uniform_real_distribution<double> in(-1.0, 1.0);
    std::vector<Eigen::Triplet<double>> entries;
    for (int i = 0; i < pattern.outerSize(); ++i)
        for (Sparse::InnerIterator it(pattern, i); it; ++it)
            for (int r = 0; r < 3; ++r)
                for (int c = 0; c < 3; ++c)
                    entries.emplace_back(3 * i + r, 3 * static_cast<int>(it.col()) + c, in(random));
    Sparse a(36, 42);
    a.setFromTriplets(entries.begin(), entries.end());
    const Rows rows = rows_of(a);
    const ColumnGroups groups = groups_of(rows, by_threes(42));
    EXPECT_EQ(groups.first.size(), 15U);
    EXPECT_EQ(groups.first.back(), 42);
    const Rows c = product(transposed(rows), rows, by_threes(42), 2);
    EXPECT_LT((dense(c) - dense(rows).transpose() * dense(rows)).norm(), 1e-13);
}

TEST(SparseRows, APartOfAGroupAloneTakesTheGroupsApart) {
    Sparse m(2, 6);
    m.insert(0, 0) = 1.0; // of the group 0..2 one column alone
    m.insert(1, 3) = 1.0;
    m.insert(1, 4) = 1.0;
    m.insert(1, 5) = 1.0;
    const ColumnGroups groups = groups_of(rows_of(m), by_threes(6));
    EXPECT_EQ(groups.first.size(), 7U);
    for (std::int32_t c = 0; c < 6; ++c) EXPECT_EQ(groups.of[static_cast<std::size_t>(c)], c);
}

TEST(SparseRows, EmptyRowsAndMatricesAreServed) {
    Sparse none(4, 5);
    const Rows rows = rows_of(none);
    EXPECT_EQ(rows.rows(), 4U);
    EXPECT_EQ(transposed(rows).rows(), 5U);
    const Rows c = product(rows, rows_of(random_sparse(5, 6, 0.5, 9)), by_threes(6), 2);
    EXPECT_EQ(c.rows(), 4U);
    EXPECT_TRUE(c.at.empty());
}
