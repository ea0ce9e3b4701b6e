#include "solve/grid_solver.hpp"

#include "base/error.hpp"
#include "base/instruction_sets.hpp"
#include "base/reduction.hpp"
#include "solve/solve_by_gradients.hpp"
#include "solve/stopwatch.hpp"

#include <Eigen/Cholesky>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright {

namespace {

constexpr std::size_t nowhere = static_cast<std::size_t>(-1);
constexpr std::size_t most_beyond = 60; // unknowns beyond the lattice: each costs a vector
constexpr int cycles_of_motion = 3;

UPRIGHT_CLONES double dot_part(const float* a, const float* b, std::size_t from, std::size_t to) {
    double sum = 0.0;
#pragma omp simd reduction(+ : sum)
    for (std::size_t i = from; i < to; ++i) sum += static_cast<double>(a[i]) * static_cast<double>(b[i]);
    return sum;
}

double dot(const float* a, const float* b, std::size_t n, int threads) {
    return sum_of_blocks(
        n, [&](std::size_t from, std::size_t to) { return dot_part(a, b, from, to); }, threads);
}

} // namespace

std::string unfit_for_multigrid(const GridSystem& system) {
    if (system.dependents.empty() && system.beyond.empty()) return {};
    if (system.beyond.size() > most_beyond)
        return fmt::format("{} couplings' freedoms are more than it takes", system.beyond.size());
    // Bonds tie nodes to other nodes of the lattice; the cycle would hold them.
    std::vector<bool> is_beyond(system.unknowns, false);
    for (const std::int32_t u : system.beyond) is_beyond[static_cast<std::size_t>(u)] = true;
    std::vector<std::int32_t> node_of(system.unknowns, -1);
    for (std::size_t f = 0; f < system.unknown_of.size(); ++f)
        if (system.unknown_of[f] >= 0)
            node_of[static_cast<std::size_t>(system.unknown_of[f])] =
                static_cast<std::int32_t>(f / static_cast<std::size_t>(system.dimension));
    std::size_t tied = 0;
    for (std::size_t at = 0; at < system.dependents.size(); ++at) {
        const auto node =
            static_cast<std::int32_t>(system.dependents[at] / static_cast<std::size_t>(system.dimension));
        bool far = false;
        for (std::size_t s = system.starts[at]; s < system.starts[at + 1]; ++s) {
            const auto u = static_cast<std::size_t>(system.shares[s].unknown);
            far = far || (!is_beyond[u] && node_of[u] != node);
        }
        tied += far ? 1 : 0;
    }
    // A handful (averaging couplings that are held) costs a few more iterations each.
    if (tied > 24) return fmt::format("{} freedoms are bonded to others of the grid", tied);
    return {};
}

GridOperator::GridOperator(const GridSystem& system, const grid::MultigridOptions& options)
    : system_(system), multigrid_(system, options) {
    // Places of the unknowns that followers and extra elements name.
    std::vector<std::size_t> place(system.unknowns, nowhere);
    for (std::size_t f = 0; f < system.unknown_of.size(); ++f)
        if (system.unknown_of[f] >= 0)
            place[static_cast<std::size_t>(system.unknown_of[f])] = multigrid_.place(f);
    for (std::size_t b = 0; b < system.beyond.size(); ++b)
        place[static_cast<std::size_t>(system.beyond[b])] = multigrid_.length() + b;
    for (const std::size_t at : multigrid_.far_dependents()) {
        Follower follower;
        follower.place = multigrid_.place(system.dependents[at]);
        follower.first = terms_.size();
        for (std::size_t s = system.starts[at]; s < system.starts[at + 1]; ++s)
            terms_.push_back(
                {place[static_cast<std::size_t>(system.shares[s].unknown)], system.shares[s].factor});
        follower.last = terms_.size();
        followers_.push_back(follower);
    }
    for (std::size_t e = 0; e < system.extra.elements(); ++e) {
        std::vector<std::size_t> places;
        for (std::size_t n = system.extra.starts[e]; n < system.extra.starts[e + 1]; ++n) {
            const std::int32_t u = system.extra.dofs[n];
            places.push_back(u < 0 ? nowhere : place[static_cast<std::size_t>(u)]);
        }
        extra_places_.push_back(std::move(places));
    }
}

