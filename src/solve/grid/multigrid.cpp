#include "solve/grid/multigrid_parts.hpp"

#include "base/dense.hpp"
#include "solve/grid/cell_blocks.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

namespace upright::grid {

namespace {

// P' K P, P the interpolation `p` of the corners for every component.
Eigen::MatrixXf galerkin(const Eigen::MatrixXd& K, const Eigen::MatrixXd& p) {
    const Eigen::Index d = K.rows() / p.rows();
    Eigen::MatrixXd P = Eigen::MatrixXd::Zero(K.rows(), K.cols());
    for (Eigen::Index f = 0; f < p.rows(); ++f)
        for (Eigen::Index c = 0; c < p.cols(); ++c)
            for (Eigen::Index i = 0; i < d; ++i) P(f * d + i, c * d + i) = p(f, c);
    return (P.transpose() * K * P).cast<float>();
}

} // namespace

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
    length_ = fine->length(dimension_) + lanes;
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
        for (std::size_t child = 0; child < static_cast<std::size_t>(corners_); ++child)
            of_child[child] = galerkin(K, interpolation_[child]);
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

// P' K P over two levels, for box cells whose second coarse level is made at once.
void Multigrid::find_grandchildren() {
    if (!matrix_free_) return;
    for (const Eigen::MatrixXd& K : system_.kinds) {
        grandchild_.emplace_back(64 * packed_matrix);
        float* to = grandchild_.back().data();
        for (std::size_t child = 0; child < 8; ++child)
            for (std::size_t grand = 0; grand < 8; ++grand, to += packed_matrix) {
                const Eigen::MatrixXf one = galerkin(K, interpolation_[grand] * interpolation_[child]);
                std::size_t at = 0;
                for (Eigen::Index r = 0; r < 24; ++r)
                    for (Eigen::Index c = r; c < 24; ++c) to[at++] = one(r, c);
            }
    }
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
        bound_ = std::max(bound_, generalised_values(K, diagonal).maxCoeff());
    }
}

// The blocks of B = H K H' / 64, where K parts into them; the system is served by stencils otherwise.
void Multigrid::find_blocks() {
    matrix_free_ = dimension_ == 3 && !system_.ring && system_.turn_of.empty();
    if (!matrix_free_) return;
    for (const Eigen::MatrixXd& K : system_.kinds) {
        const Eigen::MatrixXd B = hadamard_of_cell(K);
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
    return levels_[0]->place(freedom / d, freedom % d, dimension_);
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
    find_slopes();
    for (std::size_t n = 0; n < count; ++n)
        if (mask_[n] != 0 && mask_[n] < 8)
            for (std::size_t c = 0; c < d; ++c)
                if ((mask_[n] & (1U << c)) != 0) fixed_.push_back(place(n * d + c));
    mark_cells();
}

// Nodes whose components depend on each other, and those that depend on nodes far away.
void Multigrid::find_slopes() {
    const auto d = static_cast<std::size_t>(dimension_);
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
}

// Cells that are there, and those of them with a node that is held or leans.
void Multigrid::mark_cells() {
    const Level& fine = *levels_[0];
    const auto nodes_x = static_cast<std::size_t>(fine.nodes[0]);
    const auto cells_x = static_cast<std::size_t>(fine.cells[0]);
    cell_kind_.assign(system_.element_of.size(), 0);
    for (std::size_t c = 0; c < cell_kind_.size(); ++c) cell_kind_[c] = system_.element_of[c] >= 0 ? 1 : 0;
    for (std::size_t n = 0; n < mask_.size(); ++n) {
        if (mask_[n] == 0) continue;
        rows_beside_nodes(fine, n / nodes_x, [&](std::size_t cells) {
            const std::size_t i = n % nodes_x;
            for (std::size_t x = i == 0 ? 0 : i - 1; x <= i && x < cells_x; ++x)
                if (cell_kind_[cells * cells_x + x] != 0) cell_kind_[cells * cells_x + x] = 2;
        });
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
    if (may_strengthen() || late_) last_scale_ = scale;
}

std::size_t Multigrid::stride() const {
    return levels_[0]->stride;
}

std::size_t Multigrid::nodes_of_level(std::size_t l) const {
    return levels_.at(l)->node_count();
}

std::size_t Multigrid::length_of_level(std::size_t l) const {
    return levels_.at(l)->length(dimension_) + lanes;
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
