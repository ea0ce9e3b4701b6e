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

namespace {

// Of a 3 x 3 (2 x 2) block: what has hardly any stiffness is left out.
void invert_block(const double* block, int d, double* out) {
    using Small = Eigen::Matrix<double, Eigen::Dynamic, Eigen::Dynamic, Eigen::RowMajor, 3, 3>;
    const Small m = Eigen::Map<const Small>(block, d, d);
    Eigen::Map<Small> inverse(out, d, d);
    inverse.setZero();
    if (m.trace() <= 0.0) return;
    // Usually well conditioned: the plain inverse.
    const Small plain = m.inverse();
    if (plain.allFinite() && plain.trace() * m.trace() < 1e3 && plain.diagonal().minCoeff() > 0.0) {
        inverse = plain;
        return;
    }
    const Eigen::SelfAdjointEigenSolver<Eigen::MatrixXd> eigen{Eigen::MatrixXd(m)};
    const double most = eigen.eigenvalues().maxCoeff();
    for (int i = 0; i < d; ++i)
        if (eigen.eigenvalues()[i] > 1e-3 * most)
            inverse += Small(eigen.eigenvectors().col(i) * eigen.eigenvectors().col(i).transpose() /
                             eigen.eigenvalues()[i]);
}

} // namespace

namespace {

// The 2 d values of two corners.
inline void add_pair(int d, const float* from, float* to) {
    if (d == 3)
        for (int i = 0; i < 6; ++i) to[i] += from[i];
    else
        for (int i = 0; i < 4; ++i) to[i] += from[i];
}

} // namespace

