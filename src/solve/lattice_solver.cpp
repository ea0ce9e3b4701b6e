#include "solve/lattice_solver.hpp"

#include "base/instruction_sets.hpp"
#include "base/reduction.hpp"
#include "solve/chebyshev.hpp"
#include "solve/lattice/carried.hpp"
#include "solve/solve_by_gradients.hpp"
#include "solve/stopwatch.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <numeric>

namespace upright {

using lattices::BlockPattern;
using lattices::Carried;

namespace {

constexpr double spacings = 2.5;    // of the first lattice, in spacings of the nodes
constexpr double off_center = 0.31; // where it begins: so far below the lowest node, in spacings of its own
constexpr std::size_t few_nodes = 200; // on a lattice: that is factorised
constexpr std::size_t most_dense =
    1500;                          // nodes that are factorised where a coarser lattice would save little
constexpr double worthwhile = 0.7; // a coarser lattice has at most this share of the nodes
constexpr int coarse_degree = 4;
constexpr int eigenvalue_steps = 8;
constexpr double widening = 1.3, widest = 5.0; // of bounds that were found too low
constexpr double safety = 1.3; // of the bound: below 1.15 the cycle was seen to lose its definiteness

using Pointers = std::array<float*, lattices::most_vectors>;

Pointers pointers(std::vector<Strip<float>>& of) {
    Pointers out{};
    for (std::size_t s = 0; s < of.size(); ++s) out[s] = of[s].data();
    return out;
}

// v' w of this peer.
template <class T> double sum_of_mine(std::size_t n, const T* v, const double* w, int threads) {
    std::vector<double> parts((n + block_of_range - 1) / block_of_range, 0.0);
    each_block(
        n,
        [&](std::size_t from, std::size_t to) {
            double sum = 0.0;
#pragma omp simd reduction(+ : sum)
            for (std::size_t i = from; i < to; ++i) sum += static_cast<double>(v[i]) * w[i];
            parts[from / block_of_range] = sum;
        },
        threads);
    double out = 0.0;
    for (const double part : parts) out += part;
    return out;
}

} // namespace

struct LatticeOperator::Level {
    BlockPattern pattern;
    Strip<float> blocks;
    Strip<float> inverse; // of blocks on the diagonal
    int degree = coarse_degree;
    double bound = 2.0;
    Carried down; // how the next level carries this one; of the last level nothing
    Eigen::LLT<Eigen::MatrixXd> factor;
    // Of the cycle, one for each vector: what is asked and its answer (not of the first level), the residual
    // and the smoother's direction.
    std::vector<Strip<float>> asked, answer, residual, direction;

    double bytes() const {
        return pattern.bytes() + 4.0 * static_cast<double>(blocks.size() + inverse.size()) + down.bytes() +
               8.0 * static_cast<double>(factor.rows() * factor.cols()) +
               12.0 * static_cast<double>((2 * direction.size() + 2 * asked.size()) * pattern.nodes());
    }
    void make_room(int count, bool first) {
        const std::size_t n = 3 * pattern.nodes();
        while (direction.size() < static_cast<std::size_t>(count)) {
            direction.emplace_back(n);
            residual.emplace_back(n);
            if (first) continue;
            asked.emplace_back(n);
            answer.emplace_back(n);
        }
    }

    void take(const double* values, int threads) {
        const std::size_t n = 9 * pattern.blocks();
        if (blocks.size() != n) blocks = Strip<float>(n);
        float* to = blocks.data();
#pragma omp parallel for simd num_threads(threads) schedule(static)
        for (std::size_t i = 0; i < n; ++i) to[i] = static_cast<float>(values[i]);
        lattices::invert_diagonal(pattern, values, inverse, threads);
        bound = safety * lattices::largest_eigenvalue(pattern, blocks.data(), inverse.data(),
                                                      eigenvalue_steps, threads);
    }

