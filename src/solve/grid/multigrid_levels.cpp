// The making of levels from the scales of cells: means, Galerkin products, stencils, the last one's factor.
#include "solve/grid/multigrid_parts.hpp"

#include "base/error.hpp"
#include "base/reduction.hpp"
#include "solve/dissection.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

namespace upright::grid {

namespace {

constexpr std::size_t nodes_worth_asking = 40000;
constexpr double sparse_share = 0.35; // of a level's nodes in use, below which factorising it may pay
constexpr int cells_of_smallest_ring = 8;

int up_to_even(int cells) {
    return (cells + 1) / 2;
}

} // namespace

// The rows of cells of a level of box cells; `kinds` has a bit for every kind in a row.
void Multigrid::make_rows(Level& level, const std::vector<std::uint64_t>& kinds) {
    level.cell_scale = Strip<float>(kinds.size() * level.stride);
    level.row_starts.assign(kinds.size() + 1, 0);
    for (std::size_t row = 0; row < kinds.size(); ++row) {
        bool more = false;
        for (int kind = 0; kind < 64; ++kind) {
            if ((kinds[row] >> kind & 1U) == 0) continue;
            const float* at = level.cell_scale.data() + row * level.stride;
            if (more) {
                level.more_scale.emplace_back(level.stride);
                at = level.more_scale.back().data();
            }
            level.cell_rows.push_back({at, kind});
            more = true;
        }
        level.row_starts[row + 1] = static_cast<std::uint32_t>(level.cell_rows.size());
    }
}

void Multigrid::set_scales(const std::vector<double>& scale) {
    if (!matrix_free_) return;
    Level& fine = *levels_[0];
    const auto nx = static_cast<std::size_t>(fine.cells[0]);
    const std::size_t rows =
        static_cast<std::size_t>(fine.cells[1]) * static_cast<std::size_t>(fine.cells[2]);
    if (fine.row_starts.empty()) {
        std::vector<std::uint64_t> kinds(rows, 0);
        for (std::size_t cell = 0; cell < system_.element_of.size(); ++cell)
            if (const std::int32_t e = system_.element_of[cell]; e >= 0)
                kinds[cell / nx] |= std::uint64_t{1} << system_.kind_of[static_cast<std::size_t>(e)];
        make_rows(fine, kinds);
    }
#pragma omp parallel for num_threads(options_.threads) schedule(static)
    for (std::size_t row = 0; row < rows; ++row) {
        const std::int32_t* elements = system_.element_of.data() + row * nx;
        for (std::uint32_t entry = fine.row_starts[row]; entry < fine.row_starts[row + 1]; ++entry) {
            auto* at = const_cast<float*>(fine.cell_rows[entry].scale);
            for (std::size_t i = 0; i < nx; ++i) {
                const std::int32_t e = elements[i];
                at[i] = e >= 0 && system_.kind_of[static_cast<std::size_t>(e)] == fine.cell_rows[entry].kind
                            ? static_cast<float>(scale[static_cast<std::size_t>(e)])
                            : 0.0F;
            }
        }
    }
}

// Level 1 of box cells: the mean stiffness of the eight cells within each, and the exact product where one of
// them touches held directions, so that no support is lost.
void Multigrid::average() {
    const Level& fine = *levels_[0];
    Level& level = *levels_[1];
    const auto nx = static_cast<std::size_t>(level.cells[0]);
    const std::size_t rows =
        static_cast<std::size_t>(level.cells[1]) * static_cast<std::size_t>(level.cells[2]);
    const auto fine_row = [&](int j, int k) {
        return static_cast<std::size_t>(k) * static_cast<std::size_t>(fine.cells[1]) +
               static_cast<std::size_t>(j);
    };
    const auto children = [&](std::size_t row, auto&& call) {
        const int j = static_cast<int>(row % static_cast<std::size_t>(level.cells[1]));
        const int k = static_cast<int>(row / static_cast<std::size_t>(level.cells[1]));
        for (int z = 2 * k; z < std::min(2 * k + 2, fine.cells[2]); ++z)
            for (int y = 2 * j; y < std::min(2 * j + 2, fine.cells[1]); ++y) call(fine_row(y, z));
    };
    if (!level.box) {
        level.box = true;
        std::vector<std::uint64_t> kinds(rows, 0);
        level.special_of.assign(level.cell_count(), -1);
        level.special_starts.assign(1, 0);
        for (std::size_t row = 0; row < rows; ++row) {
            std::vector<bool> touches(nx, false);
            children(row, [&](std::size_t below) {
                for (std::uint32_t n = fine.row_starts[below]; n < fine.row_starts[below + 1]; ++n)
                    kinds[row] |= std::uint64_t{1} << fine.cell_rows[n].kind;
                const auto count = static_cast<std::size_t>(fine.cells[0]);
                for (std::size_t i = 0; i < count; ++i)
                    if (cell_kind_[below * count + i] == 2) touches[i / 2] = true;
            });
            for (std::size_t i = 0; i < nx; ++i) {
                if (!touches[i]) continue;
                level.special_of[row * nx + i] = static_cast<std::int32_t>(level.special_cells.size());
                level.special_cells.push_back(static_cast<std::uint32_t>(row * nx + i));
            }
            if ((row + 1) % static_cast<std::size_t>(level.cells[1]) == 0)
                level.special_starts.push_back(level.special_cells.size());
        }
        make_rows(level, kinds);
        level.special.assign(level.special_cells.size() * 576, 0.0F);
        for (const std::uint32_t cell : level.special_cells)
            for (int a = 0; a < 8; ++a)
                level.special_places.push_back(level.place(corner(level, cell, a), 0, 3));
    }
#pragma omp parallel num_threads(options_.threads)
    {
        std::vector<float> sum(fine.stride);
#pragma omp for schedule(static)
        for (std::size_t row = 0; row < rows; ++row)
            for (std::uint32_t entry = level.row_starts[row]; entry < level.row_starts[row + 1]; ++entry) {
                std::fill(sum.begin(), sum.end(), 0.0F);
                children(row, [&](std::size_t below) {
                    for (std::uint32_t n = fine.row_starts[below]; n < fine.row_starts[below + 1]; ++n)
                        if (fine.cell_rows[n].kind == level.cell_rows[entry].kind)
                            for (std::size_t i = 0; i < fine.stride; ++i)
                                sum[i] += fine.cell_rows[n].scale[i];
                });
                auto* at = const_cast<float*>(level.cell_rows[entry].scale);
                // Stiffness grows with the size of a cell of the same shape: twice the mean.
                for (std::size_t i = 0; i < nx; ++i)
                    at[i] =
                        level.special_of[row * nx + i] >= 0 ? 0.0F : 0.25F * (sum[2 * i] + sum[2 * i + 1]);
            }
    }
#pragma omp parallel for num_threads(options_.threads) schedule(dynamic, 16)
    for (std::size_t n = 0; n < level.special_cells.size(); ++n) {
        const std::size_t cell = level.special_cells[n];
        first_matrix(static_cast<int>(cell % nx),
                     static_cast<int>(cell / nx % static_cast<std::size_t>(level.cells[1])),
                     static_cast<int>(cell / nx / static_cast<std::size_t>(level.cells[1])),
                     level.special.data() + n * 576);
    }
}

// The inverse of the diagonal of a level of box cells; zero at directions that are held.
void Multigrid::set_inverse(Level& level) {
    const bool fine = &level == levels_[0].get();
    const std::size_t stride = level.stride;
    const std::size_t length = level.length(3);
    if (level.inverse_diagonal.size() == 0) level.inverse_diagonal = Strip<float>(length + lanes);
    std::vector<std::array<float, 3>> diagonals; // the same at every corner of a cell
    for (const Eigen::MatrixXd& K : system_.kinds)
        diagonals.push_back(
            {static_cast<float>(K(0, 0)), static_cast<float>(K(1, 1)), static_cast<float>(K(2, 2))});
    float* all = level.inverse_diagonal.data();
#pragma omp parallel for num_threads(options_.threads) schedule(static)
    for (std::size_t row = 0; row < level.rows; ++row) {
        const int j = static_cast<int>(row) % level.nodes[1];
        const int k = static_cast<int>(row) / level.nodes[1];
        float* out = all + row * 3 * stride;
        std::fill_n(out, 3 * stride, 0.0F);
        for (int z = std::max(0, k - 1); z <= std::min(k, level.cells[2] - 1); ++z)
            for (int y = std::max(0, j - 1); y <= std::min(j, level.cells[1] - 1); ++y) {
                const std::size_t cells =
                    static_cast<std::size_t>(z) * static_cast<std::size_t>(level.cells[1]) +
                    static_cast<std::size_t>(y);
                for (std::uint32_t n = level.row_starts[cells]; n < level.row_starts[cells + 1]; ++n) {
                    const float* s = level.cell_rows[n].scale;
                    for (std::size_t c = 0; c < 3; ++c) {
                        const float d = diagonals[static_cast<std::size_t>(level.cell_rows[n].kind)][c];
                        float* to = out + c * stride;
                        to[0] += d * s[0];
                        for (std::size_t i = 1; i < stride; ++i) to[i] += d * (s[i] + s[i - 1]);
                    }
                }
            }
    }
    for (std::size_t n = 0; n < level.special_cells.size(); ++n)
        for (std::size_t a = 0; a < 8; ++a)
            for (std::size_t c = 0; c < 3; ++c)
                all[level.special_places[8 * n + a] + c * level.stride] +=
                    level.special[n * 576 + (a * 3 + c) * 25];
    if (fine) {
        for (const Slope& slope : slopes_) {
            float mean = 0.0F;
            for (std::size_t c = 0; c < 3; ++c) mean += all[level.place(slope.node, c, 3)] / 3.0F;
            for (std::size_t c = 0; c < 3; ++c) all[level.place(slope.node, c, 3)] = mean;
        }
        for (const std::size_t at : fixed_) all[at] = 0.0F;
    }
#pragma omp parallel for simd num_threads(options_.threads) schedule(static)
    for (std::size_t i = 0; i < length; ++i) all[i] = all[i] > 0.0F ? 1.0F / all[i] : 0.0F;
}

// Where the fine level has stencils: one where a direction may move, zero elsewhere.
void Multigrid::mark_free() {
    Level& fine = *levels_[0];
    const auto d = static_cast<std::size_t>(dimension_);
    for (std::size_t cell = 0; cell < cell_kind_.size(); ++cell)
        for (int a = 0; a < corners_ && cell_kind_[cell] != 0; ++a)
            for (std::size_t c = 0; c < d; ++c)
                fine.inverse_diagonal[place(corner(fine, cell, a) * d + c)] = 1.0F;
    for (const std::size_t at : fixed_) fine.inverse_diagonal[at] = 0.0F;
}

// Levels down to one that is cheap to factorise: few nodes, or few in use and far apart.
void Multigrid::choose_levels(const std::vector<double>& scale) {
    std::vector<std::uint8_t> solid(cell_kind_.size(), 0);
    for (std::size_t c = 0; c < solid.size(); ++c)
        solid[c] =
            system_.element_of[c] >= 0 && scale[static_cast<std::size_t>(system_.element_of[c])] > void_scale
                ? 1
                : 0;
    std::array<int, 3> cells = system_.cells;
    std::size_t l = 0;
    while (true) {
        ++l;
        std::array<int, 3> next{up_to_even(cells[0]), up_to_even(cells[1]),
                                dimension_ == 3 ? up_to_even(cells[2]) : 1};
        const auto at = [](const std::array<int, 3>& n, int i, int j, int k) {
            return (static_cast<std::size_t>(k) * static_cast<std::size_t>(n[1]) +
                    static_cast<std::size_t>(j)) *
                       static_cast<std::size_t>(n[0]) +
                   static_cast<std::size_t>(i);
        };
        std::vector<std::uint8_t> coarse(at(next, 0, 0, next[2]), 0);
        for (int k = 0; k < cells[2]; ++k)
            for (int j = 0; j < cells[1]; ++j)
                for (int i = 0; i < cells[0]; ++i)
                    coarse[at(next, i / 2, j / 2, dimension_ == 3 ? k / 2 : 0)] |= solid[at(cells, i, j, k)];
        const std::array<int, 3> nodes{next[0] + 1, next[1] + 1,
                                       dimension_ == 3 ? next[2] + (system_.ring ? 0 : 1) : 1};
        std::vector<std::uint8_t> used(at(nodes, 0, 0, nodes[2]), 0);
        for (int k = 0; k < next[2]; ++k)
            for (int j = 0; j < next[1]; ++j)
                for (int i = 0; i < next[0]; ++i) {
                    if (coarse[at(next, i, j, k)] == 0) continue;
                    for (int z = k; z <= (dimension_ == 3 ? k + 1 : k); ++z)
                        for (int y = j; y <= j + 1; ++y) {
                            const std::size_t n = at(nodes, i, y, z % nodes[2]);
                            used[n] = used[n + 1] = 1;
                        }
                }
        const auto in_use = static_cast<std::size_t>(std::count(used.begin(), used.end(), 1));
        if (l == 1) thick_nodes_ = in_use;
        if (levels_.size() <= l) {
            auto level = std::make_unique<Level>();
            level->cells = next;
            level->nodes = nodes;
            level->ring = system_.ring;
            level->stride = (static_cast<std::size_t>(nodes[0]) + lanes - 1) / lanes * lanes;
            level->rows = static_cast<std::size_t>(nodes[1]) * static_cast<std::size_t>(nodes[2]);
            levels_.push_back(std::move(level));
        }
        cells = next;
        solid = std::move(coarse);
        const bool sparse = static_cast<double>(in_use) < sparse_share * static_cast<double>(used.size()) &&
                            in_use < nodes_worth_asking;
        // A ring of few cells is no ring any more.
        const bool smallest =
            std::max({next[0], next[1], next[2]}) <= 2 || (system_.ring && next[2] <= cells_of_smallest_ring);
        // What lies below may have served another design.
        if (in_use <= options_.nodes_to_factorise || sparse || smallest) {
            levels_.resize(l + 1);
            return;
        }
    }
}

namespace {} // namespace

void Multigrid::build() {
    const std::size_t last = levels_.size() - 1;
    const std::size_t first = matrix_free_ ? std::min<std::size_t>(2, last) : 0; // with matrices
    levels_[0]->bound = bound_;
    if (first == 2) estimate(*levels_[1]);
    // Of thin members the first coarse level may be the last, and may never be asked for.
    late_ = matrix_free_ && last == 1;
    for (std::size_t l = first; l <= last && !late_; ++l) {
        build_level(l);
        if (l < last && l > 0) estimate(*levels_[l]);
    }
    factorised_ = false;
}

// Stencils of a level, and the matrices of the next one's cells.
void Multigrid::build_level(std::size_t l) {
    const std::size_t size = static_cast<std::size_t>(width_) * static_cast<std::size_t>(width_);
    const std::size_t last = levels_.size() - 1;
    Level& level = *levels_[l];
    if (l < last && level.beside.size() == 0) make_room(level);
    const std::size_t layer = level.layer_cells();
    const bool kept = !level.matrices.empty();
    // Matrices of the last level are kept for the factorisation; of others two layers are enough.
    std::vector<float> rolling;
    if (!kept) {
        if (l == last)
            level.matrices.assign(level.cell_count() * size, 0.0F);
        else
            rolling.resize((level.ring ? 3 : 2) * layer * size);
    }
    if (l < last) levels_[l + 1]->matrices.assign(levels_[l + 1]->cell_count() * size, 0.0F);
    const auto layer_at = [&](int k) {
        if (kept || l == last) return level.matrices.data() + static_cast<std::size_t>(k) * layer * size;
        // The first layer of a ring is wanted once more at its end.
        const int slot = level.ring && k == 0 ? 2 : k % 2;
        return rolling.data() + static_cast<std::size_t>(slot) * layer * size;
    };
    for (int k = 0; k < level.cells[2]; ++k) {
        if (!kept) make_matrices(l, k, layer_at(k));
        if (l == last) continue;
        if (k > 0 || !level.ring) gather_plane(level, k, k > 0 ? layer_at(k - 1) : nullptr, layer_at(k));
        if (k % 2 == 0 && k + 1 < level.cells[2]) continue;
        const int low = k - k % 2;
        add_children(l, k, layer_at(low), low < k ? layer_at(k) : nullptr);
    }
    if (l == last) return;
    if (level.ring)
        gather_plane(level, 0, layer_at(level.cells[2] - 1), layer_at(0));
    else if (dimension_ == 3)
        gather_plane(level, level.cells[2], layer_at(level.cells[2] - 1), nullptr);
    std::vector<float>().swap(level.matrices);
}

void Multigrid::make_room(Level& level) const {
    const auto neighbours = static_cast<std::size_t>(dimension_ == 3 ? 27 : 9);
    const auto blocks = static_cast<std::size_t>(dimension_ * dimension_);
    const std::size_t places = level.rows * level.stride;
    level.beside = Strip<char>(places * (neighbours - 1) * blocks *
                               static_cast<std::size_t>(kernels_.coefficient_bytes));
    level.scale = Strip<float>(places);
    level.diagonal = Strip<float>(places * blocks);
    level.inverse = Strip<float>(places * blocks);
}

// The matrices of layer k of a level's cells.
void Multigrid::make_matrices(std::size_t l, int k, float* here) const {
    const Level& level = *levels_[l];
    const std::size_t size = static_cast<std::size_t>(width_) * static_cast<std::size_t>(width_);
    const std::size_t layer = level.layer_cells();
#pragma omp parallel for num_threads(options_.threads) schedule(dynamic, 64)
    for (std::size_t c = 0; c < layer; ++c) {
        if (l > 0) {
            const int i = static_cast<int>(c % static_cast<std::size_t>(level.cells[0]));
            const int j = static_cast<int>(c / static_cast<std::size_t>(level.cells[0]));
            if (l == 1)
                first_matrix(i, j, k, here + c * size);
            else
                second_matrix(i, j, k, here + c * size);
            continue;
        }
        std::array<double, 576> own{};
        if (fine_matrix(static_cast<std::size_t>(k) * layer + c, own.data()))
            for (std::size_t n = 0; n < size; ++n) here[c * size + n] = static_cast<float>(own[n]);
        else
            std::fill_n(here + c * size, size, 0.0F);
    }
}

// A layer of the next level's cells from the two layers of its children (or the last one alone), of which k
// is the upper.
void Multigrid::add_children(std::size_t l, int k, const float* lower, const float* upper) {
    const Level& level = *levels_[l];
    Level& next = *levels_[l + 1];
    const std::size_t size = static_cast<std::size_t>(width_) * static_cast<std::size_t>(width_);
    const bool over = level.ring && upper == nullptr;
    float* to = next.matrices.data() + static_cast<std::size_t>(k / 2) * next.layer_cells() * size;
#pragma omp parallel for num_threads(options_.threads) schedule(static)
    for (std::size_t c = 0; c < next.layer_cells(); ++c) {
        const int x = 2 * static_cast<int>(c % static_cast<std::size_t>(next.cells[0]));
        const int y = 2 * static_cast<int>(c / static_cast<std::size_t>(next.cells[0]));
        for (int child = 0; child < corners_; ++child) {
            const int i = x + (child & 1);
            const int j = y + ((child >> 1) & 1);
            const float* layer = (child >> 2) == 0 ? lower : upper;
            if (i >= level.cells[0] || j >= level.cells[1] || layer == nullptr) continue;
            const float* from =
                layer + (static_cast<std::size_t>(j) * static_cast<std::size_t>(level.cells[0]) +
                         static_cast<std::size_t>(i)) *
                            size;
            const std::vector<float>& p = over ? over_interpolation_[static_cast<std::size_t>(child)]
                                               : interpolation_float_[static_cast<std::size_t>(child)];
            kernels_.add_child(dimension_, from, p.data(), to + c * size);
        }
    }
}

// The largest eigenvalue that the smoother sees: power iterations, and five percent for what they miss.
void Multigrid::estimate(Level& level) {
    std::size_t at = 0;
    while (levels_[at].get() != &level) ++at;
    make_room(1);
    Level::Work& work = level.work[0];
    const std::size_t length = level.length(dimension_);
    std::fill_n(work.b.data(), length, 0.0F);
    std::fill_n(work.x.data(), length, 0.0F);
    const auto nodes_x = static_cast<std::size_t>(level.nodes[0]);
    std::uint32_t seed = 12345;
    for (std::size_t strip = 0; strip < length / level.stride; ++strip)
        for (std::size_t i = 0; i < nodes_x; ++i) {
            seed = seed * 1664525U + 1013904223U;
            work.x[strip * level.stride + i] = static_cast<float>(seed >> 8) * (2.0F / 16777216.0F) - 1.0F;
        }
    double found = 1.0;
    double length_before = 0.0;
    std::vector<double> norms(level.rows);
    const std::size_t row_length = static_cast<std::size_t>(dimension_) * level.stride;
    for (int step = 0; step < 10; ++step) {
        // Vectors stay of about unit length: the last value goes into the step.
        const SweepVectors<float> v{work.x.data(), work.b.data(), work.r.data()};
        sweep(at, Sweep::Step, &v, 1, factors_of(0.0, 1.0 / found));
#pragma omp parallel for num_threads(options_.threads) schedule(static)
        for (std::size_t row = 0; row < level.rows; ++row) {
            double sum = 0.0;
            const float* z = work.r.data() + row * row_length;
#pragma omp simd reduction(+ : sum)
            for (std::size_t i = 0; i < row_length; ++i)
                sum += static_cast<double>(z[i]) * static_cast<double>(z[i]);
            norms[row] = sum;
        }
        const double norm = std::sqrt(sum_of(norms));
        if (!(norm > 0.0)) break;
        // The first vector was not of unit length.
        const double grown = step == 0 ? 1.0 : norm / length_before;
        length_before = norm;
        if (step > 0) found *= grown;
        std::swap(work.x, work.r);
    }
    level.bound = 1.05 * found;
    if (level.box) level.bound = std::max(level.bound, bound_);
}

} // namespace upright::grid
