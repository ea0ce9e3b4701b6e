#include "solve/aggregation.hpp"

#include "base/instruction_sets.hpp"
#include "base/reduction.hpp"
#include "solve/chebyshev.hpp"
#include "solve/rows.hpp"
#include "solve/stopwatch.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright {

namespace {

constexpr std::size_t dense_unknowns = 1200; // a level this small is factorised
constexpr std::size_t most_levels = 12;
constexpr double strong = 0.05;    // couplings above this share of the nodes' own stiffness join an aggregate
constexpr double dependent = 1e-4; // a motion of an aggregate that others nearly make up is left out
constexpr int degree = 2;

} // namespace

struct AggregationOperator::Level {
    Rows A;
    Rows P, R; // from the next level, and to it
    std::vector<double> inverse_diagonal;
    double bound = 2.0;
    std::vector<std::int32_t> node_of;
    Eigen::MatrixXd motions;
    std::size_t nodes = 0;
    std::vector<std::int32_t> aggregate_of; // by node; -1: left out
    std::size_t aggregates = 0;
    Eigen::LLT<Eigen::MatrixXd> factor; // of the last level
    std::vector<double> b, x, r, z;     // of the cycle

    void set_smoother(int threads) {
        const std::size_t n = A.rows();
        inverse_diagonal.assign(n, 0.0);
        for (std::size_t r0 = 0; r0 < n; ++r0)
            for (std::size_t k = A.starts[r0]; k < A.starts[r0 + 1]; ++k)
                if (static_cast<std::size_t>(A.at[k]) == r0 && A.value[k] > 0.0)
                    inverse_diagonal[r0] = 1.0 / A.value[k];
        for (std::vector<double>* v : {&b, &x, &r, &z}) v->assign(n, 0.0);
        std::uint32_t seed = 2463534242U;
        for (double& v : x) {
            seed = seed * 1664525U + 1013904223U;
            v = static_cast<double>(seed >> 8) / 8388608.0 - 1.0;
        }
        double found = 1.0;
        for (int step = 0; step < 12; ++step) {
            upright::multiply(A, x.data(), r.data(), threads);
            for (std::size_t i = 0; i < n; ++i) r[i] *= inverse_diagonal[i];
            const double norm = std::sqrt(inner_product(n, r.data(), r.data(), threads));
            if (!(norm > 0.0)) break;
            if (step > 0) found = norm;
            for (std::size_t i = 0; i < n; ++i) x[i] = r[i] / norm;
        }
        bound = 1.1 * found;
    }

    // x from zero or as it is, towards A x = b.
    void smooth(bool from_zero, int threads) {
        const std::size_t n = A.rows();
        if (from_zero) {
            r = b;
            std::fill(x.begin(), x.end(), 0.0);
        } else {
            upright::multiply(A, x.data(), r.data(), threads);
            for (std::size_t i = 0; i < n; ++i) r[i] = b[i] - r[i];
        }
        std::vector<double>& product = spare;
        product.resize(n);
        std::fill(z.begin(), z.end(), 0.0);
        for (int i = 1; i <= degree; ++i) {
            const ChebyshevStep step = chebyshev_step(degree, i, bound);
            for (std::size_t k = 0; k < n; ++k) {
                z[k] = step.keep * z[k] + step.step * inverse_diagonal[k] * r[k];
                x[k] += step.weight * z[k];
            }
            if (i == degree) break;
            upright::multiply(A, z.data(), product.data(), threads);
            for (std::size_t k = 0; k < n; ++k) r[k] -= product[k];
        }
    }
    std::vector<double> spare;
};

AggregationOperator::~AggregationOperator() = default;

