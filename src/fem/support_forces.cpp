#include "fem/support_forces.hpp"

#include "base/groups.hpp"

#include "base/sparse_matrix.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <map>
#include <numeric>

namespace upright {

namespace {

// Entries of a dense block above which sparse iterations serve.
constexpr std::size_t dense_entries = 4000000;

// The least x with least |A x - b|: conjugate gradients on the normal equations from zero (CGLS, Bjorck
// 1996, section 7.4).
Eigen::VectorXd least_squares(const SparseMatrix& A, const Eigen::VectorXd& b) {
    Eigen::VectorXd x = Eigen::VectorXd::Zero(A.cols());
    Eigen::VectorXd r = b;
    Eigen::VectorXd s = A.transpose() * r;
    Eigen::VectorXd p = s;
    double gamma = s.squaredNorm();
    const double enough = 1e-28 * gamma;
    for (Eigen::Index i = 0; i < 4 * A.cols() + 100 && gamma > enough && gamma > 0.0; ++i) {
        const Eigen::VectorXd q = A * p;
        const double alpha = gamma / q.squaredNorm();
        x += alpha * p;
        r -= alpha * q;
        s = A.transpose() * r;
        const double next = s.squaredNorm();
        p = s + next / gamma * p;
        gamma = next;
    }
    return x;
}

} // namespace

// Equations that share unknowns, and those unknowns.
struct SupportForces::Block {
    std::vector<std::size_t> equations;
    std::vector<std::size_t> unknowns;
    Eigen::MatrixXd inverse; // the pseudo-inverse, equations x unknowns
    SparseMatrix sparse;     // unknowns x equations; where the block is too large for that

    Eigen::VectorXd solve(const Eigen::VectorXd& left) const {
        return sparse.size() > 0 ? least_squares(sparse, left) : Eigen::VectorXd(inverse * left);
    }
    Eigen::VectorXd solve_transposed(const Eigen::VectorXd& weights) const {
        return sparse.size() > 0 ? least_squares(sparse.transpose(), weights)
                                 : Eigen::VectorXd(inverse.transpose() * weights);
    }
};

SupportForces::~SupportForces() = default;

SupportForces::SupportForces(const Model& model, const ModelCase& c) : links_(model.links()) {
    for (const SupportId s : c.supports)
        for (const Equation& e : model.supports[s].equations) held_.push_back({&e, s});
    for (const Equation& e : model.symmetry) held_.push_back({&e, SupportId::None});
    // Each equation on the unknowns that couplings and bonds leave.
    std::vector<std::vector<Term>> rows(held_.size());
    std::map<std::size_t, std::vector<std::size_t>> users; // equations of an unknown
    std::map<std::size_t, std::size_t> alone;              // unknowns that some equation holds by itself
    for (std::size_t e = 0; e < held_.size(); ++e) {
        std::map<std::size_t, double> sum;
        double largest = 0.0;
        for (const Term& t : held_[e].equation->terms) {
            largest = std::max(largest, std::abs(t.factor));
            if (!links_.dependent(t.freedom)) {
                sum[static_cast<std::size_t>(links_.unknown_of(t.freedom))] += t.factor;
                continue;
            }
            for (const Term& inner : links_.terms(t.freedom)) sum[inner.freedom] += t.factor * inner.factor;
        }
        for (const auto& [unknown, factor] : sum)
            if (std::abs(factor) > 1e-14 * largest) rows[e].push_back({unknown, factor});
        // What an earlier support holds already counts for that one.
        if (rows[e].size() == 1 && !alone.emplace(rows[e].front().freedom, e).second) rows[e].clear();
        for (const Term& t : rows[e]) users[t.freedom].push_back(e);
    }
    Groups groups(held_.size());
    for (const auto& [unknown, equations] : users)
        for (const std::size_t e : equations) groups.join(e, equations.front());
    std::map<std::size_t, std::size_t> number; // block of a root
    for (std::size_t e = 0; e < held_.size(); ++e) {
        if (rows[e].empty()) continue;
        const auto [at, fresh] = number.emplace(groups.root(e), blocks_.size());
        if (fresh) blocks_.push_back(std::make_unique<Block>());
        Block& block = *blocks_[at->second];
        block.equations.push_back(e);
        for (const Term& t : rows[e]) block.unknowns.push_back(t.freedom);
    }
    for (const auto& block : blocks_) {
        std::sort(block->unknowns.begin(), block->unknowns.end());
        block->unknowns.erase(std::unique(block->unknowns.begin(), block->unknowns.end()),
                              block->unknowns.end());
        const auto m = static_cast<Eigen::Index>(block->unknowns.size());
        const auto n = static_cast<Eigen::Index>(block->equations.size());
        std::vector<SparseEntry> entries;
        for (Eigen::Index j = 0; j < n; ++j)
            for (const Term& t : rows[block->equations[static_cast<std::size_t>(j)]]) {
                const auto at = std::lower_bound(block->unknowns.begin(), block->unknowns.end(), t.freedom);
                entries.emplace_back(at - block->unknowns.begin(), j, t.factor);
            }
        if (block->unknowns.size() * block->equations.size() > dense_entries) {
            block->sparse.resize(m, n);
            block->sparse.setFromTriplets(entries.begin(), entries.end());
            continue;
        }
        Eigen::MatrixXd dense = Eigen::MatrixXd::Zero(m, n);
        for (const auto& t : entries) dense(t.row(), t.col()) += t.value();
        if (m == 1 && n == 1)
            block->inverse = dense.cwiseInverse();
        else
            block->inverse = dense.completeOrthogonalDecomposition().pseudoInverse();
    }
}

Eigen::VectorXd SupportForces::of(const Eigen::VectorXd& residual) const {
    const Eigen::VectorXd left = links_.gather(residual);
    Eigen::VectorXd out = Eigen::VectorXd::Zero(static_cast<Eigen::Index>(held_.size()));
    for (const auto& block : blocks_) {
        Eigen::VectorXd mine(static_cast<Eigen::Index>(block->unknowns.size()));
        for (std::size_t i = 0; i < block->unknowns.size(); ++i)
            mine[static_cast<Eigen::Index>(i)] = left[static_cast<Eigen::Index>(block->unknowns[i])];
        const Eigen::VectorXd forces = block->solve(mine);
        for (std::size_t j = 0; j < block->equations.size(); ++j)
            out[static_cast<Eigen::Index>(block->equations[j])] = forces[static_cast<Eigen::Index>(j)];
    }
    return out;
}

Eigen::VectorXd SupportForces::field(const Eigen::VectorXd& weights) const {
    Eigen::VectorXd on_unknowns = Eigen::VectorXd::Zero(static_cast<Eigen::Index>(links_.unknowns()));
    for (const auto& block : blocks_) {
        Eigen::VectorXd mine(static_cast<Eigen::Index>(block->equations.size()));
        for (std::size_t j = 0; j < block->equations.size(); ++j)
            mine[static_cast<Eigen::Index>(j)] = weights[static_cast<Eigen::Index>(block->equations[j])];
        if (mine.isZero(0.0)) continue;
        const Eigen::VectorXd found = block->solve_transposed(mine);
        for (std::size_t i = 0; i < block->unknowns.size(); ++i)
            on_unknowns[static_cast<Eigen::Index>(block->unknowns[i])] = found[static_cast<Eigen::Index>(i)];
    }
    return links_.expand(on_unknowns, false);
}

} // namespace upright