template <class V> double GridOperator::product(V* v, double* out) {
    const std::size_t fine = multigrid_.length();
    // What lies beyond must not be read as the lattice's tail: the guard of a fine vector is its own.
    for (const Follower& f : followers_) {
        double u = 0.0;
        for (std::size_t t = f.first; t < f.last; ++t)
            u += terms_[t].factor * static_cast<double>(v[terms_[t].place]);
        v[f.place] = static_cast<V>(u);
    }
    double energy = multigrid_.multiply(v, out);
    for (std::size_t b = 0; b < system_.beyond.size(); ++b) out[fine + b] = 0.0;
    for (const Follower& f : followers_) {
        for (std::size_t t = f.first; t < f.last; ++t)
            out[terms_[t].place] += terms_[t].factor * out[f.place];
        v[f.place] = V(0);
    }
    for (std::size_t e = 0; e < extra_places_.size(); ++e) {
        const std::vector<std::size_t>& places = extra_places_[e];
        Eigen::VectorXd local(static_cast<Eigen::Index>(places.size()));
        for (std::size_t i = 0; i < places.size(); ++i)
            local[static_cast<Eigen::Index>(i)] =
                places[i] == nowhere ? 0.0 : static_cast<double>(v[places[i]]);
        const Eigen::VectorXd force = *system_.extra.matrix_of[e] * local;
        energy += local.dot(force);
        for (std::size_t i = 0; i < places.size(); ++i)
            if (places[i] != nowhere) out[places[i]] += force[static_cast<Eigen::Index>(i)];
    }
    multigrid_.project(out);
    return energy;
}

double GridOperator::multiply(float* v, double* out) {
    if (followers_.empty()) return product(v, out);
    // Followers rounded to single precision would not be those of any symmetric product.
    const std::size_t n = length();
    if (wide_.size() != n) wide_ = Strip<double>(n);
#pragma omp parallel for simd num_threads(threads()) schedule(static)
    for (std::size_t i = 0; i < n; ++i) wide_[i] = static_cast<double>(v[i]);
    return product(wide_.data(), out);
}

void GridOperator::precondition(float* const* r, float* const* z, int count) {
    multigrid_.cycle(r, z, count);
    const std::size_t fine = multigrid_.length();
    const std::size_t more = system_.beyond.size();
    for (int s = 0; s < count; ++s) {
        for (std::size_t b = 0; b < more; ++b) z[s][fine + b] = 0.0F;
        if (motions_.empty()) continue;
        Eigen::VectorXd push(static_cast<Eigen::Index>(more));
        for (std::size_t b = 0; b < more; ++b)
            push[static_cast<Eigen::Index>(b)] =
                dot(motions_[b].data(), r[s], fine, threads()) + static_cast<double>(r[s][fine + b]);
        const Eigen::VectorXd move = motion_inverse_ * push;
        for (std::size_t b = 0; b < more; ++b) {
            const float* w = motions_[b].data();
            const auto by = static_cast<float>(move[static_cast<Eigen::Index>(b)]);
            float* to = z[s];
#pragma omp parallel for simd num_threads(threads()) schedule(static)
            for (std::size_t i = 0; i < fine; ++i) to[i] += by * w[i];
            to[fine + b] += by;
        }
    }
}

