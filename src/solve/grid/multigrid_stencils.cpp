// The stencils of a level's nodes, gathered from the matrices of its cells.
#include "solve/grid/multigrid_parts.hpp"

#include "base/dense.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

namespace upright::grid {

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
    const SymmetricEigen eigen = symmetric_eigen(m);
    const double most = eigen.values.maxCoeff();
    for (int i = 0; i < d; ++i)
        if (eigen.values[i] > 1e-3 * most)
            inverse += Small(eigen.vectors.col(i) * eigen.vectors.col(i).transpose() / eigen.values[i]);
}

// The 2 d values of two corners.
inline void add_pair(int d, const float* from, float* to) {
    if (d == 3)
        for (int i = 0; i < 6; ++i) to[i] += from[i];
    else
        for (int i = 0; i < 4; ++i) to[i] += from[i];
}

} // namespace

// The stencils of rows of nodes, sixteen at a time; one a thread.
class Multigrid::Stencils {
  public:
    Stencils(const Multigrid& all, Level& level)
        : level_(level), kernels_(all.kernels_), d_(all.dimension_), corners_(all.corners_),
          width_(all.width_), neighbours_(d_ == 3 ? 27 : 9),
          middle_(static_cast<std::size_t>(neighbours_ / 2)), blocks_(static_cast<std::size_t>(d_ * d_)),
          chunks_(level.stride / lanes), sums_(static_cast<std::size_t>(neighbours_) * blocks_ * lanes),
          packed_(sums_.size()), local_(sums_.size() / lanes + 8) {
        for (int a = 0; a < corners_; ++a)
            for (int b = 0; b < corners_; b += 2) {
                int at = 0;
                for (int axis = d_ - 1; axis >= 0; --axis)
                    at = 3 * at + 1 + ((b >> axis) & 1) - ((a >> axis) & 1);
                neighbour_of_[static_cast<std::size_t>(a * 4 + b / 2)] = static_cast<std::size_t>(at);
            }
    }

    // Row j of plane k, from the matrices of the cells below and above the plane.
    void row(int j, int k, const float* below, const float* above) {
        const std::size_t row = static_cast<std::size_t>(k) * static_cast<std::size_t>(level_.nodes[1]) +
                                static_cast<std::size_t>(j);
        for (std::size_t chunk = 0; chunk < chunks_; ++chunk) {
            std::fill(sums_.begin(), sums_.end(), 0.0F);
            for (int lane = 0; lane < lanes; ++lane) {
                const int i = static_cast<int>(chunk) * lanes + lane;
                if (i >= level_.nodes[0]) break;
                add_cells(i, j, below, above, lane);
            }
            scale(row, chunk);
            const std::size_t place = row * chunks_ + chunk;
            pack(place);
            finish_middle(place);
        }
    }

  private:
    // The matrices of the cells around a node.
    void add_cells(int i, int j, const float* below, const float* above, int lane) {
        const std::size_t size = static_cast<std::size_t>(width_) * static_cast<std::size_t>(width_);
        std::fill(local_.begin(), local_.end(), 0.0F);
        for (int a = 0; a < corners_; ++a) {
            const int x = i - (a & 1);
            const int y = j - ((a >> 1) & 1);
            const float* layer = d_ == 3 && (a >> 2) == 1 ? below : above;
            if (layer == nullptr || x < 0 || y < 0 || x >= level_.cells[0] || y >= level_.cells[1]) continue;
            const float* m =
                layer + (static_cast<std::size_t>(y) * static_cast<std::size_t>(level_.cells[0]) +
                         static_cast<std::size_t>(x)) *
                            size;
            for (int c = 0; c < d_; ++c) {
                const float* from = m + (a * d_ + c) * width_;
                float* to = local_.data() + c * neighbours_ * d_;
                for (int pair = 0; pair < corners_ / 2; ++pair)
                    add_pair(d_, from + 2 * pair * d_,
                             to + neighbour_of_[static_cast<std::size_t>(a * 4 + pair)] *
                                      static_cast<std::size_t>(d_));
            }
        }
        const float* of = local_.data();
        for (int c = 0; c < d_; ++c)
            for (int n = 0; n < neighbours_; ++n)
                for (int e = 0; e < d_; ++e)
                    sums_[static_cast<std::size_t>(((n * d_ + c) * d_ + e) * lanes + lane)] = *of++;
    }

