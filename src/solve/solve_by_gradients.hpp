// What solvers by conjugate gradients share: loads and answers in long vectors, a few right-hand sides at a
// time.
#pragma once

#include "base/blocks.hpp"
#include "solve/conjugate_gradients.hpp"

#include <fmt/format.h>

namespace upright {

// Long vectors, kept from solve to solve unless it is to be frugal.
struct LongVectors {
    std::vector<Strip<double>> loads, answers;
    std::vector<GradientRoom> room;
    bool frugal = false;
    double bytes = 0.0; // of the last solve
};

// Solves for every column, `together` at a time. `spread_load` and `spread_value` take a column of unknowns
// into a long vector, `collect` an answer out of one. `answers` is as in LinearSolver::solve(). Returns the
// most iterations that a column took. Throws NoConvergence, with the method's name, and Error (Numerics)
// where what comes out is not finite.
template <class SpreadLoad, class SpreadValue, class Collect>
int solve_by_gradients(IterativeSystem& system, const char* method, const Loads& loads, const SolveWish& wish,
                       Eigen::Index together, LongVectors& vectors, Eigen::MatrixXd& answers,
                       SpreadLoad&& spread_load, SpreadValue&& spread_value, Collect&& collect) {
    const std::size_t n = system.length();
    const bool warm = wish.warm && answers.rows() == loads.rows() && answers.cols() == loads.cols();
    int most = 0;
    for (Eigen::Index first = 0; first < loads.cols(); first += together) {
        const Eigen::Index many = std::min<Eigen::Index>(together, loads.cols() - first);
        std::vector<double*> b;
        std::vector<double*> x;
        for (Eigen::Index c = 0; c < many; ++c) {
            const auto at = static_cast<std::size_t>(c);
            if (vectors.loads.size() <= at) {
                vectors.loads.emplace_back(n);
                vectors.answers.emplace_back(n);
            }
            b.push_back(vectors.loads[at].data());
            x.push_back(vectors.answers[at].data());
            {
                Eigen::VectorXd load(loads.rows());
                loads.column(first + c, load.data());
                spread_load(load.data(), b.back());
            }
            if (warm)
                spread_value(answers.col(first + c).data(), x.back());
            else
                each_block(
                    n,
                    [&](std::size_t from, std::size_t to) { std::fill(x.back() + from, x.back() + to, 0.0); },
                    system.threads());
        }
        // What all columns started from is not needed while they are solved.
        if (many == loads.cols()) answers.resize(0, 0);
        const IterationCount count = conjugate_gradients(system, b, x, warm, wish, vectors.room);
        if (!count.converged)
            throw NoConvergence(fmt::format("the {} did not converge in {} iterations", method, count.most));
        most = std::max(most, count.most);
        vectors.bytes = 36.0 * static_cast<double>(vectors.loads.size() * n);
        const bool last = first + many == loads.cols();
        if (vectors.frugal && last) {
            vectors.loads.clear();
            vectors.room.clear();
        }
        answers.resize(loads.rows(), loads.cols());
        for (Eigen::Index c = 0; c < many; ++c)
            collect(x[static_cast<std::size_t>(c)], answers.col(first + c).data());
        if (vectors.frugal && last) vectors.answers.clear();
    }
    if (!answers.allFinite())
        throw Error::numerics("the solution is not finite", "Look for loads or material data of absurd size");
    return most;
}

} // namespace upright
