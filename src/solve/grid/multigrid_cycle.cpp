// Sweeps of the smoother, transfers between levels, cycles, and products with the fine matrix.
#include "solve/grid/multigrid_parts.hpp"

#include "base/instruction_sets.hpp"

#include "solve/chebyshev.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <omp.h>
#include <type_traits>

namespace upright::grid {

namespace {

int thread_number() {
    return omp_get_thread_num();
}

// The smoother's steps x <- x + weight z, z <- keep z + step S r (solve/chebyshev.hpp), gathered so that no
// residual is kept on the way. One step: x + c1 S r. Two from nothing: c0 S b - c1 S A S b. Two from x:
// z = c1 S r, then x + c0 z - c1 S A z.
SweepFactors one_step(double bound) {
    const ChebyshevStep a = chebyshev_step(1, 1, bound);
    return factors_of(0.0, a.weight * a.step);
}
SweepFactors two_from_nothing(double bound) {
    const ChebyshevStep a = chebyshev_step(2, 1, bound);
    const ChebyshevStep b = chebyshev_step(2, 2, bound);
    return factors_of(a.weight * a.step + b.weight * (b.keep * a.step + b.step), b.weight * b.step * a.step);
}
SweepFactors first_of_two(double bound) {
    return factors_of(0.0, chebyshev_step(2, 1, bound).step);
}
SweepFactors second_of_two(double bound) {
    const ChebyshevStep a = chebyshev_step(2, 1, bound);
    const ChebyshevStep b = chebyshev_step(2, 2, bound);
    return factors_of(a.weight + b.weight * (b.keep + b.step / a.step), b.weight * b.step);
}

} // namespace

template <class T> void Multigrid::fix(T* v) const {
    for (const std::size_t p : fixed_) v[p] = T(0);
    const auto d = static_cast<std::size_t>(dimension_);
    for (const Slope& slope : slopes_) {
        Eigen::Vector3d u = Eigen::Vector3d::Zero();
        for (std::size_t c = 0; c < d; ++c)
            u[static_cast<Eigen::Index>(c)] = static_cast<double>(v[place(slope.node * d + c)]);
        u = slope.onto * u;
        for (std::size_t c = 0; c < d; ++c)
            v[place(slope.node * d + c)] = static_cast<T>(u[static_cast<Eigen::Index>(c)]);
    }
}

void Multigrid::project(double* v) const {
    fix(v);
}

namespace {

// Parts of the rows and planes of nodes that threads take in turn.
struct Parts {
    int row_size = 1, rows = 1, plane_size = 1, planes = 1;
    Parts(int nodes_y, int nodes_z, std::size_t bytes_a_row, int threads) {
        constexpr std::size_t cache = 600000;
        const int most = std::max(4, static_cast<int>(cache / std::max<std::size_t>(1, bytes_a_row)));
        rows = (nodes_y + most - 1) / most;
        row_size = (nodes_y + rows - 1) / rows;
        planes = std::max(1, std::min(threads == 1 ? 1 : 2 * threads, nodes_z / 4));
        plane_size = (nodes_z + planes - 1) / planes;
        planes = (nodes_z + plane_size - 1) / plane_size;
    }
};

} // namespace

void Multigrid::sweep(std::size_t l, Sweep kind, const SweepVectors<float>* vectors, int count,
                      const SweepFactors& factors, bool fresh) const {
    const Level& level = *levels_[l];
    if (level.box) {
        for (int n = 0; n < count; ++n) {
            // From nothing the smoother's first direction is S b, made on the way.
            box_sweep<float, float>(level, kernels_.box_float, [&](BoxSweep<float>& s) {
                s.blocks = blocks_float_.data();
                s.full = full_blocks_;
                s.sweep = kind;
                s.scaled = fresh;
                s.fresh = fresh;
                s.vectors = vectors[n];
                s.factors = factors;
            });
            if (!level.special_cells.empty()) add_special(level, kind, vectors[n], factors, fresh);
        }
    } else {
        StencilSweep s;
        s.dimension = dimension_;
        s.nodes_y = level.nodes[1];
        s.nodes_z = level.nodes[2];
        s.ring = level.ring;
        s.stride = level.stride;
        s.beside = level.beside.data();
        s.scale = level.scale.data();
        s.diagonal = level.diagonal.data();
        s.inverse = level.inverse.data();
        s.sweep = kind;
        s.fresh = fresh;
        s.vectors = vectors;
        s.count = count;
        s.factors = factors;
        const int rows = static_cast<int>(level.rows);
        const int part = std::max(1, rows / (8 * options_.threads));
        const int parts = (rows + part - 1) / part;
#pragma omp parallel for num_threads(options_.threads) schedule(dynamic) if (rows > 16)
        for (int p = 0; p < parts; ++p) {
            StencilSweep mine = s;
            mine.from_row = p * part;
            mine.to_row = std::min(rows, (p + 1) * part);
            kernels_.stencil(mine);
        }
    }
    if (l > 0 || slopes_.empty() || kind == Sweep::Product || kind == Sweep::Residual) return;
    // Nodes on slopes: the smoother's steps are turned into the directions that are free.
    for (int n = 0; n < count; ++n) fix(vectors[n].out);
}

template <class T, class Stored, class Fill>
void Multigrid::box_sweep(const Level& level, void (*run)(const BoxSweep<T, Stored>&, void*),
                          Fill&& fill) const {
    const Parts parts(level.nodes[1], level.nodes[2], 6 * sizeof(T) * level.stride, options_.threads);
    const std::size_t need = box_scratch(level.stride, parts.row_size);
#pragma omp parallel for num_threads(options_.threads) schedule(dynamic)
    for (int part = 0; part < parts.rows * parts.planes; ++part) {
        Strip<char>& scratch = scratch_[static_cast<std::size_t>(thread_number())];
        if (scratch.size() < need) scratch = Strip<char>(need);
        BoxSweep<T, Stored> s;
        s.grid = {level.cells[0], level.cells[1],          level.cells[2],
                  level.stride,   level.row_starts.data(), level.cell_rows.data()};
        s.inverse_diagonal = level.inverse_diagonal.data();
        s.from_row = part % parts.rows * parts.row_size;
        s.to_row = std::min(level.nodes[1], s.from_row + parts.row_size);
        s.from_plane = part / parts.rows * parts.plane_size;
        s.to_plane = std::min(level.nodes[2], s.from_plane + parts.plane_size);
        if (s.from_row >= s.to_row || s.from_plane >= s.to_plane) continue;
        fill(s);
        run(s, scratch.data());
    }
}

namespace {

// out = M v, M of 24 x 24 by columns.
UPRIGHT_CLONES void special_product(const float* m, const float* v, float* out) {
    typedef float EightFloats __attribute__((vector_size(32), aligned(4), may_alias));
    EightFloats sums[3] = {};
    for (int c = 0; c < 24; ++c) {
        const EightFloats* column = reinterpret_cast<const EightFloats*>(m + 24 * c);
        for (int n = 0; n < 3; ++n) sums[n] += v[c] * column[n];
    }
    EightFloats* to = reinterpret_cast<EightFloats*>(out);
    for (int n = 0; n < 3; ++n) to[n] = sums[n];
}

} // namespace

// What the cells with matrices of their own add to a sweep, whose outcome is linear in A v. Even layers
// first, then odd ones, so that no two threads meet at a node.
void Multigrid::add_special(const Level& level, Sweep kind, const SweepVectors<float>& vectors,
                            const SweepFactors& factors, bool scaled) const {
    const int layers = level.cells[2];
    const float* S = level.inverse_diagonal.data();
    for (int odd = 0; odd < 2; ++odd) {
#pragma omp parallel for num_threads(options_.threads) schedule(dynamic, 4)
        for (int layer = odd; layer < layers; layer += 2)
            for (std::size_t n = level.special_starts[static_cast<std::size_t>(layer)];
                 n < level.special_starts[static_cast<std::size_t>(layer) + 1]; ++n) {
                std::array<std::size_t, 24> at;
                std::array<float, 24> v;
                std::array<float, 24> force;
                for (std::size_t a = 0; a < 8; ++a)
                    for (std::size_t c = 0; c < 3; ++c)
                        at[a * 3 + c] = level.special_places[n * 8 + a] + c * level.stride;
                for (std::size_t r = 0; r < 24; ++r) v[r] = vectors.v[at[r]] * (scaled ? S[at[r]] : 1.0F);
                special_product(level.special.data() + n * 576, v.data(), force.data());
                for (std::size_t r = 0; r < 24; ++r)
                    vectors.out[at[r]] += kind == Sweep::Product    ? force[r]
                                          : kind == Sweep::Residual ? -force[r]
                                                                    : -factors.c1 * S[at[r]] * force[r];
            }
    }
}

template <class V> double Multigrid::multiply_any(const V* v, double* out) const {
    std::fill_n(out + length_ - lanes, lanes, 0.0);
    if (!matrix_free_) {
        multiply_cells(v, out);
        double sum = 0.0;
        for (std::size_t i = 0; i < length_; ++i) sum += static_cast<double>(v[i]) * out[i];
        return sum;
    }
    const auto fill = [&](auto& s) {
        s.blocks = blocks_double_.data();
        s.full = full_blocks_;
        s.sweep = Sweep::Product;
        s.vectors = {v, nullptr, out};
        s.dots = dots_.data();
    };
    if constexpr (std::is_same_v<V, float>)
        box_sweep<double, float>(*levels_[0], kernels_.box_mixed, fill);
    else
        box_sweep<double, double>(*levels_[0], kernels_.box_double, fill);
    double sum = 0.0;
    for (const double dot : dots_) sum += dot;
    return sum;
}

double Multigrid::multiply(const double* v, double* out) const {
    return multiply_any(v, out);
}

double Multigrid::multiply(const float* v, double* out) const {
    return multiply_any(v, out);
}

// Cell by cell, for matrices that do not part into blocks: even layers of cells first, then odd ones, and
// last the one over of an odd ring, so that no two threads meet at a node.
template <class V> void Multigrid::multiply_cells(const V* v, double* out) const {
    const Level& fine = *levels_[0];
    std::fill_n(out, length_, 0.0);
    const int layers = dimension_ == 3 ? fine.cells[2] : fine.cells[1];
    const bool over = fine.ring && layers % 2 == 1;
    const std::size_t size =
        dimension_ == 3 ? fine.layer_cells() : static_cast<std::size_t>(fine.cells[0]); // cells of a layer
    const auto nx = static_cast<std::size_t>(fine.nodes[0]);
    const auto d = static_cast<std::size_t>(dimension_);
    const auto one_layer = [&](int layer) {
        std::array<double, 24> local{};
        std::array<double, 24> force{};
        std::array<std::size_t, 24> at{};
        for (std::size_t cell = static_cast<std::size_t>(layer) * size;
             cell < static_cast<std::size_t>(layer + 1) * size; ++cell) {
            const std::int32_t e = system_.element_of[cell];
            if (e < 0) continue;
            const auto element = static_cast<std::size_t>(e);
            for (int a = 0; a < corners_; ++a) {
                const std::size_t node = corner(fine, cell, a);
                for (std::size_t c = 0; c < d; ++c)
                    at[static_cast<std::size_t>(a) * d + c] = (node / nx * d + c) * fine.stride + node % nx;
            }
            const auto width = static_cast<std::size_t>(width_);
            for (std::size_t n = 0; n < width; ++n) local[n] = static_cast<double>(v[at[n]]);
            const Eigen::Matrix3d* R = turn(element);
            using Corners = Eigen::Map<Eigen::Matrix<double, 3, 8>>;
            if (R != nullptr) Corners(local.data()) = (R->transpose() * Corners(local.data())).eval();
            kernels_.cell_product(width_, system_.kinds[system_.kind_of[element]].data(),
                                  general_scale_[element], local.data(), force.data());
            if (R != nullptr) Corners(force.data()) = (*R * Corners(force.data())).eval();
            for (std::size_t n = 0; n < width; ++n) out[at[n]] += force[n];
        }
    };
    for (int odd = 0; odd < 2; ++odd) {
#pragma omp parallel for num_threads(options_.threads) schedule(static)
        for (int layer = odd; layer < layers - (over ? 1 : 0); layer += 2) one_layer(layer);
    }
    if (over) one_layer(layers - 1);
}

namespace {

// Rows of a level's vectors with their weights.
struct WeighedRows {
    std::array<const float*, 9> row{};
    std::array<float, 9> weight{};
    std::size_t count = 0;
    void add(const float* x, float w) {
        row[count] = x;
        weight[count++] = w;
    }
};

// Their sum; `length` in whole chunks.
UPRIGHT_CLONES void sum_rows(const WeighedRows& rows, std::size_t length, float* out) {
    for (std::size_t i = 0; i < length; i += lanes) {
        Sixteen sum{};
        for (std::size_t r = 0; r < rows.count; ++r)
            sum += rows.weight[r] * *reinterpret_cast<const Sixteen*>(rows.row[r] + i);
        *reinterpret_cast<Sixteen*>(out + i) = sum;
    }
}

// Every second value with halves of its neighbours; in[-1] is there.
UPRIGHT_CLONES void thin_row(const float* in, std::size_t count, float* out) {
    for (std::size_t i = 0; i < count; ++i) out[i] = 0.5F * in[2 * i - 1] + in[2 * i] + 0.5F * in[2 * i + 1];
}

// Adds values and their means between them, `count` in all, where `there` (if given) is above zero.
UPRIGHT_CLONES void widen_row(const float* in, std::size_t count, const float* there, float* out) {
    const std::size_t pairs = count / 2;
    if (there == nullptr)
        for (std::size_t i = 0; i < pairs; ++i) {
            out[2 * i] += in[i];
            out[2 * i + 1] += 0.5F * (in[i] + in[i + 1]);
        }
    else
        for (std::size_t i = 0; i < pairs; ++i) {
            out[2 * i] += there[2 * i] > 0.0F ? in[i] : 0.0F;
            out[2 * i + 1] += there[2 * i + 1] > 0.0F ? 0.5F * (in[i] + in[i + 1]) : 0.0F;
        }
    if (count % 2 != 0 && (there == nullptr || there[count - 1] > 0.0F)) out[count - 1] += in[pairs];
}

} // namespace

void Multigrid::restrict_to(std::size_t l, int slot) {
    // The rows around each coarse row first, then along x.
    const Level& fine = *levels_[l];
    Level& coarse = *levels_[l + 1];
    const float* from = levels_[l]->residual(slot).data();
    float* to = coarse.work[static_cast<std::size_t>(slot)].b.data();
    const int depth = dimension_ == 3 ? 1 : 0;
    const auto d = static_cast<std::size_t>(dimension_);
#pragma omp parallel num_threads(options_.threads) if (coarse.rows > 16)
    {
        Strip<float> line(fine.stride); // and zeros around it
#pragma omp for schedule(static)
        for (std::size_t row = 0; row < coarse.rows; ++row) {
            const int j = static_cast<int>(row) % coarse.nodes[1];
            const int k = static_cast<int>(row) / coarse.nodes[1];
            WeighedRows rows;
            for (int dk = -depth; dk <= depth; ++dk)
                for (int dj = -1; dj <= 1; ++dj) {
                    const int y = 2 * j + dj;
                    const int z = dimension_ == 3 ? fine.plane(2 * k + dk) : 0;
                    if (y < 0 || z < 0 || y >= fine.nodes[1]) continue;
                    // Beyond the end of an odd ring stands a node that has a coarse one of its own.
                    if (dk != 0 && z % 2 == 0) continue;
                    rows.add(from + (static_cast<std::size_t>(z) * static_cast<std::size_t>(fine.nodes[1]) +
                                     static_cast<std::size_t>(y)) *
                                        d * fine.stride,
                             (dj == 0 ? 1.0F : 0.5F) * (dk == 0 ? 1.0F : 0.5F));
                }
            for (std::size_t c = 0; c < d; ++c) {
                sum_rows(rows, fine.stride, line.data());
                thin_row(line.data(), static_cast<std::size_t>(coarse.nodes[0]),
                         to + (row * d + c) * coarse.stride);
                for (std::size_t r = 0; r < rows.count; ++r) rows.row[r] += fine.stride;
            }
        }
    }
}

void Multigrid::prolong_from(std::size_t l, int slot) {
    Level& fine = *levels_[l];
    const Level& coarse = *levels_[l + 1];
    float* to = solution_of(l, slot);
    const float* from = coarse.work[static_cast<std::size_t>(slot)].x.data();
    const bool masked = l == 0;
    const auto d = static_cast<std::size_t>(dimension_);
#pragma omp parallel num_threads(options_.threads) if (fine.rows > 16)
    {
        Strip<float> line(coarse.stride); // and zeros behind it
#pragma omp for schedule(static)
        for (std::size_t row = 0; row < fine.rows; ++row) {
            const int j = static_cast<int>(row) % fine.nodes[1];
            const int k = static_cast<int>(row) / fine.nodes[1];
            const float w = (j % 2 == 0 ? 1.0F : 0.5F) * (k % 2 == 0 ? 1.0F : 0.5F);
            WeighedRows rows;
            for (int above = k / 2; above <= (k + 1) / 2; ++above)
                for (int y = j / 2; y <= (j + 1) / 2; ++y)
                    rows.add(from + (static_cast<std::size_t>(coarse.plane(above)) *
                                         static_cast<std::size_t>(coarse.nodes[1]) +
                                     static_cast<std::size_t>(y)) *
                                        d * coarse.stride,
                             w);
            for (std::size_t c = 0; c < d; ++c) {
                sum_rows(rows, coarse.stride, line.data());
                const std::size_t base = (row * d + c) * fine.stride;
                widen_row(line.data(), static_cast<std::size_t>(fine.nodes[0]),
                          masked ? fine.inverse_diagonal.data() + base : nullptr, to + base);
                for (std::size_t r = 0; r < rows.count; ++r) rows.row[r] += coarse.stride;
            }
        }
    }
    if (masked) fix(to);
}

// x = factor * S b, S by blocks or by the diagonal.
void Multigrid::scale_by_inverse(const Level& level, const float* b, double factor, float* x) const {
    const std::size_t length = level.length(dimension_);
    const auto f = static_cast<float>(factor);
    if (level.box) {
        const float* inverse = level.inverse_diagonal.data();
#pragma omp parallel for simd num_threads(options_.threads) schedule(static)
        for (std::size_t i = 0; i < length; ++i) x[i] = f * inverse[i] * b[i];
        return;
    }
    const std::size_t chunks = level.stride / lanes;
    const auto d = static_cast<std::size_t>(dimension_);
#pragma omp parallel for num_threads(options_.threads) schedule(static) if (level.rows > 16)
    for (std::size_t row = 0; row < level.rows; ++row)
        for (std::size_t chunk = 0; chunk < chunks; ++chunk) {
            const float* inverse = level.inverse.data() + (row * chunks + chunk) * d * d * lanes;
            const std::size_t base = row * d * level.stride + chunk * lanes;
            for (std::size_t c = 0; c < d; ++c) {
                std::array<float, lanes> sum{};
                for (std::size_t e = 0; e < d; ++e) {
                    const float* from = b + base + e * level.stride;
                    const float* m = inverse + (c * d + e) * lanes;
                    for (std::size_t i = 0; i < lanes; ++i) sum[i] += m[i] * from[i];
                }
                for (std::size_t i = 0; i < lanes; ++i) x[base + c * level.stride + i] = f * sum[i];
            }
        }
}

// From zero; right-hand sides `first` to `first + many`.
void Multigrid::smooth_zero(std::size_t l, int first, int many) {
    Level& level = *levels_[l];
    std::array<SweepVectors<float>, most_together> v;
    for (int n = 0; n < many; ++n) {
        float* x = solution_of(l, first + n);
        const float* direction = load_of(l, first + n);
        if (degree_of(l) == 1) {
            scale_by_inverse(level, direction, static_cast<double>(one_step(level.bound).c1), x);
            continue;
        }
        if (!level.box) {
            scale_by_inverse(level, direction, 1.0, level.residual(first + n).data());
            direction = level.residual(first + n).data();
        }
        v[static_cast<std::size_t>(n)] = {direction, nullptr, x};
    }
    if (degree_of(l) > 1) sweep(l, Sweep::Finish, v.data(), many, two_from_nothing(level.bound), true);
}

// From the x that is there.
void Multigrid::smooth(std::size_t l, int first, int many) {
    Level& level = *levels_[l];
    std::array<SweepVectors<float>, most_together> v;
    for (int n = 0; n < many; ++n)
        v[static_cast<std::size_t>(n)] = {solution_of(l, first + n), load_of(l, first + n),
                                          level.residual(first + n).data()};
    if (degree_of(l) == 1) {
        sweep(l, Sweep::Single, v.data(), many, one_step(level.bound));
        for (int slot = first; slot < first + many; ++slot)
            std::swap(level.work[static_cast<std::size_t>(slot)].x, level.residual(slot));
        return;
    }
    sweep(l, Sweep::Step, v.data(), many, first_of_two(level.bound));
    for (int n = 0; n < many; ++n)
        v[static_cast<std::size_t>(n)] = {level.residual(first + n).data(), nullptr,
                                          solution_of(l, first + n)};
    sweep(l, Sweep::Finish, v.data(), many, second_of_two(level.bound));
}

void Multigrid::solve_coarsest(int count) {
    Level& level = *levels_.back();
    Coarsest& c = *coarsest_;
    const auto d = static_cast<std::size_t>(dimension_);
    const auto place_of = [&](std::size_t n) { return level.place(n / d, n % d, dimension_); };
    c.loads.resize(static_cast<Eigen::Index>(c.system.unknowns), count);
    for (int s = 0; s < count; ++s) {
        const Level::Work& work = level.work[static_cast<std::size_t>(s)];
        for (std::size_t n = 0; n < c.unknown_of.size(); ++n)
            if (c.unknown_of[n] >= 0) c.loads(c.unknown_of[n], s) = static_cast<double>(work.b[place_of(n)]);
    }
    const Eigen::MatrixXd x = c.solver->solve(c.loads);
    for (int s = 0; s < count; ++s) {
        Level::Work& work = level.work[static_cast<std::size_t>(s)];
        for (std::size_t n = 0; n < c.unknown_of.size(); ++n) {
            const std::size_t at = place_of(n);
            work.x[at] = c.unknown_of[n] >= 0
                             ? static_cast<float>(x(c.unknown_of[n], s))
                             : static_cast<float>(c.jacobi[n] * static_cast<double>(work.b[at]));
        }
    }
}

void Multigrid::visit(std::size_t l, int count) {
    if (l + 1 == levels_.size()) {
        solve_coarsest(count);
        return;
    }
    Level& level = *levels_[l];
    // Right-hand sides share the scratch of the fine level: one after the other there.
    const int together = l == 0 ? 1 : count;
    const int visits = l > 0 && l + 2 < levels_.size() ? options_.visits : 1;
    for (int again = 0; again < visits; ++again) {
        for (int first = 0; first < count; first += together) {
            if (again == 0)
                smooth_zero(l, first, together);
            else
                smooth(l, first, together);
            std::array<SweepVectors<float>, most_together> v;
            for (int n = 0; n < together; ++n) {
                v[static_cast<std::size_t>(n)] = {solution_of(l, first + n), load_of(l, first + n),
                                                  level.residual(first + n).data()};
            }
            sweep(l, Sweep::Residual, v.data(), together, {});
            for (int n = 0; n < together; ++n) {
                if (l == 0) fix(level.residual(first + n).data());
                restrict_to(l, first + n);
            }
        }
        visit(l + 1, count);
        for (int first = 0; first < count; first += together) {
            for (int n = 0; n < together; ++n) prolong_from(l, first + n);
            smooth(l, first, together);
        }
    }
}

void Multigrid::make_room(int count) {
    for (std::size_t l = 0; l < levels_.size(); ++l) {
        Level& level = *levels_[l];
        const std::size_t length = level.length(dimension_) + lanes;
        if (level.work.size() < static_cast<std::size_t>(count))
            level.work.resize(static_cast<std::size_t>(count));
        for (std::size_t s = 0; s < static_cast<std::size_t>(count); ++s) {
            Level::Work& work = level.work[s];
            for (Strip<float>* strip : {&work.b, &work.x})
                if (l > 0 && strip->size() == 0) *strip = Strip<float>(length);
            if (l == 0 && s > 0) continue;
            if (work.r.size() == 0) work.r = Strip<float>(length);
        }
    }
}

void Multigrid::cycle(float* const* b, float* const* x, int count) {
    if (exact_ != nullptr) {
        // Material by its factor, the rest by the cycle: side by side.
        const std::vector<std::size_t>& places = exact_->places;
        Eigen::MatrixXd loads(static_cast<Eigen::Index>(places.size()), count);
        for (int s = 0; s < count; ++s)
            for (std::size_t n = 0; n < places.size(); ++n) {
                loads(static_cast<Eigen::Index>(n), s) = static_cast<double>(b[s][places[n]]);
                b[s][places[n]] = 0.0F;
            }
        if (exact_->voids != nullptr) {
            exact_->voids->cycle(b, x, count);
            const auto by = static_cast<float>(1.0 / exact_->void_stiffness);
            for (int s = 0; s < count; ++s) {
                float* to = x[s];
#pragma omp parallel for simd num_threads(options_.threads) schedule(static)
                for (std::size_t i = 0; i < length_; ++i) to[i] *= by;
            }
        } else {
            for (int s = 0; s < count; ++s) std::fill_n(x[s], length_, 0.0F);
        }
        const Eigen::MatrixXd answer = exact_->solver->solve(loads);
        for (int s = 0; s < count; ++s)
            for (std::size_t n = 0; n < places.size(); ++n) {
                b[s][places[n]] = static_cast<float>(loads(static_cast<Eigen::Index>(n), s));
                x[s][places[n]] = static_cast<float>(answer(static_cast<Eigen::Index>(n), s));
            }
        return;
    }
    cycle_of_all(b, x, count);
}

void Multigrid::cycle_of_all(float* const* b, float* const* x, int count) {
    factorise();
    make_room(count);
    for (int s = 0; s < count; ++s) {
        fix(b[s]);
        fine_load_[static_cast<std::size_t>(s)] = b[s];
        fine_solution_[static_cast<std::size_t>(s)] = x[s];
    }
    visit(0, count);
}

float* Multigrid::load_of(std::size_t l, int slot) const {
    const auto s = static_cast<std::size_t>(slot);
    return l == 0 ? fine_load_[s] : levels_[l]->work[s].b.data();
}

float* Multigrid::solution_of(std::size_t l, int slot) const {
    const auto s = static_cast<std::size_t>(slot);
    return l == 0 ? fine_solution_[s] : levels_[l]->work[s].x.data();
}

void Multigrid::sweep_for_bench(std::size_t l, const float* x, const float* b, float* out) const {
    const SweepVectors<float> v{x, b, out};
    sweep(l, Sweep::Step, &v, 1, first_of_two(levels_.at(l)->bound));
}

} // namespace upright::grid