    // Scales each node's row by a power of two, so that half precision does.
    void scale(std::size_t row, std::size_t chunk) {
        const float* const sums = sums_.data();
        std::array<float, lanes> most{};
        for (std::size_t n = 0; n < sums_.size(); n += lanes)
            for (std::size_t lane = 0; lane < lanes; ++lane)
                most[lane] = std::max(most[lane], std::abs(sums[n + lane]));
        for (std::size_t lane = 0; lane < lanes; ++lane) {
            factor_[lane] = most[lane] > 0.0F ? std::exp2(std::floor(std::log2(1024.0F / most[lane]))) : 0.0F;
            level_.scale[row * level_.stride + chunk * lanes + lane] =
                most[lane] > 0.0F ? 1.0F / factor_[lane] : 0.0F;
        }
    }

    // What is beside the middle, as it is stored; packed_ holds it as it will be read.
    void pack(std::size_t place) {
        float* const packed = packed_.data();
        const std::array<float, lanes> factor = factor_;
        const float* const sums = sums_.data();
        std::size_t at = 0;
        for (std::size_t n = 0; n < static_cast<std::size_t>(neighbours_); ++n) {
            if (n == middle_) continue;
            for (std::size_t b = 0; b < blocks_ * lanes; ++b, ++at)
                packed[at] = sums[n * blocks_ * lanes + b] * factor[b % lanes];
        }
        char* to = level_.beside.data() + place * at * static_cast<std::size_t>(kernels_.coefficient_bytes);
        kernels_.pack(packed_.data(), to, at);
        kernels_.unpack(to, packed_.data(), at);
    }

    // Rounding must not make translations cost energy: what the others lost goes to the middle.
    void finish_middle(std::size_t place) {
        const float* const packed = packed_.data();
        const std::array<float, lanes> factor = factor_;
        const float* const sums = sums_.data();
        std::array<float, 9 * lanes> middle_blocks{};
        for (std::size_t b = 0; b < blocks_ * lanes; ++b) {
            float lost = 0.0F;
            for (std::size_t n = 0, p = 0; n < static_cast<std::size_t>(neighbours_); ++n) {
                if (n == middle_) continue;
                lost += sums[n * blocks_ * lanes + b] * factor[b % lanes] - packed[p * blocks_ * lanes + b];
                ++p;
            }
            const float f = factor[b % lanes];
            middle_blocks[b] = sums[middle_ * blocks_ * lanes + b] + (f > 0.0F ? lost / f : 0.0F);
        }
        for (std::size_t lane = 0; lane < lanes; ++lane) invert_middle(place, lane, middle_blocks);
    }

    void invert_middle(std::size_t place, std::size_t lane,
                       const std::array<float, 9 * lanes>& middle_blocks) {
        std::array<double, 9> block{};
        for (std::size_t b = 0; b < blocks_; ++b)
            block[b] = static_cast<double>(middle_blocks[b * lanes + lane]);
        for (int c = 0; c < d_; ++c)
            for (int e = 0; e < c; ++e) {
                const auto one = static_cast<std::size_t>(c * d_ + e);
                const auto two = static_cast<std::size_t>(e * d_ + c);
                block[one] = block[two] = 0.5 * (block[one] + block[two]);
            }
        // A held direction has no stiffness and gets none.
        for (int c = 0; c < d_; ++c) {
            const std::size_t own = (middle_ * blocks_ + static_cast<std::size_t>(c * d_ + c)) * lanes + lane;
            if (sums_[own] > 0.0F) continue;
            for (int e = 0; e < d_; ++e)
                block[static_cast<std::size_t>(c * d_ + e)] = block[static_cast<std::size_t>(e * d_ + c)] =
                    0.0;
        }
        std::array<double, 9> inverse{};
        invert_block(block.data(), d_, inverse.data());
        for (std::size_t b = 0; b < blocks_; ++b) {
            const std::size_t own = place * blocks_ * lanes + b * lanes + lane;
            level_.diagonal[own] = static_cast<float>(block[b]);
            level_.inverse[own] = static_cast<float>(inverse[b]);
        }
    }

    Level& level_;
    const Kernels& kernels_;
    const int d_, corners_, width_, neighbours_;
    const std::size_t middle_, blocks_, chunks_;
    std::vector<float> sums_, packed_;
    // By component, neighbour, component of the neighbour: neighbours along x stand side by side, as the
    // corners do in a row of a cell's matrix.
    std::vector<float> local_;
    std::array<std::size_t, 32> neighbour_of_{}; // by own corner and the first of two others
    std::array<float, lanes> factor_{};
};

// The stencils of one plane of nodes, from the matrices of the cells below and above it.
void Multigrid::gather_plane(Level& level, int k, const float* below, const float* above) {
#pragma omp parallel num_threads(options_.threads)
    {
        Stencils stencils(*this, level);
#pragma omp for schedule(static)
        for (int j = 0; j < level.nodes[1]; ++j) stencils.row(j, k, below, above);
    }
}

} // namespace upright::grid