// The body's loose answer to each motion of an unknown beyond the lattice, others of them held.
void GridOperator::extend() {
    const std::size_t more = system_.beyond.size();
    if (more == 0) return;
    const std::size_t fine = multigrid_.length();
    const std::size_t n = length();
    const bool warm = !motions_.empty();
    if (!warm) motions_.assign(more, std::vector<float>(fine, 0.0F));
    Strip<float> v(n);
    Strip<double> force(n);
    Strip<float> load(n);
    Strip<float> answer(n);
    Strip<double> resisted(n); // A times the answer
    Eigen::MatrixXd gram =
        Eigen::MatrixXd::Zero(static_cast<Eigen::Index>(more), static_cast<Eigen::Index>(more));
    for (std::size_t b = 0; b < more; ++b) {
        std::vector<float>& motion = motions_[b];
        // A few steps of steepest descent on the cycle; from the last design's motion one is enough.
        const int steps = warm ? 1 : cycles_of_motion;
        for (int step = 0; step <= steps; ++step) {
            std::copy_n(motion.data(), fine, v.data());
            for (std::size_t e = 0; e < more; ++e) v[fine + e] = e == b ? 1.0F : 0.0F;
            multiply(v.data(), force.data());
            if (step == steps) break;
            // Forces of any size fit into single precision.
            const double most = largest_over(fine, 0.0, [&](std::size_t i) { return std::abs(force[i]); });
            if (!(most > 0.0)) break;
            for (std::size_t i = 0; i < fine; ++i) load[i] = static_cast<float>(force[i] / most);
            float* from = load.data();
            float* to = answer.data();
            multigrid_.cycle(&from, &to, 1);
            for (std::size_t e = 0; e < more; ++e) answer[fine + e] = 0.0F;
            const double slope =
                sum_over(fine, [&](std::size_t i) { return static_cast<double>(answer[i]) * force[i]; });
            const double energy = total(multiply(answer.data(), resisted.data()));
            if (!(energy > 0.0)) break;
            const auto by = static_cast<float>(slope / energy);
            for (std::size_t i = 0; i < fine; ++i) motion[i] -= by * answer[i];
        }
        for (std::size_t a = 0; a < more; ++a) {
            if (a <= b) {
                const double sum = force[fine + a] + sum_over(fine, [&](std::size_t i) {
                                       return static_cast<double>(motions_[a][i]) * force[i];
                                   });
                gram(static_cast<Eigen::Index>(a), static_cast<Eigen::Index>(b)) = sum;
                gram(static_cast<Eigen::Index>(b), static_cast<Eigen::Index>(a)) = sum;
            }
        }
    }
    // Scaled to unit diagonal: translations and rotations differ by squares of lengths.
    const Eigen::VectorXd root = gram.diagonal().cwiseMax(1e-300).cwiseSqrt().cwiseInverse();
    Eigen::MatrixXd scaled = root.asDiagonal() * gram * root.asDiagonal();
    scaled.diagonal().array() += 1e-10;
    const Eigen::LLT<Eigen::MatrixXd> factor(scaled);
    if (factor.info() != Eigen::Success)
        throw Error::numerics("the structure is not held: a coupling moves without any resistance",
                              "\"upright check\" names the motion that the supports leave free");
    motion_inverse_ = root.asDiagonal() * factor.solve(Eigen::MatrixXd::Identity(gram.rows(), gram.cols())) *
                      root.asDiagonal();
}

void GridOperator::update(const std::vector<double>& scale) {
    multigrid_.update(scale);
    extend();
}

// Calls with the place and the number of every unknown of the lattice.
template <class Call> void GridOperator::each_unknown(Call&& call) const {
    const auto d = static_cast<std::size_t>(system_.dimension);
    const auto nx = static_cast<std::size_t>(system_.nodes(0));
    const std::size_t rows = system_.lattice_nodes() / nx;
    const std::size_t stride = multigrid_.stride();
#pragma omp parallel for num_threads(threads()) schedule(static)
    for (std::size_t row = 0; row < rows; ++row) {
        const std::int32_t* unknown = system_.unknown_of.data() + row * nx * d;
        for (std::size_t i = 0; i < nx; ++i)
            for (std::size_t c = 0; c < d; ++c)
                if (unknown[i * d + c] >= 0) call((row * d + c) * stride + i, unknown[i * d + c]);
    }
}

void GridOperator::clear(double* out) const {
    const std::size_t n = length();
#pragma omp parallel for simd num_threads(threads()) schedule(static)
    for (std::size_t i = 0; i < n; ++i) out[i] = 0.0;
}

void GridOperator::spread_values(const double* unknowns, double* out) const {
    clear(out);
    each_unknown([&](std::size_t place, std::int32_t u) { out[place] = unknowns[u]; });
    for (std::size_t b = 0; b < system_.beyond.size(); ++b)
        out[multigrid_.length() + b] = unknowns[system_.beyond[b]];
    // Directions that depend on others of their node take part in the long vector.
    for (std::size_t at = 0; at < system_.dependents.size(); ++at) {
        double u = 0.0;
        for (std::size_t s = system_.starts[at]; s < system_.starts[at + 1]; ++s)
            u += system_.shares[s].factor * unknowns[system_.shares[s].unknown];
        out[multigrid_.place(system_.dependents[at])] = u;
    }
    for (const Follower& f : followers_) out[f.place] = 0.0;
}