    void factorise(const double* values) {
        const auto n = static_cast<Eigen::Index>(3 * pattern.nodes());
        Eigen::MatrixXd dense = Eigen::MatrixXd::Zero(n, n);
        for (std::size_t i = 0; i < pattern.nodes(); ++i)
            for (std::size_t k = pattern.starts[i]; k < pattern.starts[i + 1]; ++k)
                dense.block<3, 3>(3 * static_cast<Eigen::Index>(i), 3 * pattern.at[k]) =
                    Eigen::Map<const Eigen::Matrix3d>(values + 9 * k);
        for (Eigen::Index i = 0; i < n; ++i)
            dense(i, i) = dense(i, i) > 0.0 ? dense(i, i) * (1.0 + 1e-9) : 1.0;
        factor.compute(dense);
        if (factor.info() != Eigen::Success)
            throw Error::numerics(
                "the structure is not held, or held so weakly that its stiffness is lost in "
                "rounding",
                "\"upright check\" names the motion that the supports leave free");
    }

    // residual = b - A x.
    void find_residual(const float* const* b, const float* const* x, int count, int threads) {
        const std::size_t n = 3 * pattern.nodes();
        const Pointers to = pointers(residual);
        for (int s = 0; s < count; ++s) {
            const float* from = b[s];
            float* into = to[static_cast<std::size_t>(s)];
#pragma omp parallel for simd num_threads(threads) schedule(static) if (n > 8000)
            for (std::size_t i = 0; i < n; ++i) into[i] = from[i];
        }
        lattices::subtract_product(pattern, blocks.data(), x, to.data(), count, threads);
    }

    // x towards A x = b, from zero where `fresh`, whatever stands there.
    void smooth(const float* const* b, float* const* x, int count, bool fresh, int threads) {
        const std::size_t n = pattern.nodes();
        const Pointers z = pointers(direction);
        const Pointers r = pointers(residual);
        const float* D = inverse.data();
        if (!fresh) find_residual(b, x, count, threads);
        for (int i = 1; i <= degree; ++i) {
            const ChebyshevStep step = chebyshev_step(degree, i, bound);
            const auto keep = static_cast<float>(step.keep);
            const auto by = static_cast<float>(step.step);
            const auto weight = static_cast<float>(step.weight);
            const bool begins = fresh && i == 1;
#pragma omp parallel for num_threads(threads) schedule(static) if (n > 2000)
            for (std::size_t k = 0; k < n; ++k) {
                const float* d = D + 9 * k;
                for (std::size_t s = 0; s < static_cast<std::size_t>(count); ++s) {
                    float* rs = r[s] + 3 * k;
                    float* zs = z[s] + 3 * k;
                    float* xs = x[s] + 3 * k;
                    if (begins)
                        for (std::size_t c = 0; c < 3; ++c) {
                            rs[c] = b[s][3 * k + c];
                            xs[c] = 0.0F;
                        }
                    for (std::size_t c = 0; c < 3; ++c) {
                        const float solved = by * (d[c] * rs[0] + d[3 + c] * rs[1] + d[6 + c] * rs[2]);
                        zs[c] = i == 1 ? solved : keep * zs[c] + solved;
                        xs[c] += weight * zs[c];
                    }
                }
            }
            if (i < degree)
                lattices::subtract_product(pattern, blocks.data(), z.data(), r.data(), count, threads);
        }
    }