// The stencils of one plane of nodes, from the matrices of the cells below and above it.
void Multigrid::gather_plane(Level& level, int k, const float* below, const float* above) {
    const int d = dimension_;
    const int neighbours = d == 3 ? 27 : 9;
    const int middle = neighbours / 2;
    const auto blocks = static_cast<std::size_t>(d * d);
    const std::size_t chunks = level.stride / lanes;
    const std::size_t size = static_cast<std::size_t>(width_) * static_cast<std::size_t>(width_);
#pragma omp parallel num_threads(options_.threads)
    {
        std::vector<float> sums(static_cast<std::size_t>(neighbours) * blocks * lanes);
        std::vector<float> packed(sums.size());
        // By component, neighbour, component of the neighbour: neighbours along x stand side by side, as the
        // corners do in a row of a cell's matrix.
        std::vector<float> local(sums.size() / lanes + 8);
        std::array<std::size_t, 32> neighbour_of{}; // by own corner and the first of two others
        for (int a = 0; a < corners_; ++a)
            for (int b = 0; b < corners_; b += 2) {
                int at = 0;
                for (int axis = d - 1; axis >= 0; --axis)
                    at = 3 * at + 1 + ((b >> axis) & 1) - ((a >> axis) & 1);
                neighbour_of[static_cast<std::size_t>(a * 4 + b / 2)] = static_cast<std::size_t>(at);
            }
#pragma omp for schedule(static)
        for (int j = 0; j < level.nodes[1]; ++j) {
            const std::size_t row = static_cast<std::size_t>(k) * static_cast<std::size_t>(level.nodes[1]) +
                                    static_cast<std::size_t>(j);
            for (std::size_t chunk = 0; chunk < chunks; ++chunk) {
                std::fill(sums.begin(), sums.end(), 0.0F);
                for (int lane = 0; lane < lanes; ++lane) {
                    const int i = static_cast<int>(chunk) * lanes + lane;
                    if (i >= level.nodes[0]) break;
                    std::fill(local.begin(), local.end(), 0.0F);
                    for (int a = 0; a < corners_; ++a) {
                        const int x = i - (a & 1);
                        const int y = j - ((a >> 1) & 1);
                        const float* layer = d == 3 && (a >> 2) == 1 ? below : above;
                        if (layer == nullptr || x < 0 || y < 0 || x >= level.cells[0] || y >= level.cells[1])
                            continue;
                        const float* m =
                            layer + (static_cast<std::size_t>(y) * static_cast<std::size_t>(level.cells[0]) +
                                     static_cast<std::size_t>(x)) *
                                        size;
                        for (int c = 0; c < d; ++c) {
                            const float* from = m + (a * d + c) * width_;
                            float* to = local.data() + c * neighbours * d;
                            for (int pair = 0; pair < corners_ / 2; ++pair)
                                add_pair(d, from + 2 * pair * d,
                                         to + neighbour_of[static_cast<std::size_t>(a * 4 + pair)] *
                                                  static_cast<std::size_t>(d));
                        }
                    }
                    const float* of = local.data();
                    for (int c = 0; c < d; ++c)
                        for (int n = 0; n < neighbours; ++n)
                            for (int e = 0; e < d; ++e)
                                sums[static_cast<std::size_t>(((n * d + c) * d + e) * lanes + lane)] = *of++;
                }
                // Scale each node's row by a power of two, so that half precision does.
                const std::size_t place = row * chunks + chunk;
                std::array<float, lanes> factor{};
                std::array<float, lanes> most{};
                for (std::size_t n = 0; n < sums.size(); n += lanes)
                    for (std::size_t lane = 0; lane < lanes; ++lane)
                        most[lane] = std::max(most[lane], std::abs(sums[n + lane]));
                for (std::size_t lane = 0; lane < lanes; ++lane) {
                    factor[lane] =
                        most[lane] > 0.0F ? std::exp2(std::floor(std::log2(1024.0F / most[lane]))) : 0.0F;
                    level.scale[row * level.stride + chunk * lanes + lane] =
                        most[lane] > 0.0F ? 1.0F / factor[lane] : 0.0F;
                }
                std::size_t at = 0;
                for (int n = 0; n < neighbours; ++n) {
                    if (n == middle) continue;
                    for (std::size_t b = 0; b < blocks * lanes; ++b, ++at)
                        packed[at] =
                            sums[static_cast<std::size_t>(n) * blocks * lanes + b] * factor[b % lanes];
                }
                char* to =
                    level.beside.data() + place * at * static_cast<std::size_t>(kernels_.coefficient_bytes);
                kernels_.pack(packed.data(), to, at);
                kernels_.unpack(to, packed.data(), at);
                // Rounding must not make translations cost energy: what the others lost goes to the middle.
                std::array<float, 9 * lanes> middle_blocks{};
                for (std::size_t b = 0; b < blocks * lanes; ++b) {
                    float lost = 0.0F;
                    for (std::size_t n = 0, p = 0; n < static_cast<std::size_t>(neighbours); ++n) {
                        if (n == static_cast<std::size_t>(middle)) continue;
                        lost +=
                            sums[n * blocks * lanes + b] * factor[b % lanes] - packed[p * blocks * lanes + b];
                        ++p;
                    }
                    const float f = factor[b % lanes];
                    middle_blocks[b] = sums[static_cast<std::size_t>(middle) * blocks * lanes + b] +
                                       (f > 0.0F ? lost / f : 0.0F);
                }
                for (int lane = 0; lane < lanes; ++lane) {
                    std::array<double, 9> block{};
                    for (std::size_t b = 0; b < blocks; ++b)
                        block[b] =
                            static_cast<double>(middle_blocks[b * lanes + static_cast<std::size_t>(lane)]);
                    for (int c = 0; c < d; ++c)
                        for (int e = 0; e < c; ++e) {
                            const auto one = static_cast<std::size_t>(c * d + e);
                            const auto two = static_cast<std::size_t>(e * d + c);
                            block[one] = block[two] = 0.5 * (block[one] + block[two]);
                        }
                    // A held direction has no stiffness and gets none.
                    for (int c = 0; c < d; ++c) {
                        const std::size_t own = (static_cast<std::size_t>(middle) * blocks +
                                                 static_cast<std::size_t>(c * d + c)) *
                                                    lanes +
                                                static_cast<std::size_t>(lane);
                        if (sums[own] > 0.0F) continue;
                        for (int e = 0; e < d; ++e)
                            block[static_cast<std::size_t>(c * d + e)] =
                                block[static_cast<std::size_t>(e * d + c)] = 0.0;
                    }
                    std::array<double, 9> inverse{};
                    invert_block(block.data(), d, inverse.data());
                    for (std::size_t b = 0; b < blocks; ++b) {
                        const std::size_t own =
                            place * blocks * lanes + b * lanes + static_cast<std::size_t>(lane);
                        level.diagonal[own] = static_cast<float>(block[b]);
                        level.inverse[own] = static_cast<float>(inverse[b]);
                    }
                }
            }
        }
    }
}

