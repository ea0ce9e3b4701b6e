// The multigrid by aggregation on systems that are no mechanics, and the table it stands in.
#include "solve/aggregation.hpp"
#include "solve/solver_table.hpp"

#include <Eigen/SparseCholesky>
#include <gtest/gtest.h>
#include <set>

using namespace upright;

namespace {

// Conductors between neighbours of an n x n lattice whose rim is held, each of its own strength.
struct Lattice {
    int n = 0;
    ElementSystem system;
    NearKernel kernel;
    Eigen::MatrixXd pair = (Eigen::MatrixXd(2, 2) << 1, -1, -1, 1).finished();

    explicit Lattice(int size) : n(size) {
        const auto number = [&](int i, int j) {
            return i <= 0 || j <= 0 || i >= n - 1 || j >= n - 1 ? -1 : (j - 1) * (n - 2) + i - 1;
        };
        system.unknowns = static_cast<std::size_t>((n - 2) * (n - 2));
        const auto add = [&](std::int32_t a, std::int32_t b) {
            system.dofs.push_back(a);
            system.dofs.push_back(b);
            system.starts.push_back(system.dofs.size());
            system.matrix_of.push_back(&pair);
        };
        for (int j = 0; j < n; ++j)
            for (int i = 0; i < n; ++i) {
                if (i + 1 < n) add(number(i, j), number(i + 1, j));
                if (j + 1 < n) add(number(i, j), number(i, j + 1));
            }
        for (std::size_t u = 0; u < system.unknowns; ++u)
            kernel.node_of.push_back(static_cast<std::int32_t>(u));
        kernel.motions = Eigen::MatrixXd::Ones(static_cast<Eigen::Index>(system.unknowns), 1);
    }
    Lattice(const Lattice&) = delete;
    Lattice& operator=(const Lattice&) = delete;

    Eigen::MatrixXd exact(const std::vector<double>& scale, const Eigen::MatrixXd& b) const {
        std::vector<Eigen::Triplet<double>> entries;
        for (std::size_t e = 0; e < system.elements(); ++e)
            for (std::size_t i = 0; i < 2; ++i)
                for (std::size_t j = 0; j < 2; ++j)
                    if (system.dofs[2 * e + i] >= 0 && system.dofs[2 * e + j] >= 0)
                        entries.emplace_back(system.dofs[2 * e + i], system.dofs[2 * e + j],
                                             scale[e] * (i == j ? 1.0 : -1.0));
        Eigen::SparseMatrix<double> k(static_cast<Eigen::Index>(system.unknowns),
                                      static_cast<Eigen::Index>(system.unknowns));
        k.setFromTriplets(entries.begin(), entries.end());
        return Eigen::SimplicialLDLT<Eigen::SparseMatrix<double>>(k).solve(b);
    }
};

} // namespace

TEST(Aggregation, SolvesALatticeOfConductorsOfAnyStrength) {
    const Lattice lattice(60);
    const auto solver = make_aggregation_solver(lattice.system, lattice.kernel, {});
    Eigen::MatrixXd b = Eigen::MatrixXd::Zero(static_cast<Eigen::Index>(lattice.system.unknowns), 2);
    b(1500, 0) = 1.0;
    b.col(1).setOnes();
    std::vector<double> scale(lattice.system.elements(), 1.0);
    for (const double weak : {1.0, 1e-3, 1e-9}) {
        // A wall of weak conductors down the middle, as void is to material.
        for (std::size_t e = 0; e < scale.size(); ++e)
            scale[e] = e / 2 % 60 > 25 && e / 2 % 60 < 32 ? weak : 1.0;
        solver->update(scale);
        const Eigen::MatrixXd x = solver->solve(b);
        const Eigen::MatrixXd exact = lattice.exact(scale, b);
        EXPECT_LT((x - exact).norm(), 1e-5 * exact.norm()) << weak;
        EXPECT_LT(solver->cost().iterations, 150) << weak;
    }
    EXPECT_GE(solver->cost().levels, 2);
    EXPECT_EQ(solver->cost().unknowns, lattice.system.unknowns);
}

TEST(Aggregation, MultipliesAsTheAssembledMatrixAndCostsNoMoreWithThreads) {
    const Lattice lattice(30);
    std::vector<double> scale(lattice.system.elements());
    for (std::size_t e = 0; e < scale.size(); ++e) scale[e] = 0.5 + 0.4 * std::sin(static_cast<double>(e));
    Eigen::MatrixXd b = Eigen::MatrixXd::Ones(static_cast<Eigen::Index>(lattice.system.unknowns), 1);
    Eigen::MatrixXd x = lattice.exact(scale, b);
    for (const int threads : {1, 2}) {
        AggregationOperator op(lattice.system, lattice.kernel, threads);
        op.update(scale);
        ASSERT_EQ(op.length(), lattice.system.unknowns);
        Eigen::VectorXd out(b.rows());
        const double energy = op.multiply(x.data(), out.data());
        EXPECT_LT((out - b).norm(), 1e-10 * b.norm());
        EXPECT_NEAR(energy, x.col(0).dot(b.col(0)), 1e-10 * energy);
    }
}

TEST(SolverTable, HasOneEntryAKindAndWordsThatLeadBack) {
    std::set<SolverKind> kinds;
    for (const SolverEntry& entry : solver_table()) {
        EXPECT_TRUE(kinds.insert(entry.kind).second);
        EXPECT_EQ(&solver_entry(entry.kind), &entry);
        if (*entry.word != '\0') EXPECT_EQ(solver_of_word(entry.word), entry.kind);
    }
    EXPECT_EQ(solver_of_word("auto"), SolverKind::Auto);
    EXPECT_EQ(solver_of_word("no such"), SolverKind::Auto);
    EXPECT_EQ(solver_words().front().first, "auto");
}

TEST(SolverTable, EstimatesGrowWithTheUnknownsAndTheSides) {
    for (const SolverEntry& entry : solver_table()) {
        SolverFacts facts;
        double bytes = 0.0, seconds = 0.0;
        for (const std::size_t unknowns : {1000U, 30000U, 1000000U, 30000000U}) {
            facts.unknowns = unknowns;
            const SolverEstimate now = entry.estimate(facts);
            EXPECT_GT(now.bytes, bytes) << entry.method;
            EXPECT_GT(now.seconds, seconds) << entry.method;
            bytes = now.bytes;
            seconds = now.seconds;
        }
        facts.right_sides = 20; // of a factorisation they cost little
        EXPECT_GE(entry.estimate(facts).seconds, (entry.kind == SolverKind::Direct ? 1.0 : 1.5) * seconds)
            << entry.method;
    }
}

TEST(SolverTable, WhatDoesNotFitIsSaidAndWhatStandsInFits) {
    SolverFacts facts;
    facts.unknowns = 5000000;
    facts.no_grid = "its elements are no boxes";
    SolverOptions options;
    options.memory = 1e9;
    options.kind = SolverKind::Direct;
    EXPECT_FALSE(choose_solver(facts, options).fits);
    EXPECT_EQ(stand_in(facts, 1e9), SolverKind::LatticeMultigrid);
    EXPECT_EQ(stand_in(facts, 1e15), SolverKind::Direct);
    options.kind = SolverKind::GridMultigrid; // not served: another one, and why
    const SolverPlan plan = choose_solver(facts, options);
    EXPECT_EQ(plan.kind, SolverKind::LatticeMultigrid);
    EXPECT_NE(plan.reason.find("no boxes"), std::string::npos);
}
