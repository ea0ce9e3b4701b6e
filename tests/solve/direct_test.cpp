#include "solve/linear_solver.hpp"

#include "base/error.hpp"

#include <Eigen/Dense>
#include <cblas.h>
#include <cmath>
#include <gtest/gtest.h>

using namespace upright;

namespace {

// A chain of springs between `count` nodes, the first one held.
ElementSystem chain(int count) {
    ElementSystem out;
    out.unknowns = static_cast<std::size_t>(count - 1);
    static const Eigen::MatrixXd spring = (Eigen::MatrixXd(2, 2) << 1, -1, -1, 1).finished();
    for (int i = 0; i + 1 < count; ++i) {
        out.dofs.push_back(i - 1);
        out.dofs.push_back(i);
        out.starts.push_back(out.dofs.size());
        out.matrix_of.push_back(&spring);
    }
    return out;
}

} // namespace

TEST(DirectSolver, SolvesBlocksAndReusesTheAnalysis) {
    const auto solver = make_direct_solver(chain(6), {});
    Eigen::MatrixXd loads = Eigen::MatrixXd::Zero(5, 2);
    loads(4, 0) = 1.0;
    loads.col(1).setOnes();
    solver->update({1, 1, 1, 1, 1});
    Eigen::MatrixXd u = solver->solve(loads);
    for (int i = 0; i < 5; ++i) EXPECT_NEAR(u(i, 0), i + 1.0, 1e-12);
    EXPECT_NEAR(u(4, 1), 5 + 4 + 3 + 2 + 1, 1e-12);
    solver->update({2, 4, 2, 4, 2});
    u = solver->solve(loads);
    EXPECT_NEAR(u(4, 0), 0.5 + 0.25 + 0.5 + 0.25 + 0.5, 1e-12);
    EXPECT_EQ(solver->cost().unknowns, 5U);
}

TEST(DirectSolver, NamesSingularSystems) {
    const auto solver = make_direct_solver(chain(6), {});
    EXPECT_THROW(solver->update({1, 1, 0, 1, 1}), Error);
}

// A given order of elimination, for many sets of scales and for one alone, changes nothing but the work.
TEST(DirectSolver, TakesAnOrderOfElimination) {
    constexpr int count = 40;
    std::vector<double> scale;
    for (int i = 0; i + 1 < count; ++i) scale.push_back(1.0 + 0.5 * std::sin(i));
    const Eigen::MatrixXd loads = Eigen::MatrixXd::Random(count - 1, 3);
    const auto plain = make_direct_solver(chain(count), {});
    plain->update(scale);
    const Eigen::MatrixXd right = plain->solve(loads);
    ElementSystem ordered = chain(count);
    for (int i = 0; i < count - 1; ++i) ordered.order.push_back(17 * i % (count - 1));
    SolverOptions once;
    once.once = true;
    for (const SolverOptions& options : {SolverOptions{}, once})
        for (const ElementSystem& system : {ordered, chain(count)}) {
            const auto solver = make_direct_solver(system, options);
            solver->update(scale);
            EXPECT_LT((solver->solve(loads) - right).norm(), 1e-12 * right.norm());
            EXPECT_GT(solver->cost().factor_bytes, 0.0);
        }
}

// The dense library's threads are one setting of the whole process: a solve leaves it as it was.
TEST(DirectSolver, LeavesTheThreadsOfTheDenseLibraryAlone) {
    const int before = openblas_get_num_threads();
    openblas_set_num_threads(2);
    const auto solver = make_direct_solver(chain(6), {});
    solver->update({1, 1, 1, 1, 1});
    solver->solve(Eigen::MatrixXd::Ones(5, 1));
    EXPECT_EQ(openblas_get_num_threads(), 2);
    openblas_set_num_threads(before);
}
