#include "solve/grid/multigrid.hpp"

#include "base/error.hpp"
#include "solve/chebyshev.hpp"
#include "solve/dissection.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <deque>
#include <omp.h>

namespace upright::grid {

namespace {

int thread_number() {
    return omp_get_thread_num();
}

SweepFactors factors_of(double c0, double c1) {
    return {static_cast<float>(c0), static_cast<float>(c1)};
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

constexpr std::size_t nodes_worth_asking = 40000;
constexpr double sparse_share = 0.35; // of a level's nodes in use, below which asking may pay
constexpr double flops_to_factorise = 2e10;
constexpr double thin_share = 0.25; // of a block's nodes, in thin members
// What a cycle with its product takes, and what factorising thin members does (docs/performance.md). Times
// are guessed from counts, so that they are the same in every run.
constexpr double cycle_seconds = 2.8e-8;   // an unknown of the block
constexpr double around_seconds = 2.0e-7;  // an unknown of the block: the levels of the voids
constexpr double unknown_seconds = 8.0e-6; // an unknown of the members
constexpr double factor_seconds = 4.0e-10; // an operation
constexpr double void_scale = 1e-7;        // cells of less scale do not count as material here
constexpr double coarse_shift = 1e-6;
constexpr int cells_of_smallest_ring = 8;

int up_to_even(int cells) {
    return (cells + 1) / 2;
}

} // namespace

struct Multigrid::Level {
    std::array<int, 3> cells{};
    std::array<int, 3> nodes{};
    bool ring = false; // along the last axis
    std::size_t stride = 0;
    std::size_t rows = 0; // of nodes
    bool box = false;     // cells without stencils
    // Of box cells: their scales by row and kind, and the inverse of the diagonal beside the vectors.
    Strip<float> cell_scale;              // rows of cells
    std::vector<Strip<float>> more_scale; // more rows, where kinds meet in one row
    std::vector<std::uint32_t> row_starts;
    std::vector<CellRow> cell_rows;
    Strip<float> inverse_diagonal;
    // Cells with matrices of their own, by layers: those that touch held directions below the fine level.
    std::vector<std::int32_t> special_of; // for each cell, -1: none
    std::vector<std::size_t> special_starts;
    std::vector<std::uint32_t> special_cells;
    std::vector<float> special;
    // Of stencils.
    Strip<char> beside;
    Strip<float> scale, diagonal, inverse;
    double bound = 2.0; // of the spectrum that the smoother sees
    struct Work {
        Strip<float> b, x, r;
    };
    std::vector<Work> work;      // one a right-hand side
    bool fine = false;           // right-hand sides share r
    std::vector<float> matrices; // of every cell, where they are kept while building

