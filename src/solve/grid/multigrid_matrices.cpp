// The matrices of cells, of the fine level and of those made from it.
#include "solve/grid/multigrid_parts.hpp"

#include "base/error.hpp"
#include "solve/dissection.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

namespace upright::grid {

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

// The same where directions are held along the axes alone: rows and columns left out.
void Multigrid::held_matrix(std::size_t cell, float* out) const {
    const auto e = static_cast<std::size_t>(system_.element_of[cell]);
    const double* K = system_.kinds[system_.kind_of[e]].data();
    const double scale = (*element_scale_)[e];
    std::array<float, 24> keep{};
    for (int a = 0; a < 8; ++a) {
        const std::uint8_t mask = mask_[corner(*levels_[0], cell, a)];
        for (int c = 0; c < 3; ++c)
            keep[static_cast<std::size_t>(3 * a + c)] = (mask & (1U << c)) != 0 ? 0.0F : 1.0F;
    }
    for (std::size_t c = 0; c < 24; ++c)
        for (std::size_t r = 0; r < 24; ++r)
            out[24 * c + r] = keep[c] * keep[r] * static_cast<float>(scale * K[24 * c + r]);
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
        const std::size_t cell = fine.cell(x, y, z);
        const std::int32_t e = system_.element_of[cell];
        if (e < 0) continue;
        any = true;
        if (cell_kind_[cell] == 2) {
            if (matrix_free_ && slopes_.empty()) {
                held_matrix(cell, masked_float.data());
            } else {
                if (!fine_matrix(cell, masked.data())) continue;
                for (std::size_t n = 0; n < size; ++n) masked_float[n] = static_cast<float>(masked[n]);
            }
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

// Of a cell of level 2 of box cells, from the fine cells or from cells of level 1 with matrices of their own.
void Multigrid::second_matrix(int i, int j, int k, float* out) const {
    const Level& fine = *levels_[0];
    const Level& middle = *levels_[1];
    std::array<const float*, 64> matrices;
    std::array<float, 64> scales;
    std::size_t count = 0;
    std::array<std::int32_t, 8> special_at;
    for (int child = 0; child < 8; ++child) {
        special_at[static_cast<std::size_t>(child)] = -1;
        const int x = 2 * i + (child & 1);
        const int y = 2 * j + ((child >> 1) & 1);
        const int z = 2 * k + (child >> 2);
        if (x >= middle.cells[0] || y >= middle.cells[1] || z >= middle.cells[2]) continue;
        const std::int32_t special = middle.special_of[middle.cell(x, y, z)];
        special_at[static_cast<std::size_t>(child)] = special;
        if (special >= 0) continue;
        for (int grand = 0; grand < 8; ++grand) {
            const int u = 2 * x + (grand & 1);
            const int v = 2 * y + ((grand >> 1) & 1);
            const int w = 2 * z + (grand >> 2);
            if (u >= fine.cells[0] || v >= fine.cells[1] || w >= fine.cells[2]) continue;
            const std::int32_t e = system_.element_of[fine.cell(u, v, w)];
            if (e < 0) continue;
            scales[count] = static_cast<float>((*element_scale_)[static_cast<std::size_t>(e)]);
            matrices[count++] = grandchild_[system_.kind_of[static_cast<std::size_t>(e)]].data() +
                                static_cast<std::size_t>(8 * child + grand) * packed_matrix;
        }
    }
    alignas(64) std::array<float, packed_matrix> packed;
    kernels_.sum_scaled(matrices.data(), scales.data(), count, packed.data());
    const float* from = packed.data();
    for (std::size_t r = 0; r < 24; ++r)
        for (std::size_t c = r; c < 24; ++c) out[r * 24 + c] = out[c * 24 + r] = *from++;
    for (std::size_t child = 0; child < 8; ++child)
        if (special_at[child] >= 0)
            kernels_.add_child(3, middle.special.data() + static_cast<std::size_t>(special_at[child]) * 576,
                               interpolation_float_[child].data(), out);
}

} // namespace upright::grid