AggregationOperator::AggregationOperator(const ElementSystem& system, NearKernel kernel, int threads)
    : system_(system), threads_(threads) {
    auto fine = std::make_unique<Level>();
    Level& level = *fine;
    level.node_of = std::move(kernel.node_of);
    level.motions = std::move(kernel.motions);
    for (const std::int32_t n : level.node_of)
        level.nodes = std::max(level.nodes, static_cast<std::size_t>(n) + 1);
    // The pattern, from the elements at each unknown.
    const std::size_t n = system_.unknowns;
    std::vector<std::size_t> first(n + 1, 0);
    for (const std::int32_t u : system_.dofs)
        if (u >= 0) ++first[static_cast<std::size_t>(u) + 1];
    for (std::size_t u = 0; u < n; ++u) first[u + 1] += first[u];
    std::vector<std::uint32_t> elements(first[n]);
    {
        std::vector<std::size_t> next(first.begin(), first.end() - 1);
        for (std::size_t e = 0; e < system_.elements(); ++e)
            for (std::size_t k = system_.starts[e]; k < system_.starts[e + 1]; ++k)
                if (system_.dofs[k] >= 0)
                    elements[next[static_cast<std::size_t>(system_.dofs[k])]++] =
                        static_cast<std::uint32_t>(e);
    }
    level.A.columns = n;
    std::vector<std::int32_t> row;
    for (std::size_t u = 0; u < n; ++u) {
        row.clear();
        for (std::size_t k = first[u]; k < first[u + 1]; ++k)
            for (std::size_t m = system_.starts[elements[k]]; m < system_.starts[elements[k] + 1]; ++m)
                if (system_.dofs[m] >= 0) row.push_back(system_.dofs[m]);
        std::sort(row.begin(), row.end());
        row.erase(std::unique(row.begin(), row.end()), row.end());
        level.A.at.insert(level.A.at.end(), row.begin(), row.end());
        level.A.starts.push_back(level.A.at.size());
    }
    level.A.value.assign(level.A.at.size(), 0.0);
    for (std::size_t e = 0; e < system_.elements(); ++e) {
        const std::int32_t* dofs = &system_.dofs[system_.starts[e]];
        const std::size_t width = system_.width(e);
        for (std::size_t c = 0; c < width; ++c)
            for (std::size_t r = 0; r < width; ++r) {
                if (dofs[r] < 0 || dofs[c] < 0) {
                    target_.push_back(0);
                    continue;
                }
                const auto begin =
                    level.A.at.begin() +
                    static_cast<std::ptrdiff_t>(level.A.starts[static_cast<std::size_t>(dofs[r])]);
                const auto end =
                    level.A.at.begin() +
                    static_cast<std::ptrdiff_t>(level.A.starts[static_cast<std::size_t>(dofs[r]) + 1]);
                target_.push_back(static_cast<std::uint32_t>(std::lower_bound(begin, end, dofs[c]) - begin));
            }
    }
    levels_.push_back(std::move(fine));
}

void AggregationOperator::assemble(const std::vector<double>& scale) {
    std::vector<double>& value = levels_[0]->A.value;
    std::fill(value.begin(), value.end(), 0.0);
    const std::vector<std::size_t>& starts = levels_[0]->A.starts;
    const std::uint32_t* target = target_.data();
    Eigen::MatrixXd room;
    for (std::size_t e = 0; e < system_.elements(); ++e) {
        const Eigen::MatrixXd& K = system_.matrix(e, room);
        const double* entry = K.data();
        const std::int32_t* dofs = system_.dofs.data() + system_.starts[e];
        const auto width = static_cast<std::size_t>(K.rows());
        for (std::size_t c = 0; c < width; ++c)
            for (std::size_t r = 0; r < width; ++r, ++target, ++entry)
                if (dofs[r] >= 0 && dofs[c] >= 0)
                    value[starts[static_cast<std::size_t>(dofs[r])] + *target] += scale[e] * *entry;
    }
}