    // A plane of nodes by its number, which may be one beyond the ends of a ring; -1: there is none.
    int plane(int k) const {
        if (k >= 0 && k < nodes[2]) return k;
        return ring ? (k + nodes[2]) % nodes[2] : -1;
    }
    Strip<float>& residual(int slot) { return work[fine ? 0 : static_cast<std::size_t>(slot)].r; }
    std::size_t cell_count() const {
        return static_cast<std::size_t>(cells[0]) * static_cast<std::size_t>(cells[1]) *
               static_cast<std::size_t>(cells[2]);
    }
    std::size_t node_count() const { return rows * static_cast<std::size_t>(nodes[0]); }
    std::size_t layer_cells() const {
        return static_cast<std::size_t>(cells[0]) * static_cast<std::size_t>(cells[1]);
    }
};

struct Multigrid::Coarsest {
    ElementSystem system;
    std::deque<Eigen::MatrixXd> matrices;
    std::vector<std::int32_t> unknown_of; // by node * dimension + component
    std::vector<double> jacobi;           // 1 / diagonal where too little is there to factorise
    std::vector<std::uint8_t> pattern;    // what the symbolic analysis was made for
    std::unique_ptr<LinearSolver> solver;
    Eigen::MatrixXd loads;
};

// The material of the fine level, factorised with the voids around it taken away; and a multigrid for the
// voids with the material held, so that its coarse levels end at the members.
struct Multigrid::Exact {
    ElementSystem system;
    std::vector<std::size_t> places; // of the unknowns in fine vectors
    std::unique_ptr<LinearSolver> solver;
    GridSystem void_system;
    std::unique_ptr<Multigrid> voids;
    double void_stiffness = 1.0; // the unit of the voids' scales
};

Multigrid::~Multigrid() = default;

Multigrid::Multigrid(const GridSystem& system, const MultigridOptions& options)
    : system_(system), options_(options), kernels_(options.kernels == nullptr ? kernels() : *options.kernels),
      dimension_(system.dimension), corners_(1 << system.dimension), width_(corners_ * system.dimension) {
    auto fine = std::make_unique<Level>();
    fine->cells = system.cells;
    for (int a = 0; a < 3; ++a) fine->nodes[static_cast<std::size_t>(a)] = system.nodes(a);
    fine->ring = system.ring;
    fine->stride = (static_cast<std::size_t>(fine->nodes[0]) + lanes - 1) / lanes * lanes;
    fine->rows = static_cast<std::size_t>(fine->nodes[1]) * static_cast<std::size_t>(fine->nodes[2]);
    length_ = fine->rows * static_cast<std::size_t>(dimension_) * fine->stride + lanes;
    for (int child = 0; child < corners_; ++child) {
        Eigen::MatrixXd& p = interpolation_[static_cast<std::size_t>(child)];
        p = Eigen::MatrixXd::Ones(corners_, corners_);
        for (int f = 0; f < corners_; ++f)
            for (int c = 0; c < corners_; ++c)
                for (int axis = 0; axis < dimension_; ++axis) {
                    const double at = 0.5 * (((child >> axis) & 1) + ((f >> axis) & 1));
                    p(f, c) *= ((c >> axis) & 1) != 0 ? at : 1.0 - at;
                }
        for (int f = 0; f < corners_; ++f)
            for (int c = 0; c < corners_; ++c)
                interpolation_float_[static_cast<std::size_t>(child)].push_back(static_cast<float>(p(f, c)));
        if (child >= 4) continue;
        for (int f = 0; f < corners_; ++f)
            for (int c = 0; c < corners_; ++c) {
                double w = (f >> 2) == (c >> 2) ? 1.0 : 0.0;
                for (int axis = 0; axis < 2; ++axis) {
                    const double at = 0.5 * (((child >> axis) & 1) + ((f >> axis) & 1));
                    w *= ((c >> axis) & 1) != 0 ? at : 1.0 - at;
                }
                over_interpolation_[static_cast<std::size_t>(child)].push_back(static_cast<float>(w));
            }
    }
    for (const Eigen::MatrixXd& K : system.kinds) {
        std::array<Eigen::MatrixXf, 8> of_child;
        for (int child = 0; child < corners_; ++child) {
            Eigen::MatrixXd P = Eigen::MatrixXd::Zero(width_, width_);
            const Eigen::MatrixXd& p = interpolation_[static_cast<std::size_t>(child)];
            for (int f = 0; f < corners_; ++f)
                for (int c = 0; c < corners_; ++c)
                    for (int d = 0; d < dimension_; ++d) P(f * dimension_ + d, c * dimension_ + d) = p(f, c);
            of_child[static_cast<std::size_t>(child)] = (P.transpose() * K * P).cast<float>();
        }
        child_.push_back(std::move(of_child));
    }
    find_blocks();
    find_bound();
    find_grandchildren();
    fine->box = matrix_free_;
    fine->fine = true;
    levels_.push_back(std::move(fine));
    mark_nodes();
    if (!matrix_free_) {
        levels_[0]->inverse_diagonal = Strip<float>(length_);
        mark_free();
    }
    dots_.assign(levels_[0]->rows, 0.0);
    scratch_.resize(static_cast<std::size_t>(std::max(1, options_.threads)));
}

// What no eigenvalue of S A on the fine level exceeds, whatever the scales: the largest that a cell's own
// matrix has against its own (block) diagonal. An estimate from below would leave directions to which the
// cycle is blind, and conjugate gradients would stop without them.
void Multigrid::find_bound() {
    for (const Eigen::MatrixXd& K : system_.kinds) {
        Eigen::MatrixXd diagonal = Eigen::MatrixXd::Zero(width_, width_);
        const int block = matrix_free_ ? 1 : dimension_;
        for (int i = 0; i < width_; i += block)
            diagonal.block(i, i, block, block) = K.block(i, i, block, block);
        const Eigen::GeneralizedSelfAdjointEigenSolver<Eigen::MatrixXd> eigen(K, diagonal,
                                                                              Eigen::EigenvaluesOnly);
        bound_ = std::max(bound_, eigen.eigenvalues().maxCoeff());
    }
}

// The blocks of B = H K H' / 64, where K parts into them; the system is served by stencils otherwise.
void Multigrid::find_blocks() {
    matrix_free_ = dimension_ == 3 && !system_.ring && system_.turn_of.empty();
    if (!matrix_free_) return;
    for (const Eigen::MatrixXd& K : system_.kinds) {
        Eigen::MatrixXd H = Eigen::MatrixXd::Zero(24, 24);
        for (int p = 0; p < 8; ++p)
            for (int a = 0; a < 8; ++a)
                for (int c = 0; c < 3; ++c) {
                    double sign = 1.0;
                    for (int axis = 0; axis < 3; ++axis)
                        if (((p >> axis) & 1) != 0 && ((a >> axis) & 1) == 0) sign = -sign;
                    H(p * 3 + c, a * 3 + c) = sign;
                }
        const Eigen::MatrixXd B = H * K * H.transpose() / 64.0;
        Eigen::MatrixXd rest = B;
        constexpr std::array<int, 3> axis{0, 2, 1}; // of the kernels' components
        for (int block = 0; block < 8; ++block)
            for (std::size_t r = 0; r < 3; ++r)
                for (std::size_t c = 0; c < 3; ++c) {
                    const int own = (block & 1) | (block & 2) << 1 | (block & 4) >> 1;
                    const int row = (own ^ (1 << axis[r])) * 3 + axis[r];
                    const int column = (own ^ (1 << axis[c])) * 3 + axis[c];
                    blocks_double_.push_back(B(row, column));
                    if (!block_entry(block, static_cast<int>(r), static_cast<int>(c)) &&
                        std::abs(rest(row, column)) > 1e-11 * B.cwiseAbs().maxCoeff())
                        full_blocks_ = true;
                    rest(row, column) = 0.0;
                }
        if (rest.cwiseAbs().maxCoeff() > 1e-11 * B.cwiseAbs().maxCoeff()) matrix_free_ = false;
    }
    blocks_float_.assign(blocks_double_.begin(), blocks_double_.end());
}

std::size_t Multigrid::place(std::size_t freedom) const {
    const auto d = static_cast<std::size_t>(dimension_);
    const auto nx = static_cast<std::size_t>(levels_[0]->nodes[0]);
    const std::size_t node = freedom / d;
    return (node / nx * d + freedom % d) * levels_[0]->stride + node % nx;
}

std::size_t Multigrid::corner(const Level& level, std::size_t cell, int a) const {
    const auto nx = static_cast<std::size_t>(level.cells[0]);
    const auto ny = static_cast<std::size_t>(level.cells[1]);
    const std::size_t i = cell % nx + static_cast<std::size_t>(a & 1);
    const std::size_t j = cell / nx % ny + static_cast<std::size_t>((a >> 1) & 1);
    std::size_t k = cell / nx / ny + static_cast<std::size_t>(a >> 2);
    if (level.ring && k == static_cast<std::size_t>(level.nodes[2])) k = 0;
    return (k * (ny + 1) + j) * (nx + 1) + i;
}

// Calls with each row of cells that touches a row of nodes.
template <class Call>
void Multigrid::rows_beside_nodes(const Level& level, std::size_t row, Call&& call) const {
    const int j = static_cast<int>(row) % level.nodes[1];
    const int k = static_cast<int>(row) / level.nodes[1];
    for (int z = dimension_ == 3 ? k - 1 : 0; z <= (dimension_ == 3 ? k : 0); ++z)
        for (int y = std::max(0, j - 1); y <= std::min(j, level.cells[1] - 1); ++y) {
            const int layer = level.ring && z < 0 ? level.cells[2] - 1 : z;
            if (layer < 0 || layer >= level.cells[2]) continue;
            call(static_cast<std::size_t>(layer) * static_cast<std::size_t>(level.cells[1]) +
                 static_cast<std::size_t>(y));
        }
}

void Multigrid::mark_nodes() {
    const Level& fine = *levels_[0];
    const auto d = static_cast<std::size_t>(dimension_);
    const std::size_t count = system_.lattice_nodes();
    mask_.assign(count, 0);
    const auto nodes_x = static_cast<std::size_t>(fine.nodes[0]);
    const auto cells_x = static_cast<std::size_t>(fine.cells[0]);
#pragma omp parallel num_threads(options_.threads)
    {
        std::vector<std::uint8_t> used(nodes_x);
#pragma omp for schedule(static)
        for (std::size_t row = 0; row < fine.rows; ++row) {
            std::fill(used.begin(), used.end(), std::uint8_t{0});
            rows_beside_nodes(fine, row, [&](std::size_t cells) {
                const std::int32_t* elements = system_.element_of.data() + cells * cells_x;
                for (std::size_t i = 0; i < cells_x; ++i) {
                    const std::uint8_t there = elements[i] >= 0 ? 1 : 0;
                    used[i] |= there;
                    used[i + 1] |= there;
                }
            });
            for (std::size_t i = 0; i < nodes_x; ++i)
                for (std::size_t c = 0; c < d && used[i] != 0; ++c)
                    if (system_.unknown_of[(row * nodes_x + i) * d + c] < 0)
                        mask_[row * nodes_x + i] |= static_cast<std::uint8_t>(1U << c);
        }
    }
    for (std::size_t at = 0; at < system_.dependents.size(); ++at) {
        const std::size_t node = system_.dependents[at] / d;
        bool near = true;
        for (std::size_t s = system_.starts[at]; s < system_.starts[at + 1]; ++s) {
            bool here = false;
            for (std::size_t c = 0; c < d; ++c)
                here = here || system_.unknown_of[node * d + c] == system_.shares[s].unknown;
            near = near && here;
        }
        if (!near) {
            far_.push_back(at);
            continue;
        }
        if (slopes_.empty() || slopes_.back().node != node)
            slopes_.push_back({node, Eigen::Matrix3d::Zero()});
    }
    for (Slope& slope : slopes_) {
        // The columns of the node's own transform, then the projector on their range.
        Eigen::Matrix3d T = Eigen::Matrix3d::Zero();
        for (std::size_t c = 0; c < d; ++c)
            if (system_.unknown_of[slope.node * d + c] >= 0)
                T(static_cast<Eigen::Index>(c), static_cast<Eigen::Index>(c)) = 1.0;
        const auto first =
            std::lower_bound(system_.dependents.begin(), system_.dependents.end(), slope.node * d) -
            system_.dependents.begin();
        for (auto at = static_cast<std::size_t>(first);
             at < system_.dependents.size() && system_.dependents[at] / d == slope.node; ++at) {
            if (std::binary_search(far_.begin(), far_.end(), at)) continue;
            for (std::size_t s = system_.starts[at]; s < system_.starts[at + 1]; ++s)
                for (std::size_t c = 0; c < d; ++c)
                    if (system_.unknown_of[slope.node * d + c] == system_.shares[s].unknown)
                        T(static_cast<Eigen::Index>(system_.dependents[at] % d),
                          static_cast<Eigen::Index>(c)) = system_.shares[s].factor;
        }
        slope.onto =
            T * (T.transpose() * T).completeOrthogonalDecomposition().pseudoInverse() * T.transpose();
        mask_[slope.node] |= 8U;
        slope_at_.push_back(static_cast<std::int32_t>(slope.node));
    }
    for (std::size_t n = 0; n < count; ++n)
        if (mask_[n] != 0 && mask_[n] < 8)
            for (std::size_t c = 0; c < d; ++c)
                if ((mask_[n] & (1U << c)) != 0) fixed_.push_back(place(n * d + c));
    cell_kind_.assign(system_.element_of.size(), 0);
    for (std::size_t c = 0; c < cell_kind_.size(); ++c) cell_kind_[c] = system_.element_of[c] >= 0 ? 1 : 0;
    for (std::size_t n = 0; n < count; ++n) {
        if (mask_[n] == 0) continue;
        rows_beside_nodes(fine, n / nodes_x, [&](std::size_t cells) {
            const std::size_t i = n % nodes_x;
            for (std::size_t x = i == 0 ? 0 : i - 1; x <= i && x < cells_x; ++x)
                if (cell_kind_[cells * cells_x + x] != 0) cell_kind_[cells * cells_x + x] = 2;
        });
    }
}

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

bool Multigrid::fine_matrix(std::size_t cell, double* out) const {
    const std::int32_t e = system_.element_of[cell];
    if (e < 0) return false;
    const double s = (*element_scale_)[static_cast<std::size_t>(e)];
    if (s == 0.0) return false;
    const Eigen::MatrixXd& K = system_.kinds[system_.kind_of[static_cast<std::size_t>(e)]];
    Eigen::Map<Eigen::MatrixXd> M(out, width_, width_);
    M = s * K;
    if (const Eigen::Matrix3d* R = turn(static_cast<std::size_t>(e))) {
        for (int a = 0; a < width_; a += 3) M.middleRows<3>(a) = (*R * M.middleRows<3>(a)).eval();
        for (int a = 0; a < width_; a += 3) M.middleCols<3>(a) = (M.middleCols<3>(a) * R->transpose()).eval();
    }
    if (cell_kind_[cell] != 2) return true;
    for (int a = 0; a < corners_; ++a) {
        const std::size_t n = corner(*levels_[0], cell, a);
        const std::uint8_t mask = mask_[n];
        if (mask == 0) continue;
        Eigen::MatrixXd onto = Eigen::MatrixXd::Identity(dimension_, dimension_);
        if ((mask & 8U) != 0) {
            const auto at =
                std::lower_bound(slope_at_.begin(), slope_at_.end(), static_cast<std::int32_t>(n));
            onto = slopes_[static_cast<std::size_t>(at - slope_at_.begin())].onto.topLeftCorner(dimension_,
                                                                                                dimension_);
        } else {
            for (int c = 0; c < dimension_; ++c)
                if ((mask & (1U << c)) != 0) onto(c, c) = 0.0;
        }
        M.middleRows(a * dimension_, dimension_) = (onto * M.middleRows(a * dimension_, dimension_)).eval();
        M.middleCols(a * dimension_, dimension_) = (M.middleCols(a * dimension_, dimension_) * onto).eval();
    }
    return true;
}

bool Multigrid::first_matrix(int i, int j, int k, float* out) const {
    const std::size_t size = static_cast<std::size_t>(width_) * static_cast<std::size_t>(width_);
    std::fill_n(out, size, 0.0F);
    const Level& fine = *levels_[0];
    bool any = false;
    std::array<double, 576> masked{};
    std::array<float, 576> masked_float{};
    for (int child = 0; child < corners_; ++child) {
        const int x = 2 * i + (child & 1);
        const int y = 2 * j + ((child >> 1) & 1);
        const int z = dimension_ == 3 ? 2 * k + (child >> 2) : 0;
        if (x >= fine.cells[0] || y >= fine.cells[1] || z >= fine.cells[2]) continue;
        const std::size_t cell = (static_cast<std::size_t>(z) * static_cast<std::size_t>(fine.cells[1]) +
                                  static_cast<std::size_t>(y)) *
                                     static_cast<std::size_t>(fine.cells[0]) +
                                 static_cast<std::size_t>(x);
        const std::int32_t e = system_.element_of[cell];
        if (e < 0) continue;
        any = true;
        if (cell_kind_[cell] == 2) {
            if (!fine_matrix(cell, masked.data())) continue;
            for (std::size_t n = 0; n < size; ++n) masked_float[n] = static_cast<float>(masked[n]);
            const std::vector<float>& p = interpolation_float_[static_cast<std::size_t>(child)];
            kernels_.add_child(dimension_, masked_float.data(), p.data(), out);
            continue;
        }
        const auto s = static_cast<float>((*element_scale_)[static_cast<std::size_t>(e)]);
        const float* m =
            child_[system_.kind_of[static_cast<std::size_t>(e)]][static_cast<std::size_t>(child)].data();
        kernels_.add_scaled(s, m, out, size);
    }
    return any;
}

// P' K P over two levels, for box cells whose second coarse level is made at once.
void Multigrid::find_grandchildren() {
    if (!matrix_free_) return;
    for (const Eigen::MatrixXd& K : system_.kinds) {
        std::vector<Eigen::MatrixXf> all;
        for (int child = 0; child < 8; ++child)
            for (int grand = 0; grand < 8; ++grand) {
                const Eigen::MatrixXd p = interpolation_[static_cast<std::size_t>(grand)] *
                                          interpolation_[static_cast<std::size_t>(child)];
                Eigen::MatrixXd P = Eigen::MatrixXd::Zero(24, 24);
                for (int f = 0; f < 8; ++f)
                    for (int c = 0; c < 8; ++c)
                        for (int d = 0; d < 3; ++d) P(f * 3 + d, c * 3 + d) = p(f, c);
                all.emplace_back((P.transpose() * K * P).cast<float>());
            }
        grandchild_.push_back(std::move(all));
    }
}

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
    const std::size_t length = level.rows * 3 * stride;
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
    const auto place_of = [&](std::size_t node, std::size_t c) {
        const auto nx = static_cast<std::size_t>(level.nodes[0]);
        return (node / nx * 3 + c) * stride + node % nx;
    };
    for (std::size_t n = 0; n < level.special_cells.size(); ++n)
        for (int a = 0; a < 8; ++a)
            for (std::size_t c = 0; c < 3; ++c)
                all[place_of(corner(level, level.special_cells[n], a), c)] +=
                    level.special[n * 576 + (static_cast<std::size_t>(a) * 3 + c) * 25];
    if (fine) {
        for (const Slope& slope : slopes_) {
            float mean = 0.0F;
            for (std::size_t c = 0; c < 3; ++c) mean += all[place_of(slope.node, c)] / 3.0F;
            for (std::size_t c = 0; c < 3; ++c) all[place_of(slope.node, c)] = mean;
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
        Level shape;
        shape.cells = next;
        shape.nodes = nodes;
        shape.ring = system_.ring;
        std::vector<std::uint8_t> used(at(nodes, 0, 0, nodes[2]), 0);
        for (std::size_t c = 0; c < coarse.size(); ++c)
            for (int a = 0; a < corners_ && coarse[c] != 0; ++a) used[corner(shape, c, a)] = 1;
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

void Multigrid::take(const std::vector<double>& scale) {
    if (!matrix_free_) general_scale_ = scale;
    set_scales(scale);
}

void Multigrid::update(const std::vector<double>& scale) {
    element_scale_ = &scale;
    exact_.reset();
    take(scale);
    choose_levels(scale);
    if (matrix_free_) {
        set_inverse(*levels_[0]);
        if (levels_.size() > 2) {
            average();
            set_inverse(*levels_[1]);
        }
    }
    build();
    element_scale_ = nullptr;
    last_scale_.clear();
    if (may_strengthen()) last_scale_ = scale;
}

// By the nodes of the first coarse level, whose share is the larger one.
bool Multigrid::may_strengthen() const {
    return matrix_free_ && slopes_.empty() && levels_.size() > 1 &&
           static_cast<double>(thick_nodes_) <
               2.0 * thin_share * static_cast<double>(levels_[1]->node_count());
}

bool Multigrid::strengthen(double cycles) {
    const double worth = cycles * cycle_seconds * static_cast<double>(length_);
    if (exact_ != nullptr || last_scale_.empty() || worth < around_seconds * static_cast<double>(length_))
        return false;
    const Level& fine = *levels_[0];
    auto exact = std::make_unique<Exact>();
    ElementSystem& system = exact->system;
    std::vector<std::int32_t> unknown_of(mask_.size() * 3, -1);
    std::vector<std::size_t> cells;
    for (std::size_t cell = 0; cell < cell_kind_.size(); ++cell) {
        const std::int32_t e = system_.element_of[cell];
        if (e >= 0 && last_scale_[static_cast<std::size_t>(e)] > void_scale) cells.push_back(cell);
    }
    for (const std::size_t cell : cells)
        for (int a = 0; a < 8; ++a) {
            const std::size_t node = corner(fine, cell, a);
            for (std::size_t c = 0; c < 3; ++c)
                if ((mask_[node] & (1U << c)) == 0) unknown_of[node * 3 + c] = 0;
        }
    for (std::size_t f = 0; f < unknown_of.size(); ++f) {
        if (unknown_of[f] < 0) continue;
        unknown_of[f] = static_cast<std::int32_t>(exact->places.size());
        exact->places.push_back(place(f));
    }
    system.unknowns = exact->places.size();
    if (system.unknowns == 0) return false;
    std::vector<double> scale;
    for (const std::size_t cell : cells) {
        const auto e = static_cast<std::size_t>(system_.element_of[cell]);
        for (int a = 0; a < 8; ++a) {
            const std::size_t node = corner(fine, cell, a);
            for (std::size_t c = 0; c < 3; ++c) system.dofs.push_back(unknown_of[node * 3 + c]);
        }
        system.starts.push_back(system.dofs.size());
        system.matrix_of.push_back(&system_.kinds[system_.kind_of[e]]);
        scale.push_back(last_scale_[e]);
    }
    double flops = 0.0;
    std::tie(system.order, flops) = order_of(fine, unknown_of);
    if (worth < factor_seconds * flops + unknown_seconds * static_cast<double>(system.unknowns) +
                    around_seconds * static_cast<double>(length_))
        return false;
    SolverOptions options;
    options.threads = options_.threads;
    options.memory = 0.5 * options_.memory;
    try {
        exact->solver = make_direct_solver(system, options);
        exact->solver->update(scale);
    } catch (const Error&) {
        // Too large, or islands of material that nothing but voids hold.
        return false;
    }
    GridSystem& around = exact->void_system;
    around.dimension = 3;
    around.cells = system_.cells;
    around.kinds = system_.kinds;
    around.kind_of = system_.kind_of;
    around.element_of = system_.element_of;
    for (const std::size_t cell : cells) around.element_of[cell] = -1;
    around.unknown_of = system_.unknown_of;
    for (std::size_t f = 0; f < unknown_of.size(); ++f)
        if (unknown_of[f] >= 0 || (mask_[f / 3] & (1U << f % 3)) != 0)
            around.unknown_of[f] = GridSystem::held;
    double most = 0.0;
    for (std::size_t cell = 0; cell < cell_kind_.size(); ++cell)
        if (around.element_of[cell] >= 0)
            most = std::max(most, last_scale_[static_cast<std::size_t>(around.element_of[cell])]);
    if (most > 0.0) {
        exact->void_stiffness = most;
        exact->voids = std::make_unique<Multigrid>(around, options_);
        std::vector<double> soft = last_scale_;
        for (double& s : soft) s /= most;
        exact->voids->update(soft);
    }
    exact_ = std::move(exact);
    return true;
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
        std::vector<float> local(sums.size() / lanes);
        std::array<std::size_t, 64> neighbour_of{}; // by own corner and other corner
        for (int a = 0; a < corners_; ++a)
            for (int b = 0; b < corners_; ++b) {
                int at = 0;
                for (int axis = d - 1; axis >= 0; --axis)
                    at = 3 * at + 1 + ((b >> axis) & 1) - ((a >> axis) & 1);
                neighbour_of[static_cast<std::size_t>(a * 8 + b)] = static_cast<std::size_t>(at);
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
                        for (int b = 0; b < corners_; ++b) {
                            float* to =
                                local.data() + neighbour_of[static_cast<std::size_t>(a * 8 + b)] * blocks;
                            const float* from = m + a * d * width_ + b * d;
                            for (int c = 0; c < d; ++c)
                                for (int e = 0; e < d; ++e) to[c * d + e] += from[c * width_ + e];
                        }
                    }
                    float* to = sums.data() + lane;
                    for (std::size_t n = 0; n < local.size(); ++n) to[n * lanes] = local[n];
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

std::pair<std::vector<std::int32_t>, double>
Multigrid::order_of(const Level& level, const std::vector<std::int32_t>& unknown_of) const {
    const auto d = static_cast<std::size_t>(dimension_);
    const auto nx = static_cast<std::size_t>(level.nodes[0]);
    const auto ny = static_cast<std::size_t>(level.nodes[1]);
    if (level.ring) return {};
    std::vector<std::array<std::int32_t, 3>> places;
    std::vector<std::size_t> nodes;
    for (std::size_t n = 0; n < unknown_of.size() / d; ++n) {
        bool any = false;
        for (std::size_t c = 0; c < d; ++c) any = any || unknown_of[n * d + c] >= 0;
        if (!any) continue;
        nodes.push_back(n);
        places.push_back({static_cast<std::int32_t>(n % nx), static_cast<std::int32_t>(n / nx % ny),
                          static_cast<std::int32_t>(n / nx / ny)});
    }
    const DissectionOrder order = dissection_order(places);
    std::vector<std::int32_t> out;
    for (const std::int32_t at : order.nodes)
        for (std::size_t c = 0; c < d; ++c)
            if (const std::int32_t u = unknown_of[nodes[static_cast<std::size_t>(at)] * d + c]; u >= 0)
                out.push_back(u);
    return {std::move(out), order.flops * static_cast<double>(d * d * d)};
}

void Multigrid::build() {
    const std::size_t size = static_cast<std::size_t>(width_) * static_cast<std::size_t>(width_);
    const std::size_t last = levels_.size() - 1;
    const std::size_t first = matrix_free_ ? std::min<std::size_t>(2, last) : 0; // with matrices
    levels_[0]->bound = bound_;
    if (first == 2) estimate(*levels_[1]);
    for (std::size_t l = first; l <= last; ++l) {
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

// The last level, when a cycle first asks for it: a design whose material is factorised needs none.
void Multigrid::factorise() {
    if (factorised_) return;
    factorised_ = true;
    const std::size_t size = static_cast<std::size_t>(width_) * static_cast<std::size_t>(width_);
    Level& level = *levels_.back();
    if (coarsest_ == nullptr) coarsest_ = std::make_unique<Coarsest>();
    Coarsest& coarsest = *coarsest_;
    const auto d = static_cast<std::size_t>(dimension_);
    std::vector<double> diagonal(level.node_count() * d, 0.0);
    const auto node = [&](std::size_t cell, int a) { return corner(level, cell, a); };
    for (std::size_t c = 0; c < level.cell_count(); ++c)
        for (int a = 0; a < corners_; ++a)
            for (std::size_t e = 0; e < d; ++e)
                diagonal[node(c, a) * d + e] += static_cast<double>(
                    level.matrices[c * size + (static_cast<std::size_t>(a) * d + e) *
                                                  (static_cast<std::size_t>(width_) + 1)]);
    double most = 0.0;
    for (const double v : diagonal) most = std::max(most, v);
    std::vector<std::uint8_t> pattern(diagonal.size());
    for (std::size_t n = 0; n < diagonal.size(); ++n) pattern[n] = diagonal[n] > void_scale * most ? 1 : 0;
    const bool same = coarsest.solver != nullptr && pattern == coarsest.pattern;
    coarsest.jacobi.assign(diagonal.size(), 0.0);
    for (std::size_t n = 0; n < diagonal.size(); ++n)
        if (pattern[n] == 0 && diagonal[n] > 0.0) coarsest.jacobi[n] = 1.0 / diagonal[n];
    if (!same) {
        coarsest.pattern = pattern;
        coarsest.unknown_of.assign(diagonal.size(), -1);
        std::int32_t next = 0;
        for (std::size_t n = 0; n < pattern.size(); ++n)
            if (pattern[n] != 0) coarsest.unknown_of[n] = next++;
        coarsest.matrices.clear();
        coarsest.system = {};
        coarsest.system.unknowns = static_cast<std::size_t>(next);
        coarsest.solver.reset();
    }
    std::size_t stored = 0;
    for (std::size_t c = 0; c < level.cell_count(); ++c) {
        bool any = false;
        for (int a = 0; a < corners_; ++a)
            for (std::size_t e = 0; e < d; ++e) any = any || coarsest.unknown_of[node(c, a) * d + e] >= 0;
        if (!any) continue;
        Eigen::MatrixXd m =
            Eigen::Map<const Eigen::MatrixXf>(level.matrices.data() + c * size, width_, width_)
                .cast<double>();
        m = 0.5 * (m + m.transpose()).eval();
        m.diagonal() *= 1.0 + coarse_shift;
        if (same) {
            coarsest.matrices[stored] = m;
        } else {
            coarsest.matrices.push_back(m);
            for (int a = 0; a < corners_; ++a)
                for (std::size_t e = 0; e < d; ++e)
                    coarsest.system.dofs.push_back(coarsest.unknown_of[node(c, a) * d + e]);
            coarsest.system.starts.push_back(coarsest.system.dofs.size());
        }
        ++stored;
    }
    std::vector<float>().swap(level.matrices);
    if (!same) {
        for (const Eigen::MatrixXd& m : coarsest.matrices) coarsest.system.matrix_of.push_back(&m);
        coarsest.system.order = order_of(level, coarsest.unknown_of).first;
        SolverOptions direct;
        direct.threads = 1;
        coarsest.solver = make_direct_solver(coarsest.system, direct);
    }
    coarsest.solver->update(std::vector<double>(stored, 1.0));
}

// Of a cell of level 2 of box cells, from the fine cells or from cells of level 1 with matrices of their own.
void Multigrid::second_matrix(int i, int j, int k, float* out) const {
    const Level& fine = *levels_[0];
    const Level& middle = *levels_[1];
    std::fill_n(out, 576, 0.0F);
    for (int child = 0; child < 8; ++child) {
        const int x = 2 * i + (child & 1);
        const int y = 2 * j + ((child >> 1) & 1);
        const int z = 2 * k + (child >> 2);
        if (x >= middle.cells[0] || y >= middle.cells[1] || z >= middle.cells[2]) continue;
        const std::size_t cell = (static_cast<std::size_t>(z) * static_cast<std::size_t>(middle.cells[1]) +
                                  static_cast<std::size_t>(y)) *
                                     static_cast<std::size_t>(middle.cells[0]) +
                                 static_cast<std::size_t>(x);
        if (const std::int32_t special = middle.special_of[cell]; special >= 0) {
            kernels_.add_child(3, middle.special.data() + static_cast<std::size_t>(special) * 576,
                               interpolation_float_[static_cast<std::size_t>(child)].data(), out);
            continue;
        }
        for (int grand = 0; grand < 8; ++grand) {
            const int u = 2 * x + (grand & 1);
            const int v = 2 * y + ((grand >> 1) & 1);
            const int w = 2 * z + (grand >> 2);
            if (u >= fine.cells[0] || v >= fine.cells[1] || w >= fine.cells[2]) continue;
            const std::int32_t e =
                system_.element_of[(static_cast<std::size_t>(w) * static_cast<std::size_t>(fine.cells[1]) +
                                    static_cast<std::size_t>(v)) *
                                       static_cast<std::size_t>(fine.cells[0]) +
                                   static_cast<std::size_t>(u)];
            if (e < 0) continue;
            kernels_.add_scaled(static_cast<float>((*element_scale_)[static_cast<std::size_t>(e)]),
                                grandchild_[system_.kind_of[static_cast<std::size_t>(e)]]
                                           [static_cast<std::size_t>(8 * child + grand)]
                                               .data(),
                                out, 576);
        }
    }
}

// The largest eigenvalue that the smoother sees: power iterations, and five percent for what they miss.
void Multigrid::estimate(Level& level) {
    std::size_t at = 0;
    while (levels_[at].get() != &level) ++at;
    make_room(1);
    Level::Work& work = level.work[0];
    const std::size_t length = level.rows * static_cast<std::size_t>(dimension_) * level.stride;
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
        double norm = 0.0;
        for (const double n : norms) norm += n;
        norm = std::sqrt(norm);
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

// What the cells with matrices of their own add to a sweep, whose outcome is linear in A v. Even layers
// first, then odd ones, so that no two threads meet at a node.
void Multigrid::add_special(const Level& level, Sweep kind, const SweepVectors<float>& vectors,
                            const SweepFactors& factors, bool scaled) const {
    const int layers = level.cells[2];
    const auto nx = static_cast<std::size_t>(level.nodes[0]);
    const float* S = level.inverse_diagonal.data();
    for (int odd = 0; odd < 2; ++odd) {
#pragma omp parallel for num_threads(options_.threads) schedule(static)
        for (int layer = odd; layer < layers; layer += 2)
            for (std::size_t n = level.special_starts[static_cast<std::size_t>(layer)];
                 n < level.special_starts[static_cast<std::size_t>(layer) + 1]; ++n) {
                std::array<std::size_t, 24> at{};
                std::array<float, 24> v{};
                std::array<float, 24> force{};
                for (int a = 0; a < 8; ++a) {
                    const std::size_t node = corner(level, level.special_cells[n], a);
                    for (std::size_t c = 0; c < 3; ++c)
                        at[static_cast<std::size_t>(a) * 3 + c] =
                            (node / nx * 3 + c) * level.stride + node % nx;
                }
                for (std::size_t r = 0; r < 24; ++r) v[r] = vectors.v[at[r]] * (scaled ? S[at[r]] : 1.0F);
                for (std::size_t c = 0; c < 24; ++c) {
                    const float* column = level.special.data() + n * 576 + c * 24;
                    for (std::size_t r = 0; r < 24; ++r) force[r] += column[r] * v[c];
                }
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

void Multigrid::restrict_to(std::size_t l, int slot) {
    // The rows around each coarse row first, then along x.
    const Level& fine = *levels_[l];
    Level& coarse = *levels_[l + 1];
    const float* from = levels_[l]->residual(slot).data();
    float* to = coarse.work[static_cast<std::size_t>(slot)].b.data();
    const int depth = dimension_ == 3 ? 1 : 0;
#pragma omp parallel num_threads(options_.threads) if (coarse.rows > 16)
    {
        std::vector<float> line(fine.stride + 2, 0.0F);
#pragma omp for schedule(static)
        for (std::size_t row = 0; row < coarse.rows; ++row) {
            const int j = static_cast<int>(row) % coarse.nodes[1];
            const int k = static_cast<int>(row) / coarse.nodes[1];
            for (int c = 0; c < dimension_; ++c) {
                std::fill(line.begin(), line.end(), 0.0F);
                for (int dk = -depth; dk <= depth; ++dk)
                    for (int dj = -1; dj <= 1; ++dj) {
                        const int y = 2 * j + dj;
                        const int z = dimension_ == 3 ? fine.plane(2 * k + dk) : 0;
                        if (y < 0 || z < 0 || y >= fine.nodes[1]) continue;
                        // Beyond the end of an odd ring stands a node that has a coarse one of its own.
                        if (dk != 0 && z % 2 == 0) continue;
                        const float w = (dj == 0 ? 1.0F : 0.5F) * (dk == 0 ? 1.0F : 0.5F);
                        const float* x =
                            from + ((static_cast<std::size_t>(z) * static_cast<std::size_t>(fine.nodes[1]) +
                                     static_cast<std::size_t>(y)) *
                                        static_cast<std::size_t>(dimension_) +
                                    static_cast<std::size_t>(c)) *
                                       fine.stride;
                        for (std::size_t i = 0; i < fine.stride; ++i) line[i + 1] += w * x[i];
                    }
                float* out = to + (row * static_cast<std::size_t>(dimension_) + static_cast<std::size_t>(c)) *
                                      coarse.stride;
                for (std::size_t i = 0; i < static_cast<std::size_t>(coarse.nodes[0]); ++i) {
                    const std::size_t m = 2 * i + 1;
                    out[i] = 0.5F * line[m - 1];
                    if (m < line.size()) out[i] += line[m];
                    if (m + 1 < line.size()) out[i] += 0.5F * line[m + 1];
                }
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
#pragma omp parallel num_threads(options_.threads) if (fine.rows > 16)
    {
        std::vector<float> line(coarse.stride + 2, 0.0F);
#pragma omp for schedule(static)
        for (std::size_t row = 0; row < fine.rows; ++row) {
            const int j = static_cast<int>(row) % fine.nodes[1];
            const int k = static_cast<int>(row) / fine.nodes[1];
            for (int c = 0; c < dimension_; ++c) {
                std::fill(line.begin(), line.end(), 0.0F);
                const float w = (j % 2 == 0 ? 1.0F : 0.5F) * (k % 2 == 0 ? 1.0F : 0.5F);
                for (int above = k / 2; above <= (k + 1) / 2; ++above)
                    for (int y = j / 2; y <= (j + 1) / 2; ++y) {
                        const int z = coarse.plane(above);
                        const float* x =
                            from + ((static_cast<std::size_t>(z) * static_cast<std::size_t>(coarse.nodes[1]) +
                                     static_cast<std::size_t>(y)) *
                                        static_cast<std::size_t>(dimension_) +
                                    static_cast<std::size_t>(c)) *
                                       coarse.stride;
                        for (std::size_t i = 0; i < coarse.stride; ++i) line[i] += w * x[i];
                    }
                const std::size_t base =
                    (row * static_cast<std::size_t>(dimension_) + static_cast<std::size_t>(c)) * fine.stride;
                const auto count = static_cast<std::size_t>(fine.nodes[0]);
                float* out = to + base;
                const float* there = masked ? fine.inverse_diagonal.data() + base : nullptr;
                for (std::size_t i = 0; i < count; ++i) {
                    const float add = i % 2 == 0 ? line[i / 2] : 0.5F * (line[i / 2] + line[i / 2 + 1]);
                    if (there == nullptr || there[i] > 0.0F) out[i] += add;
                }
            }
        }
    }
    if (masked) fix(to);
}

// x = factor * S b, S by blocks or by the diagonal.
void Multigrid::scale_by_inverse(const Level& level, const float* b, double factor, float* x) const {
    const std::size_t length = level.rows * static_cast<std::size_t>(dimension_) * level.stride;
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
        for (int n = 0; n < many; ++n)
            std::swap(level.work[static_cast<std::size_t>(first + n)].x, level.residual(first + n));
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
    const auto nx = static_cast<std::size_t>(level.nodes[0]);
    const auto place_of = [&](std::size_t n) {
        const std::size_t node = n / d;
        return (node / nx * d + n % d) * level.stride + node % nx;
    };
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
        const std::size_t length = level.rows * static_cast<std::size_t>(dimension_) * level.stride + lanes;
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

std::size_t Multigrid::stride() const {
    return levels_[0]->stride;
}

std::size_t Multigrid::nodes_of_level(std::size_t l) const {
    return levels_.at(l)->node_count();
}

std::size_t Multigrid::length_of_level(std::size_t l) const {
    return levels_.at(l)->rows * static_cast<std::size_t>(dimension_) * levels_.at(l)->stride + lanes;
}

void Multigrid::sweep_for_bench(std::size_t l, const float* x, const float* b, float* out) const {
    const SweepVectors<float> v{x, b, out};
    sweep(l, Sweep::Step, &v, 1, first_of_two(levels_.at(l)->bound));
}

int Multigrid::levels() const {
    return static_cast<int>(levels_.size());
}

std::size_t Multigrid::coarsest_unknowns() const {
    return coarsest_ == nullptr ? 0 : coarsest_->system.unknowns;
}

double Multigrid::bytes() const {
    double out = static_cast<double>(mask_.size() + cell_kind_.size());
    for (const auto& level : levels_) {
        for (const Strip<float>& strip : level->more_scale) out += 4.0 * static_cast<double>(strip.size());
        out +=
            static_cast<double>(level->beside.size()) +
            4.0 * static_cast<double>(level->cell_scale.size() + level->inverse_diagonal.size() +
                                      level->special.size() + level->special_of.size() + level->scale.size() +
                                      level->diagonal.size() + level->inverse.size());
        for (const Level::Work& w : level->work)
            out += 4.0 * static_cast<double>(w.b.size() + w.x.size() + w.r.size());
    }
    if (coarsest_ != nullptr && coarsest_->solver != nullptr) out += coarsest_->solver->cost().factor_bytes;
    out += 8.0 * static_cast<double>(last_scale_.size());
    if (exact_ != nullptr) {
        out += exact_->solver->cost().factor_bytes + 8.0 * static_cast<double>(exact_->places.size()) +
               4.0 * static_cast<double>(exact_->void_system.unknown_of.size() +
                                         exact_->void_system.element_of.size());
        if (exact_->voids != nullptr) out += exact_->voids->bytes();
    }
    return out;
}

} // namespace upright::grid
