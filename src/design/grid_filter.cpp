#include "design/grid_filter.hpp"

#include "base/instruction_sets.hpp"

#include <algorithm>
#include <cmath>

namespace upright {

namespace {

// A row of cells that another one reaches: where it lies, how far, with what weights.
struct TapRow {
    std::ptrdiff_t away = 0;
    int reach = 0;
    const double* weights = nullptr;
};

// `Many` sums of eight at once, which stay in registers.
template <int Many>
inline __attribute__((always_inline)) void sum_block(const TapRow* taps, std::size_t count, const double* in,
                                                     double* out) {
    Eight sums[Many] = {};
    const auto add = [&](double weight, const double* at) __attribute__((always_inline)) {
        const Eight* v = reinterpret_cast<const Eight*>(at);
#pragma GCC unroll 4
        for (int m = 0; m < Many; ++m) sums[m] += weight * v[m];
    };
    for (const TapRow* tap = taps; tap != taps + count; ++tap) {
        const double* at = in + tap->away;
        add(tap->weights[0], at);
        for (int away = 1; away <= tap->reach; ++away) {
            add(tap->weights[away], at - away);
            add(tap->weights[away], at + away);
        }
    }
    Eight* to = reinterpret_cast<Eight*>(out);
#pragma GCC unroll 4
    for (int m = 0; m < Many; ++m) to[m] = sums[m];
}

UPRIGHT_CLONES void sum_row(const TapRow* taps, std::size_t count, const double* in, double* out,
                            std::size_t n) {
    std::size_t first = 0;
    for (; first + 32 <= n; first += 32) sum_block<4>(taps, count, in + first, out + first);
    // What is left is done with some that are done already.
    for (; first < n && n >= 8; first += 8) {
        first = std::min(first, n - 8);
        sum_block<1>(taps, count, in + first, out + first);
    }
    for (; first < n; ++first) {
        double sum = 0.0;
        for (const TapRow* tap = taps; tap != taps + count; ++tap) {
            const double* at = in + tap->away + first;
            sum += tap->weights[0] * at[0];
            for (int away = 1; away <= tap->reach; ++away) sum += tap->weights[away] * (at[-away] + at[away]);
        }
        out[first] = sum;
    }
}

} // namespace

GridFilter::GridFilter(const Model& model, const std::vector<std::int32_t>& variable_of, double radius)
    : grid_(model.mesh.grid) {
    const int axes = grid_.axes();
    for (int a = 0; a < 3; ++a) {
        const auto axis = static_cast<std::size_t>(a);
        const int count = a < axes ? grid_.count[axis] : 1;
        // A filter wider than the part reaches every cell and image of it once.
        reach_[axis] = a < axes ? std::min(static_cast<int>(radius / grid_.cell[a]), 2 * count) : 0;
        padded_[axis] = static_cast<std::size_t>(count + 2 * reach_[axis]);
        for (int p = -reach_[axis]; p < count + reach_[axis]; ++p) {
            int at = p;
            if (at < 0 && grid_.symmetric[axis][0]) at = -1 - at;
            if (at >= count && grid_.symmetric[axis][1]) at = 2 * count - 1 - at;
            source_[axis].push_back(at >= 0 && at < count ? at : -1);
        }
    }
    for (int dk = -reach_[2]; dk <= reach_[2]; ++dk)
        for (int dj = -reach_[1]; dj <= reach_[1]; ++dj) {
            Tap tap;
            tap.dj = dj;
            tap.dk = dk;
            tap.first = weights_.size();
            for (int di = 0; di <= reach_[0]; ++di) {
                const double weight = radius - Vec3(di * grid_.cell[0], dj * grid_.cell[1],
                                                    dk * (axes == 3 ? grid_.cell[2] : 0.0))
                                                   .norm();
                const bool self = di == 0 && dj == 0 && dk == 0;
                if (weight <= 1e-12 * radius && !self) break;
                weights_.push_back(std::max(weight, 1e-300));
                tap.reach = di;
            }
            if (weights_.size() > tap.first) taps_.push_back(tap);
        }
    std::vector<std::size_t> cell_of(variable_of.size());
    for (std::size_t e = 0; e < variable_of.size(); ++e)
        if (variable_of[e] >= 0) {
            if (cell_of_.size() <= static_cast<std::size_t>(variable_of[e]))
                cell_of_.resize(static_cast<std::size_t>(variable_of[e]) + 1);
            cell_of_[static_cast<std::size_t>(variable_of[e])] = model.mesh.cell_of[e];
        }
    in_order_ = true;
    for (std::size_t v = 0; v < cell_of_.size(); ++v) in_order_ = in_order_ && cell_of_[v] == v;
    inverse_sum_ = sum(std::vector<double>(cell_of_.size(), 1.0));
    for (double& s : inverse_sum_) s = 1.0 / s;
}

std::vector<double> GridFilter::sum(const std::vector<double>& values) const {
    const auto nx = static_cast<std::size_t>(grid_.count[0]);
    const std::size_t ny = grid_.axes() > 1 ? static_cast<std::size_t>(grid_.count[1]) : 1;
    const std::size_t nz = grid_.axes() > 2 ? static_cast<std::size_t>(grid_.count[2]) : 1;
    // Rooms that are used again: fresh ones cost more than the sums. Cells of no variable stay zero.
    std::vector<double>& plain = room_->plain;
    std::vector<double>& wide = room_->wide;
    // Where every cell is a variable nothing needs to change places.
    const bool all = in_order_ && values.size() == nx * ny * nz;
    if (!all) {
        plain.resize(nx * ny * nz, 0.0);
        room_->sums.resize(plain.size());
    }
    std::vector<double> out(values.size());
    wide.resize(padded_[0] * padded_[1] * padded_[2], 0.0);
#pragma omp parallel for schedule(static) if (!all)
    for (std::size_t v = 0; v < (all ? 0 : values.size()); ++v) plain[cell_of_[v]] = values[v];
    const double* source = all ? values.data() : plain.data();
    const auto rows = static_cast<std::ptrdiff_t>(padded_[1] * padded_[2]);
#pragma omp parallel for schedule(static)
    for (std::ptrdiff_t row = 0; row < rows; ++row) {
        const int j = source_[1][static_cast<std::size_t>(row) % padded_[1]];
        const int k = source_[2][static_cast<std::size_t>(row) / padded_[1]];
        if (j < 0 || k < 0) continue;
        const double* from = source + (static_cast<std::size_t>(k) * ny + static_cast<std::size_t>(j)) * nx;
        double* to = wide.data() + static_cast<std::size_t>(row) * padded_[0];
        for (std::size_t i = 0; i < padded_[0]; ++i)
            if (source_[0][i] >= 0) to[i] = from[source_[0][i]];
    }
    const auto own_rows = static_cast<std::ptrdiff_t>(ny * nz);
    std::vector<TapRow> taps;
    for (const Tap& tap : taps_)
        taps.push_back(
            {(static_cast<std::ptrdiff_t>(tap.dk) * static_cast<std::ptrdiff_t>(padded_[1]) + tap.dj) *
                 static_cast<std::ptrdiff_t>(padded_[0]),
             tap.reach, weights_.data() + tap.first});
#pragma omp parallel for schedule(static)
    for (std::ptrdiff_t row = 0; row < own_rows; ++row) {
        const std::size_t j = static_cast<std::size_t>(row) % ny;
        const std::size_t k = static_cast<std::size_t>(row) / ny;
        const double* middle = wide.data() +
                               ((k + static_cast<std::size_t>(reach_[2])) * padded_[1] + j +
                                static_cast<std::size_t>(reach_[1])) *
                                   padded_[0] +
                               static_cast<std::size_t>(reach_[0]);
        sum_row(taps.data(), taps.size(), middle,
                (all ? out.data() : room_->sums.data()) + static_cast<std::size_t>(row) * nx, nx);
    }
    if (all) return out;
#pragma omp parallel for schedule(static)
    for (std::size_t v = 0; v < out.size(); ++v) out[v] = room_->sums[cell_of_[v]];
    return out;
}

std::vector<double> GridFilter::apply(const std::vector<double>& x) const {
    std::vector<double> out = sum(x);
#pragma omp parallel for simd schedule(static)
    for (std::size_t v = 0; v < out.size(); ++v) out[v] *= inverse_sum_[v];
    return out;
}

std::vector<double> GridFilter::transpose(const std::vector<double>& g) const {
    std::vector<double> scaled(g.size());
#pragma omp parallel for simd schedule(static)
    for (std::size_t v = 0; v < g.size(); ++v) scaled[v] = g[v] * inverse_sum_[v];
    return sum(scaled); // the weights are as symmetric as the grid and its images
}

} // namespace upright