// Greedy aggregates of strongly coupled nodes: whole neighbourhoods first, then what is left joins one.
void AggregationOperator::aggregate(Level& fine) {
    const Rows& A = fine.A;
    // Squared norms of the blocks between nodes.
    std::vector<std::vector<std::int32_t>> unknowns(fine.nodes);
    for (std::size_t u = 0; u < A.rows(); ++u)
        unknowns[static_cast<std::size_t>(fine.node_of[u])].push_back(static_cast<std::int32_t>(u));
    std::vector<double> own(fine.nodes, 0.0);
    for (std::size_t u = 0; u < A.rows(); ++u)
        for (std::size_t k = A.starts[u]; k < A.starts[u + 1]; ++k)
            if (fine.node_of[static_cast<std::size_t>(A.at[k])] == fine.node_of[u])
                own[static_cast<std::size_t>(fine.node_of[u])] += A.value[k] * A.value[k];
    std::vector<std::size_t> starts{0};
    std::vector<std::int32_t> neighbours;
    std::vector<double> norm(fine.nodes, 0.0);
    std::vector<std::int32_t> touched;
    for (std::size_t n = 0; n < fine.nodes; ++n) {
        touched.clear();
        for (const std::int32_t u : unknowns[n])
            for (std::size_t k = A.starts[static_cast<std::size_t>(u)];
                 k < A.starts[static_cast<std::size_t>(u) + 1]; ++k) {
                const std::int32_t m = fine.node_of[static_cast<std::size_t>(A.at[k])];
                if (norm[static_cast<std::size_t>(m)] == 0.0) touched.push_back(m);
                norm[static_cast<std::size_t>(m)] += A.value[k] * A.value[k] + 1e-300;
            }
        for (const std::int32_t m : touched) {
            const auto other = static_cast<std::size_t>(m);
            if (other != n && norm[other] > strong * strong * std::sqrt(own[n] * own[other]))
                neighbours.push_back(m);
            norm[other] = 0.0;
        }
        starts.push_back(neighbours.size());
    }
    std::vector<std::int32_t>& of = fine.aggregate_of;
    of.assign(fine.nodes, -1);
    std::int32_t next = 0;
    for (std::size_t n = 0; n < fine.nodes; ++n) {
        if (of[n] >= 0 || starts[n + 1] == starts[n]) continue;
        bool free = true;
        for (std::size_t k = starts[n]; k < starts[n + 1]; ++k)
            free = free && of[static_cast<std::size_t>(neighbours[k])] < 0;
        if (!free) continue;
        of[n] = next;
        for (std::size_t k = starts[n]; k < starts[n + 1]; ++k)
            of[static_cast<std::size_t>(neighbours[k])] = next;
        ++next;
    }
    const std::vector<std::int32_t> roots = of;
    for (std::size_t n = 0; n < fine.nodes; ++n) {
        if (of[n] >= 0) continue;
        for (std::size_t k = starts[n]; k < starts[n + 1] && of[n] < 0; ++k)
            of[n] = roots[static_cast<std::size_t>(neighbours[k])];
    }
    for (std::size_t n = 0; n < fine.nodes; ++n) {
        if (of[n] >= 0) continue;
        of[n] = next;
        for (std::size_t k = starts[n]; k < starts[n + 1]; ++k)
            if (of[static_cast<std::size_t>(neighbours[k])] < 0)
                of[static_cast<std::size_t>(neighbours[k])] = next;
        ++next;
    }
    fine.aggregates = static_cast<std::size_t>(next);
}

// Each aggregate's share of the motions, made orthonormal: columns of the tentative prolongation. Also the
// coarse level's motions, and the aggregate (its node) of each column.
Rows AggregationOperator::tentative(const Level& fine, Level& coarse) {
    const Eigen::Index motions = fine.motions.cols();
    std::vector<std::vector<std::int32_t>> members(fine.aggregates);
    for (std::size_t u = 0; u < fine.A.rows(); ++u)
        members[static_cast<std::size_t>(fine.aggregate_of[static_cast<std::size_t>(fine.node_of[u])])]
            .push_back(static_cast<std::int32_t>(u));
    std::vector<std::vector<std::pair<std::int32_t, double>>> rows(fine.A.rows());
    std::vector<Eigen::RowVectorXd> coarse_motions;
    std::int32_t column = 0;
    for (std::size_t a = 0; a < fine.aggregates; ++a) {
        const auto count = static_cast<Eigen::Index>(members[a].size());
        Eigen::MatrixXd Q(count, motions);
        for (Eigen::Index i = 0; i < count; ++i)
            Q.row(i) = fine.motions.row(members[a][static_cast<std::size_t>(i)]);
        Eigen::MatrixXd R = Eigen::MatrixXd::Zero(motions, motions);
        std::vector<Eigen::Index> kept;
        for (Eigen::Index m = 0; m < motions; ++m) {
            const double before = Q.col(m).norm();
            for (int pass = 0; pass < 2; ++pass)
                for (const Eigen::Index k : kept) {
                    const double share = Q.col(k).dot(Q.col(m));
                    R(k, m) += share;
                    Q.col(m) -= share * Q.col(k);
                }
            const double left = Q.col(m).norm();
            if (!(left > dependent * before)) continue;
            R(m, m) = left;
            Q.col(m) /= left;
            kept.push_back(m);
        }
        for (const Eigen::Index k : kept) {
            for (Eigen::Index i = 0; i < count; ++i)
                rows[static_cast<std::size_t>(members[a][static_cast<std::size_t>(i)])].emplace_back(column,
                                                                                                     Q(i, k));
            coarse_motions.emplace_back(R.row(k));
            coarse.node_of.push_back(static_cast<std::int32_t>(a));
            ++column;
        }
    }
    Rows out;
    out.columns = static_cast<std::size_t>(column);
    for (auto& row : rows) {
        for (const auto& [c, v] : row) {
            out.at.push_back(c);
            out.value.push_back(v);
        }
        out.starts.push_back(out.at.size());
    }
    coarse.nodes = fine.aggregates;
    coarse.motions.resize(column, motions);
    for (Eigen::Index c = 0; c < column; ++c)
        coarse.motions.row(c) = coarse_motions[static_cast<std::size_t>(c)];
    return out;
}