void GridOperator::spread_loads(const double* unknowns, double* out) const {
    clear(out);
    each_unknown([&](std::size_t place, std::int32_t u) { out[place] = unknowns[u]; });
    for (std::size_t b = 0; b < system_.beyond.size(); ++b)
        out[multigrid_.length() + b] = unknowns[system_.beyond[b]];
    // T' f is given; the f in the range of a node's own T that has it: T (T'T)^-1 (T' f).
    const auto d = static_cast<std::size_t>(system_.dimension);
    for (std::size_t at = 0; at < system_.dependents.size();) {
        const std::size_t node = system_.dependents[at] / d;
        std::size_t end = at;
        Eigen::Matrix3d T = Eigen::Matrix3d::Zero();
        bool near = false;
        for (; end < system_.dependents.size() && system_.dependents[end] / d == node; ++end)
            for (std::size_t s = system_.starts[end]; s < system_.starts[end + 1]; ++s)
                for (std::size_t c = 0; c < d; ++c)
                    if (system_.unknown_of[node * d + c] == system_.shares[s].unknown) {
                        T(static_cast<Eigen::Index>(system_.dependents[end] % d),
                          static_cast<Eigen::Index>(c)) = system_.shares[s].factor;
                        near = true;
                    }
        at = end;
        if (!near) continue;
        Eigen::Vector3d q = Eigen::Vector3d::Zero();
        Eigen::Matrix3d gram = Eigen::Matrix3d::Identity();
        for (std::size_t c = 0; c < d; ++c)
            if (system_.unknown_of[node * d + c] >= 0) {
                T(static_cast<Eigen::Index>(c), static_cast<Eigen::Index>(c)) = 1.0;
                q[static_cast<Eigen::Index>(c)] = unknowns[system_.unknown_of[node * d + c]];
            }
        const Eigen::Matrix3d inner = T.transpose() * T;
        for (Eigen::Index r = 0; r < 3; ++r)
            for (Eigen::Index c = 0; c < 3; ++c)
                if (T.col(r).squaredNorm() > 0.0 && T.col(c).squaredNorm() > 0.0) gram(r, c) = inner(r, c);
        const Eigen::Vector3d f = T * gram.llt().solve(q);
        for (std::size_t c = 0; c < d; ++c)
            out[multigrid_.place(node * d + c)] = f[static_cast<Eigen::Index>(c)];
    }
    for (const Follower& f : followers_) out[f.place] = 0.0;
}

void GridOperator::collect(const double* v, double* unknowns) const {
    each_unknown([&](std::size_t place, std::int32_t u) { unknowns[u] = v[place]; });
    for (std::size_t b = 0; b < system_.beyond.size(); ++b)
        unknowns[system_.beyond[b]] = v[multigrid_.length() + b];
}

double GridOperator::bytes() const {
    return multigrid_.bytes() + 4.0 * static_cast<double>(motions_.size() * multigrid_.length());
}

namespace {

class GridSolver : public LinearSolver {
  public:
    GridSolver(const GridSystem& system, const SolverOptions& options)
        : start_(Clock::now()), operator_(system, multigrid_options(options)) {
        vectors_.frugal = options.frugal;
        cost_.method = "grid multigrid";
        cost_.unknowns = system.unknowns;
        cost_.prepare_seconds = seconds_since(start_);
    }

    void update(const std::vector<double>& scale) override {
        const auto start = Clock::now();
        operator_.update(scale);
        cost_.factor_seconds = seconds_since(start);
        cost_.levels = operator_.multigrid().levels();
    }

    void solve(const Loads& loads, const SolveWish& wish, Eigen::MatrixXd& answers) override {
        const auto start = Clock::now();
        cost_.iterations = solve_by_gradients(
            operator_, "grid multigrid", loads, wish, grid::most_together, vectors_, answers,
            [&](const double* from, double* to) { operator_.spread_loads(from, to); },
            [&](const double* from, double* to) { operator_.spread_values(from, to); },
            [&](const double* from, double* to) { operator_.collect(from, to); });
        cost_.bytes = operator_.bytes() + vectors_.bytes;
        cost_.solve_seconds = seconds_since(start);
    }

    SolverCost cost() const override { return cost_; }

  private:
    static grid::MultigridOptions multigrid_options(const SolverOptions& options) {
        grid::MultigridOptions out;
        out.threads = threads_of(options);
        out.memory = options.memory;
        return out;
    }

    Clock::time_point start_;
    GridOperator operator_;
    LongVectors vectors_;
    SolverCost cost_;
};

} // namespace

std::unique_ptr<LinearSolver> make_grid_solver(const GridSystem& system, const SolverOptions& options) {
    const std::string unfit = unfit_for_multigrid(system);
    if (!unfit.empty()) throw Error::numerics("the grid multigrid does not serve this model: " + unfit);
    return std::make_unique<GridSolver>(system, options);
}

} // namespace upright