    void solve_dense(const float* const* b, float* const* x, int count) const {
        const auto n = static_cast<Eigen::Index>(3 * pattern.nodes());
        Eigen::MatrixXd all(n, count);
        for (int s = 0; s < count; ++s)
            all.col(s) = Eigen::Map<const Eigen::VectorXf>(b[s], n).cast<double>();
        factor.solveInPlace(all);
        for (int s = 0; s < count; ++s) Eigen::Map<Eigen::VectorXf>(x[s], n) = all.col(s).cast<float>();
    }
};

LatticeOperator::~LatticeOperator() = default;

LatticeOperator::LatticeOperator(const ElementSystem& system, UnknownPlaces places, int threads)
    : system_(system), threads_(threads), nodes_(places.places.size()) {
    // Which nodes come first is a matter of the first lattice; of its nodes, of the next; and so on.
    Vec3 low = Vec3::Constant(1e300);
    for (std::size_t i = 0; i < nodes_; ++i)
        if (places.beyond[i] == 0) low = low.cwiseMin(places.places[i]);
    const double h = spacings * places.spacing;
    std::vector<Vec3> at;
    at.reserve(nodes_);
    for (const Vec3& p : places.places) at.emplace_back((p - low) / h + Vec3::Constant(off_center));
    std::vector<std::uint8_t> beyond = places.beyond;
    std::size_t own = 0;
    for (const std::uint8_t b : beyond) own += b;
    // Of each level, how the next carries it, and the order that takes.
    std::vector<std::int32_t> new_of; // of the fine nodes
    std::size_t nodes = nodes_;
    for (std::size_t l = 0;; ++l) {
        auto level = std::make_unique<Level>();
        level->degree = l == 0 ? places.degree : coarse_degree;
        lattices::Carrying next;
        bool last = nodes <= few_nodes + own;
        if (!last) {
            next = lattices::carry(at, beyond);
            last = static_cast<double>(next.lattice.size()) > worthwhile * static_cast<double>(nodes) &&
                   nodes <= most_dense;
        }
        std::vector<std::int32_t> numbers(nodes);
        if (last)
            std::iota(numbers.begin(), numbers.end(), 0);
        else
            for (std::size_t i = 0; i < nodes; ++i)
                numbers[static_cast<std::size_t>(next.order[i])] = static_cast<std::int32_t>(i);
        if (l == 0)
            new_of = numbers;
        else
            levels_.back()->down.number(numbers, nodes);
        if (!last) level->down = std::move(next.carried);
        levels_.push_back(std::move(level));
        if (last) break;
        nodes = next.lattice.size();
        beyond = std::move(next.beyond);
        at = std::move(next.lattice);
        for (Vec3& p : at) p *= 0.5;
    }
    node_of_.reserve(places.node_of.size());
    for (const std::int32_t n : places.node_of) node_of_.push_back(new_of[static_cast<std::size_t>(n)]);
    component_of_ = std::move(places.component_of);
    std::vector<std::uint8_t> moves(3 * nodes_, 0);
    for (std::size_t u = 0; u < node_of_.size(); ++u)
        moves[3 * static_cast<std::size_t>(node_of_[u]) + component_of_[u]] = 1;
    for (std::size_t i = 0; i < moves.size(); ++i)
        if (moves[i] == 0) held_.push_back(i);
    make_fine_pattern();
    find_offsets();
    for (std::size_t l = 0; l + 1 < levels_.size(); ++l)
        levels_[l + 1]->pattern = coarse_pattern(levels_[l]->pattern, levels_[l]->down, threads_);
}

void LatticeOperator::make_fine_pattern() {
    const std::size_t elements = system_.elements();
    whole_.assign(elements, 0);
    element_starts_.assign(nodes_ + 1, 0);
    // The nodes of an element, each once.
    std::vector<std::int32_t> nodes;
    const auto nodes_of = [&](std::size_t e) {
        nodes.clear();
        for (std::size_t k = system_.starts[e]; k < system_.starts[e + 1]; ++k) {
            const std::int32_t u = system_.dofs[k];
            if (u < 0) continue;
            const std::int32_t node = node_of_[static_cast<std::size_t>(u)];
            if (nodes.empty() || std::find(nodes.begin(), nodes.end(), node) == nodes.end())
                nodes.push_back(node);
        }
    };
    for (std::size_t e = 0; e < elements; ++e) {
        nodes_of(e);
        for (const std::int32_t n : nodes) ++element_starts_[static_cast<std::size_t>(n) + 1];
        const std::size_t width = system_.width(e);
        const std::int32_t* dofs = system_.dofs.data() + system_.starts[e];
        bool whole = width % 3 == 0;
        for (std::size_t k = 0; whole && k < width; ++k)
            whole = dofs[k] >= 0 && component_of_[static_cast<std::size_t>(dofs[k])] == k % 3 &&
                    node_of_[static_cast<std::size_t>(dofs[k])] ==
                        node_of_[static_cast<std::size_t>(dofs[k - k % 3])];
        whole_[e] = whole ? 1 : 0;
    }
    for (std::size_t n = 0; n < nodes_; ++n) element_starts_[n + 1] += element_starts_[n];
    elements_at_.resize(element_starts_[nodes_]);
    std::vector<std::size_t> next(element_starts_.begin(), element_starts_.end() - 1);
    for (std::size_t e = 0; e < elements; ++e) {
        nodes_of(e);
        for (const std::int32_t n : nodes)
            elements_at_[next[static_cast<std::size_t>(n)]++] = static_cast<std::uint32_t>(e);
    }
    BlockPattern& pattern = levels_[0]->pattern;
    std::vector<std::int32_t> row;
    std::vector<std::int32_t> seen(nodes_, -1);
    pattern.starts.reserve(nodes_ + 1);
    for (std::size_t n = 0; n < nodes_; ++n) {
        row.assign(1, static_cast<std::int32_t>(n));
        seen[n] = static_cast<std::int32_t>(n);
        for (std::size_t k = element_starts_[n]; k < element_starts_[n + 1]; ++k) {
            const std::size_t e = elements_at_[k];
            for (std::size_t m = system_.starts[e]; m < system_.starts[e + 1]; ++m) {
                if (system_.dofs[m] < 0) continue;
                const std::int32_t other = node_of_[static_cast<std::size_t>(system_.dofs[m])];
                if (seen[static_cast<std::size_t>(other)] == static_cast<std::int32_t>(n)) continue;
                seen[static_cast<std::size_t>(other)] = static_cast<std::int32_t>(n);
                row.push_back(other);
            }
        }
        std::sort(row.begin(), row.end());
        pattern.at.insert(pattern.at.end(), row.begin(), row.end());
        pattern.starts.push_back(pattern.at.size());
    }
    pattern.at.shrink_to_fit();
    blocks_ = Strip<double>(9 * pattern.blocks());
}

// Where the blocks of whole elements stand; one with a row too long for it counts as another.
void LatticeOperator::find_offsets() {
    const BlockPattern& pattern = levels_[0]->pattern;
    offsets_at_.assign(system_.elements(), 0);
    std::size_t count = 0;
    for (std::size_t e = 0; e < system_.elements(); ++e)
        if (whole_[e] != 0) count += system_.width(e) / 3 * (system_.width(e) / 3);
    offsets_.reserve(count);
    for (std::size_t e = 0; e < system_.elements(); ++e) {
        if (whole_[e] == 0) continue;
        const std::int32_t* dofs = system_.dofs.data() + system_.starts[e];
        const std::size_t nodes = system_.width(e) / 3;
        offsets_at_[e] = static_cast<std::uint32_t>(offsets_.size());
        for (std::size_t a = 0; a < nodes && whole_[e] != 0; ++a) {
            const auto row = static_cast<std::size_t>(node_of_[static_cast<std::size_t>(dofs[3 * a])]);
            const auto begin = pattern.at.begin() + static_cast<std::ptrdiff_t>(pattern.starts[row]);
            const auto end = pattern.at.begin() + static_cast<std::ptrdiff_t>(pattern.starts[row + 1]);
            for (std::size_t b = 0; b < nodes; ++b) {
                const auto at =
                    std::lower_bound(begin, end, node_of_[static_cast<std::size_t>(dofs[3 * b])]) - begin;
                if (at > 255) {
                    whole_[e] = 0;
                    break;
                }
                offsets_.push_back(static_cast<std::uint8_t>(at));
            }
        }
        if (whole_[e] == 0) offsets_.resize(offsets_at_[e]);
    }
}

// By ranges of rows, each from the elements at its nodes: in one order, whatever the threads do. What reaches
// into several ranges is made for each.
void LatticeOperator::assemble(const std::vector<double>& scale) {
    const BlockPattern& pattern = levels_[0]->pattern;
    double* values = blocks_.data();
    constexpr std::size_t rows_together = 2048;
    const std::size_t ranges = (nodes_ + rows_together - 1) / rows_together;
#pragma omp parallel num_threads(threads_)
    {
        std::vector<std::size_t> place(nodes_, 0); // of a column in the row at hand
        std::vector<double> made;
        Eigen::MatrixXd room;
#pragma omp for schedule(dynamic, 1)
        for (std::size_t range = 0; range < ranges; ++range) {
            const std::size_t first = range * rows_together;
            const std::size_t last = std::min(nodes_, first + rows_together);
            std::fill(values + 9 * pattern.starts[first], values + 9 * pattern.starts[last], 0.0);
            for (std::size_t n = first; n < last; ++n) {
                bool placed = false;
                for (std::size_t k = element_starts_[n]; k < element_starts_[n + 1]; ++k) {
                    const std::size_t e = elements_at_[k];
                    if (whole_[e] != 0) {
                        add_whole(e, scale[e], n, first, last, made);
                        continue;
                    }
                    for (std::size_t c = pattern.starts[n]; !placed && c < pattern.starts[n + 1]; ++c)
                        place[static_cast<std::size_t>(pattern.at[c])] = 9 * c;
                    placed = true;
                    add_rows(e, scale[e], n, place, room);
                }
            }
        }
    }
}

// An element all of whose freedoms are unknowns, to its rows from `first` on and before `last`, when `node`
// is the first of them.
void LatticeOperator::add_whole(std::size_t e, double scale, std::size_t node, std::size_t first,
                                std::size_t last, std::vector<double>& made) {
    const std::vector<std::size_t>& starts = levels_[0]->pattern.starts;
    const std::int32_t* dofs = system_.dofs.data() + system_.starts[e];
    const std::size_t width = system_.width(e);
    const std::size_t nodes = width / 3;
    const auto row_of = [&](std::size_t a) {
        return static_cast<std::size_t>(node_of_[static_cast<std::size_t>(dofs[3 * a])]);
    };
    for (std::size_t a = 0; a < nodes; ++a)
        if (const std::size_t row = row_of(a); row >= first && row < node) return;
    const double* from = nullptr;
    const Eigen::MatrixXd* kept = system_.matrix_of[e];
    if (kept == nullptr) {
        made.resize(3 * nodes * width);
        system_.made->make_blocks(system_.number_of[e], made.data());
        from = made.data();
    }
    const std::uint8_t* offsets = offsets_.data() + offsets_at_[e];
    for (std::size_t a = 0; a < nodes; ++a) {
        const std::size_t row = row_of(a);
        if (row < first || row >= last) continue;
        double* values = blocks_.data() + 9 * starts[row];
        for (std::size_t b = 0; b < nodes; ++b) {
            double* to = values + 9 * static_cast<std::size_t>(offsets[a * nodes + b]);
            if (kept == nullptr) {
                const double* block = from + 9 * (a * nodes + b);
                *reinterpret_cast<Eight*>(to) += scale * *reinterpret_cast<const Eight*>(block);
                to[8] += scale * block[8];
            } else {
                const double* block = kept->data() + 3 * b * width + 3 * a;
                for (std::size_t c = 0; c < 3; ++c)
                    for (std::size_t r = 0; r < 3; ++r) to[3 * c + r] += scale * block[c * width + r];
            }
        }
    }
}

// Any element, to the row of one node; `place` of its columns.
void LatticeOperator::add_rows(std::size_t e, double scale, std::size_t node,
                               const std::vector<std::size_t>& place, Eigen::MatrixXd& room) {
    const Eigen::MatrixXd& K = system_.matrix(e, room);
    const std::int32_t* dofs = system_.dofs.data() + system_.starts[e];
    const std::size_t width = system_.width(e);
    for (std::size_t r = 0; r < width; ++r) {
        if (dofs[r] < 0 || node_of_[static_cast<std::size_t>(dofs[r])] != static_cast<std::int32_t>(node))
            continue;
        const std::size_t row = component_of_[static_cast<std::size_t>(dofs[r])];
        for (std::size_t c = 0; c < width; ++c) {
            if (dofs[c] < 0) continue;
            const auto u = static_cast<std::size_t>(dofs[c]);
            blocks_[place[static_cast<std::size_t>(node_of_[u])] +
                    3 * static_cast<std::size_t>(component_of_[u]) + row] +=
                scale * K(static_cast<Eigen::Index>(r), static_cast<Eigen::Index>(c));
        }
    }
}

void LatticeOperator::update(const std::vector<double>& scale) {
    assemble(scale);
    Strip<double> passing; // the blocks of the level at hand, but of the first
    for (std::size_t l = 0; l < levels_.size(); ++l) {
        Level& level = *levels_[l];
        const double* values = l == 0 ? blocks_.data() : passing.data();
        if (l + 1 == levels_.size()) {
            level.factorise(values);
            break;
        }
        level.take(values, threads_);
        level.bound *= wider_;
        Strip<double> next(9 * levels_[l + 1]->pattern.blocks());
        coarse_blocks(level.pattern, values, level.down, levels_[l + 1]->pattern, next.data(), threads_);
        passing = std::move(next);
    }
}

bool LatticeOperator::steady() {
    if (wider_ * widening > widest) return false;
    wider_ *= widening;
    for (const auto& level : levels_) level->bound *= widening;
    return true;
}

double LatticeOperator::multiply(double* v, double* out) {
    lattices::multiply(levels_[0]->pattern, blocks_.data(), v, out, threads_);
    return sum_of_mine(length(), v, out, threads_);
}

double LatticeOperator::multiply(float* v, double* out) {
    lattices::multiply(levels_[0]->pattern, blocks_.data(), v, out, threads_);
    return sum_of_mine(length(), v, out, threads_);
}

void LatticeOperator::cycle(std::size_t l, const float* const* b, float* const* x, int count) {
    Level& level = *levels_[l];
    if (l + 1 == levels_.size()) {
        level.solve_dense(b, x, count);
        return;
    }
    Level& next = *levels_[l + 1];
    level.make_room(count, l == 0);
    next.make_room(count, false);
    level.smooth(b, x, count, true, threads_);
    level.find_residual(b, x, count, threads_);
    const Pointers residual = pointers(level.residual);
    const Pointers asked = pointers(next.asked);
    const Pointers answer = pointers(next.answer);
    for (std::size_t s = 0; s < static_cast<std::size_t>(count); ++s)
        restrict_to(level.down, residual[s], asked[s], threads_);
    cycle(l + 1, asked.data(), answer.data(), count);
    for (std::size_t s = 0; s < static_cast<std::size_t>(count); ++s) {
        prolong_from(level.down, answer[s], x[s], threads_);
        if (l == 0)
            for (const std::size_t i : held_) x[s][i] = 0.0F;
    }
    level.smooth(b, x, count, false, threads_);
}

void LatticeOperator::precondition(float* const* r, float* const* z, int count) {
    cycle(0, r, z, count);
}

void LatticeOperator::spread(const double* unknowns, double* out) const {
    std::fill(out, out + length(), 0.0);
    for (std::size_t u = 0; u < node_of_.size(); ++u)
        out[3 * static_cast<std::size_t>(node_of_[u]) + component_of_[u]] = unknowns[u];
}

void LatticeOperator::collect(const double* v, double* unknowns) const {
    for (std::size_t u = 0; u < node_of_.size(); ++u)
        unknowns[u] = v[3 * static_cast<std::size_t>(node_of_[u]) + component_of_[u]];
}

double LatticeOperator::bytes() const {
    double out = 8.0 * static_cast<double>(blocks_.size() + element_starts_.size() + held_.size()) +
                 4.0 * static_cast<double>(elements_at_.size()) + 5.0 * static_cast<double>(node_of_.size()) +
                 static_cast<double>(whole_.size() + offsets_.size() + 4 * offsets_at_.size());
    for (const auto& level : levels_) out += level->bytes();
    return out;
}

namespace {

class LatticeSolver : public LinearSolver {
  public:
    LatticeSolver(const ElementSystem& system, UnknownPlaces places, const SolverOptions& options)
        : begin_(Clock::now()), operator_(system, std::move(places), threads_of(options)) {
        vectors_.frugal = options.frugal;
        cost_.method = "lattice multigrid";
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
        const auto spread = [&](const double* from, double* to) { operator_.spread(from, to); };
        cost_.iterations =
            solve_by_gradients(operator_, "lattice multigrid", loads, wish,
                               static_cast<Eigen::Index>(lattices::most_vectors), vectors_, answers, spread,
                               spread, [&](const double* from, double* to) { operator_.collect(from, to); });
        cost_.bytes = operator_.bytes() + vectors_.bytes;
        cost_.solve_seconds = seconds_since(start);
    }

    SolverCost cost() const override { return cost_; }

  private:
    Clock::time_point begin_;
    LatticeOperator operator_;
    LongVectors vectors_;
    SolverCost cost_;
};

} // namespace

std::unique_ptr<LinearSolver> make_lattice_solver(const ElementSystem& system, UnknownPlaces places,
                                                  const SolverOptions& options) {
    return std::make_unique<LatticeSolver>(system, std::move(places), options);
}

} // namespace upright