// One step of Jacobi on the tentative prolongation.
Rows AggregationOperator::smoothed(const Level& fine, const Rows& tentative, const Level& coarse) const {
    Rows P = product(fine.A, tentative, coarse.node_of, threads_);
    const double omega = 4.0 / 3.0 / fine.bound;
    for (std::size_t r = 0; r < P.rows(); ++r) {
        std::size_t own = tentative.starts[r];
        for (std::size_t k = P.starts[r]; k < P.starts[r + 1]; ++k) {
            P.value[k] *= -omega * fine.inverse_diagonal[r];
            while (own < tentative.starts[r + 1] && tentative.at[own] < P.at[k]) ++own;
            if (own < tentative.starts[r + 1] && tentative.at[own] == P.at[k])
                P.value[k] += tentative.value[own];
        }
    }
    return P;
}

// The last level by Cholesky, where it is small enough.
void AggregationOperator::factorise(Level& last) {
    last.aggregate_of.clear();
    if (last.A.rows() > 4 * dense_unknowns) return;
    const auto n = static_cast<Eigen::Index>(last.A.rows());
    Eigen::MatrixXd dense = Eigen::MatrixXd::Zero(n, n);
    for (std::size_t r = 0; r < last.A.rows(); ++r)
        for (std::size_t k = last.A.starts[r]; k < last.A.starts[r + 1]; ++k)
            dense(static_cast<Eigen::Index>(r), last.A.at[k]) += last.A.value[k];
    dense = 0.5 * (dense + dense.transpose()).eval();
    for (Eigen::Index i = 0; i < n; ++i) dense(i, i) = dense(i, i) > 0.0 ? dense(i, i) * (1.0 + 1e-10) : 1.0;
    last.factor.compute(dense);
    if (last.factor.info() != Eigen::Success)
        throw Error::numerics("the structure is not held: its stiffness is singular",
                              "\"upright check\" names the motion that the supports leave free");
}

void AggregationOperator::update(const std::vector<double>& scale) {
    assemble(scale);
    std::size_t l = 0;
    for (;; ++l) {
        Level& fine = *levels_[l];
        fine.set_smoother(threads_);
        if (fine.A.rows() <= dense_unknowns || l + 1 == most_levels) break;
        if (renew_ || fine.aggregate_of.empty()) aggregate(fine);
        auto coarse = std::make_unique<Level>();
        const Rows first = tentative(fine, *coarse);
        if (first.columns * 10 > fine.A.rows() * 9) break; // no coarsening any more
        fine.P = smoothed(fine, first, *coarse);
        fine.R = transposed(fine.P);
        coarse->A =
            product(fine.R, product(fine.A, fine.P, coarse->node_of, threads_), coarse->node_of, threads_);
        const bool known = levels_.size() > l + 1;
        if (known && !renew_ && levels_[l + 1]->nodes == coarse->nodes) {
            coarse->aggregate_of = std::move(levels_[l + 1]->aggregate_of);
            coarse->aggregates = levels_[l + 1]->aggregates;
        }
        if (known)
            levels_[l + 1] = std::move(coarse);
        else
            levels_.push_back(std::move(coarse));
    }
    levels_.resize(l + 1);
    factorise(*levels_[l]);
    renew_ = false;
}

std::size_t AggregationOperator::length() const {
    return system_.unknowns;
}

double AggregationOperator::multiply(double* v, double* out) {
    const Level& fine = *levels_[0];
    upright::multiply(fine.A, v, out, threads_);
    double sum = 0.0;
    for (std::size_t i = 0; i < fine.A.rows(); ++i) sum += v[i] * out[i];
    return sum;
}

double AggregationOperator::multiply(float* v, double* out) {
    wide_.assign(v, v + length());
    return multiply(wide_.data(), out);
}