void Multigrid::build() {
    const std::size_t size = static_cast<std::size_t>(width_) * static_cast<std::size_t>(width_);
    const std::size_t last = levels_.size() - 1;
    const std::size_t first = matrix_free_ ? std::min<std::size_t>(2, last) : 0; // with matrices
    levels_[0]->bound = bound_;
    if (first == 2) estimate(*levels_[1]);
    // Of thin members the first coarse level may be the last, and may never be asked for.
    late_ = matrix_free_ && last == 1;
    for (std::size_t l = first; l <= last && !late_; ++l) {
        Level& level = *levels_[l];
        if (l < last && level.beside.size() == 0) {
            const auto neighbours = static_cast<std::size_t>(dimension_ == 3 ? 27 : 9);
            const auto blocks = static_cast<std::size_t>(dimension_ * dimension_);
            const std::size_t places = level.rows * level.stride;
            level.beside = Strip<char>(places * (neighbours - 1) * blocks *
                                       static_cast<std::size_t>(kernels_.coefficient_bytes));
            level.scale = Strip<float>(places);
            level.diagonal = Strip<float>(places * blocks);
            level.inverse = Strip<float>(places * blocks);
        }
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
            float* here = layer_at(k);
            if (!kept) {
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
                        for (std::size_t n = 0; n < size; ++n)
                            here[c * size + n] = static_cast<float>(own[n]);
                    else
                        std::fill_n(here + c * size, size, 0.0F);
                }
            }
            if (l == last) continue;
            if (k > 0 || !level.ring) gather_plane(level, k, k > 0 ? layer_at(k - 1) : nullptr, here);
            Level& next = *levels_[l + 1];
            if (k % 2 == 0 && k + 1 < level.cells[2]) continue;
            const int low = k - k % 2;
            const bool over = level.ring && low == k;
            float* to = next.matrices.data() + static_cast<std::size_t>(k / 2) * next.layer_cells() * size;
#pragma omp parallel for num_threads(options_.threads) schedule(static)
            for (std::size_t c = 0; c < next.layer_cells(); ++c) {
                const int x = 2 * static_cast<int>(c % static_cast<std::size_t>(next.cells[0]));
                const int y = 2 * static_cast<int>(c / static_cast<std::size_t>(next.cells[0]));
                for (int child = 0; child < corners_; ++child) {
                    const int i = x + (child & 1);
                    const int j = y + ((child >> 1) & 1);
                    const int z = low + (child >> 2);
                    if (i >= level.cells[0] || j >= level.cells[1] || z > k) continue;
                    const float* from = layer_at(z) + (static_cast<std::size_t>(j) *
                                                           static_cast<std::size_t>(level.cells[0]) +
                                                       static_cast<std::size_t>(i)) *
                                                          size;
                    const std::vector<float>& p = over
                                                      ? over_interpolation_[static_cast<std::size_t>(child)]
                                                      : interpolation_float_[static_cast<std::size_t>(child)];
                    kernels_.add_child(dimension_, from, p.data(), to + c * size);
                }
            }
        }
        if (l < last) {
            if (level.ring)
                gather_plane(level, 0, layer_at(level.cells[2] - 1), layer_at(0));
            else if (dimension_ == 3)
                gather_plane(level, level.cells[2], layer_at(level.cells[2] - 1), nullptr);
            std::vector<float>().swap(level.matrices);
            if (l > 0) estimate(level);
        }
    }
    factorised_ = false;
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