void AggregationOperator::cycle(std::size_t l) {
    Level& level = *levels_[l];
    if (l + 1 == levels_.size()) {
        if (level.factor.rows() == static_cast<Eigen::Index>(level.b.size()) && !level.b.empty()) {
            Eigen::Map<Eigen::VectorXd>(level.x.data(), static_cast<Eigen::Index>(level.x.size())) =
                level.factor.solve(Eigen::Map<const Eigen::VectorXd>(
                    level.b.data(), static_cast<Eigen::Index>(level.b.size())));
        } else {
            level.smooth(true, threads_);
        }
        return;
    }
    level.smooth(true, threads_);
    upright::multiply(level.A, level.x.data(), level.r.data(), threads_);
    for (std::size_t i = 0; i < level.r.size(); ++i) level.r[i] = level.b[i] - level.r[i];
    Level& next = *levels_[l + 1];
    upright::multiply(level.R, level.r.data(), next.b.data(), threads_);
    cycle(l + 1);
    upright::multiply(level.P, next.x.data(), level.r.data(), threads_);
    for (std::size_t i = 0; i < level.x.size(); ++i) level.x[i] += level.r[i];
    level.smooth(false, threads_);
}

void AggregationOperator::precondition(float* const* r, float* const* z, int count) {
    for (int s = 0; s < count; ++s) {
        Level& fine = *levels_[0];
        std::copy_n(r[s], fine.b.size(), fine.b.begin());
        cycle(0);
        for (std::size_t i = 0; i < fine.x.size(); ++i) z[s][i] = static_cast<float>(fine.x[i]);
    }
}

double AggregationOperator::bytes() const {
    double out = 4.0 * static_cast<double>(target_.size() + system_.dofs.size());
    for (const auto& level : levels_)
        out += level->A.bytes() + level->P.bytes() + level->R.bytes() +
               48.0 * static_cast<double>(level->b.size()) + 8.0 * static_cast<double>(level->motions.size());
    return out;
}

int AggregationOperator::levels() const {
    return static_cast<int>(levels_.size());
}

namespace {

class AggregationSolver : public LinearSolver {
  public:
    AggregationSolver(const ElementSystem& system, NearKernel kernel, const SolverOptions& options)
        : begin_(Clock::now()), operator_(system, std::move(kernel), threads_of(options)) {
        cost_.method = "aggregation multigrid";
        cost_.unknowns = system.unknowns;
        cost_.prepare_seconds = seconds_since(begin_);
    }

    void update(const std::vector<double>& scale) override {
        const auto start = Clock::now();
        operator_.update(scale);
        cost_.factor_seconds = seconds_since(start);
        cost_.levels = operator_.levels();
    }

    void solve(const Loads& loads, const SolveWish& wish, Eigen::MatrixXd& answers) override {
        const auto start = Clock::now();
        Eigen::MatrixXd residual = loads.matrix();
        const bool warm = wish.warm && answers.rows() == loads.rows() && answers.cols() == loads.cols();
        if (!warm) answers = Eigen::MatrixXd::Zero(loads.rows(), loads.cols());
        std::vector<double*> b;
        std::vector<double*> x;
        for (Eigen::Index c = 0; c < loads.cols(); ++c) {
            b.push_back(residual.col(c).data());
            x.push_back(answers.col(c).data());
        }
        const IterationCount count = conjugate_gradients(operator_, b, x, warm, wish);
        if (!count.converged)
            throw NoConvergence(
                fmt::format("the aggregation multigrid did not converge in {} iterations", count.most));
        cost_.iterations = count.most;
        // Aggregates of another design: time for new ones when they cost too many iterations.
        if (!warm || count.most <= 2 * best_ + 4) {
            if (best_ == 0 || count.most < best_) best_ = std::max(1, count.most);
        } else {
            operator_.renew();
            best_ = 0;
        }
        if (!answers.allFinite())
            throw Error::numerics("the solution is not finite",
                                  "Look for loads or material data of absurd size");
        cost_.bytes = operator_.bytes() + 36.0 * static_cast<double>(residual.size());
        cost_.solve_seconds = seconds_since(start);
    }

    SolverCost cost() const override { return cost_; }

  private:
    Clock::time_point begin_;
    AggregationOperator operator_;
    int best_ = 0; // iterations since the aggregates are new
    SolverCost cost_;
};

} // namespace

std::unique_ptr<LinearSolver> make_aggregation_solver(const ElementSystem& system, NearKernel kernel,
                                                      const SolverOptions& options) {
    return std::make_unique<AggregationSolver>(system, std::move(kernel), options);
}

} // namespace upright
