#include "design/grid_filter.hpp"

#include "base/instruction_sets.hpp"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace upright {

namespace {

// Rows of cells with the same weights, which are added up first: where they lie, how far and with what
// weights their sum is spread along the row.
struct TapRows {
    const std::ptrdiff_t* away = nullptr;
    std::size_t rows = 0;
    int reach = 0;
    const double* weights = nullptr; // of 0, 1, … reach cells away
};

// Two vectors of cells at once, of which the sums stay in registers.
inline __attribute__((always_inline)) void add_rows(const TapRows& tap, const double* in, double* out) {
    Eight first{};
    Eight second{};
    for (std::size_t r = 0; r < tap.rows; ++r) {
        const Eight* v = reinterpret_cast<const Eight*>(in + tap.away[r]);
        first += v[0];
        second += v[1];
    }
    Eight* to = reinterpret_cast<Eight*>(out);
    to[0] = first;
    to[1] = second;
}

// out[i] = the weighted sum about cell i of a row, i < 16 `blocks`. `in`: what stands `halo` cells before the
// row's first; `room`: for a row of 16 (blocks + 1) cells and its halos.
UPRIGHT_CLONES void sum_row(const TapRows* taps, std::size_t count, const double* in, int halo, double* room,
                            double* out, std::size_t blocks) {
    const std::size_t wide = (16 * blocks + 2 * static_cast<std::size_t>(halo) + 15) / 16;
    for (const TapRows* tap = taps; tap != taps + count; ++tap) {
        const double* at = in;
        if (tap->rows == 1) {
            at = in + tap->away[0];
        } else {
            for (std::size_t b = 0; b < wide; ++b) add_rows(*tap, in + 16 * b, room + 16 * b);
            at = room;
        }
        for (std::size_t b = 0; b < blocks; ++b) {
            Eight* to = reinterpret_cast<Eight*>(out + 16 * b);
            const double* middle = at + 16 * b + halo;
            const Eight* v = reinterpret_cast<const Eight*>(middle);
            const double own = tap->weights[0];
            Eight first = own * v[0];
            Eight second = own * v[1];
            if (tap != taps) {
                first += to[0];
                second += to[1];
            }
            for (int d = 1; d <= tap->reach; ++d) {
                const Eight* left = reinterpret_cast<const Eight*>(middle - d);
                const Eight* right = reinterpret_cast<const Eight*>(middle + d);
                first += tap->weights[d] * (left[0] + right[0]);
                second += tap->weights[d] * (left[1] + right[1]);
            }
            to[0] = first;
            to[1] = second;
        }
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
        padded_[axis] = static_cast<std::size_t>(count) + 2 * static_cast<std::size_t>(reach_[axis]);
        for (int p = -reach_[axis]; p < count + reach_[axis]; ++p) {
            int at = p;
            if (at < 0 && grid_.symmetric[axis][0]) at = -1 - at;
            if (at >= count && grid_.symmetric[axis][1]) at = 2 * count - 1 - at;
            source_[axis].push_back(at >= 0 && at < count ? at : -1);
        }
    }
    row_ = (padded_[0] + 7) / 8 * 8;
    for (int dk = -reach_[2]; dk <= reach_[2]; ++dk)
        for (int dj = -reach_[1]; dj <= reach_[1]; ++dj) {
            std::vector<double> weights;
            for (int di = 0; di <= reach_[0]; ++di) {
                const double weight = radius - Vec3(di * grid_.cell[0], dj * grid_.cell[1],
                                                    dk * (axes == 3 ? grid_.cell[2] : 0.0))
                                                   .norm();
                const bool self = di == 0 && dj == 0 && dk == 0;
                if (weight <= 1e-12 * radius && !self) break;
                weights.push_back(std::max(weight, 1e-300));
            }
            if (weights.empty()) continue;
            const auto alike = [&](const Tap& tap) {
                return std::equal(tap.weights.begin(), tap.weights.end(), weights.begin(), weights.end(),
                                  [&](double a, double b) { return std::abs(a - b) <= 1e-14 * radius; });
            };
            auto tap = std::find_if(taps_.begin(), taps_.end(), alike);
            if (tap == taps_.end()) tap = taps_.insert(tap, {std::move(weights), {}});
            tap->away.push_back(
                (static_cast<std::ptrdiff_t>(dk) * static_cast<std::ptrdiff_t>(padded_[1]) + dj) *
                static_cast<std::ptrdiff_t>(row_));
        }
    for (std::size_t e = 0; e < variable_of.size(); ++e)
        if (variable_of[e] >= 0) {
            const auto v = static_cast<std::size_t>(variable_of[e]);
            if (cells_.size() <= v) cells_.resize(v + 1);
            cells_[v] = model.mesh.cell_of[e];
        }
    if (!std::is_sorted(cells_.begin(), cells_.end())) {
        by_cell_.resize(cells_.size());
        std::iota(by_cell_.begin(), by_cell_.end(), 0U);
        std::sort(by_cell_.begin(), by_cell_.end(),
                  [&](std::uint32_t a, std::uint32_t b) { return cells_[a] < cells_[b]; });
        std::sort(cells_.begin(), cells_.end());
    }
    const auto nx = static_cast<std::size_t>(grid_.count[0]);
    std::size_t at = 0;
    for (std::size_t row = 0; row * nx < grid_.size(); ++row) {
        while (at < cells_.size() && cells_[at] < row * nx) ++at;
        row_start_.push_back(static_cast<std::uint32_t>(at));
    }
    row_start_.push_back(static_cast<std::uint32_t>(cells_.size()));
    sum(std::vector<double>(cells_.size(), 1.0), nullptr, nullptr, inverse_sum_);
    for (double& s : inverse_sum_) s = 1.0 / s;
}

void GridFilter::sum(const std::vector<double>& values, const double* before, const double* after,
                     std::vector<double>& out) const {
    const auto nx = static_cast<std::size_t>(grid_.count[0]);
    const std::size_t ny = grid_.axes() > 1 ? static_cast<std::size_t>(grid_.count[1]) : 1;
    const std::size_t nz = grid_.axes() > 2 ? static_cast<std::size_t>(grid_.count[2]) : 1;
    out.resize(values.size());
    if (wide_->size() == 0) *wide_ = Strip<double>(row_ * padded_[1] * padded_[2]);
    const auto rows = static_cast<std::ptrdiff_t>(padded_[1] * padded_[2]);
    const auto halo = static_cast<std::size_t>(reach_[0]);
#pragma omp parallel for schedule(static)
    for (std::ptrdiff_t row = 0; row < rows; ++row) {
        const int j = source_[1][static_cast<std::size_t>(row) % padded_[1]];
        const int k = source_[2][static_cast<std::size_t>(row) / padded_[1]];
        if (j < 0 || k < 0) continue;
        const std::size_t own = static_cast<std::size_t>(k) * ny + static_cast<std::size_t>(j);
        const Span span = variables_of(own);
        double* wide = wide_->data() + static_cast<std::size_t>(row) * row_;
        double* to = wide + halo;
        // Where every cell is a variable they follow each other in memory.
        if (span.last - span.first == nx && by_cell_.empty()) {
            const double* from = values.data() + span.first;
            if (before == nullptr)
                for (std::size_t i = 0; i < nx; ++i) to[i] = from[i];
            else
                for (std::size_t i = 0; i < nx; ++i) to[i] = from[i] * before[span.first + i];
        } else {
            std::fill_n(to, nx, 0.0);
            for (std::size_t at = span.first; at < span.last; ++at) {
                const std::size_t v = variable(at);
                to[cells_[at] - own * nx] = before == nullptr ? values[v] : values[v] * before[v];
            }
        }
        for (std::size_t i = 0; i < halo; ++i) {
            const std::size_t end = halo + nx + i;
            if (source_[0][i] >= 0) wide[i] = to[static_cast<std::size_t>(source_[0][i])];
            if (source_[0][end] >= 0) wide[end] = to[static_cast<std::size_t>(source_[0][end])];
        }
    }
    std::vector<TapRows> taps;
    for (const Tap& tap : taps_)
        taps.push_back(
            {tap.away.data(), tap.away.size(), static_cast<int>(tap.weights.size()) - 1, tap.weights.data()});
    const auto own_rows = static_cast<std::ptrdiff_t>(ny * nz);
    const std::size_t blocks = (nx + 15) / 16;
#pragma omp parallel
    {
        std::vector<double> added(row_ + 48);
        std::vector<double> sums(16 * blocks);
#pragma omp for schedule(static)
        for (std::ptrdiff_t row = 0; row < own_rows; ++row) {
            const std::size_t j = static_cast<std::size_t>(row) % ny;
            const std::size_t k = static_cast<std::size_t>(row) / ny;
            const double* in = wide_->data() + ((k + static_cast<std::size_t>(reach_[2])) * padded_[1] + j +
                                                static_cast<std::size_t>(reach_[1])) *
                                                   row_;
            sum_row(taps.data(), taps.size(), in, reach_[0], added.data(), sums.data(), blocks);
            const auto own = static_cast<std::size_t>(row);
            const Span span = variables_of(own);
            for (std::size_t at = span.first; at < span.last; ++at) {
                const std::size_t v = variable(at);
                const double one = sums[cells_[at] - own * nx];
                out[v] = after == nullptr ? one : one * after[v];
            }
        }
    }
}

void GridFilter::apply(const std::vector<double>& x, std::vector<double>& out) const {
    sum(x, nullptr, inverse_sum_.data(), out);
}

void GridFilter::transpose(const std::vector<double>& g, std::vector<double>& out) const {
    sum(g, inverse_sum_.data(), nullptr, out); // the weights are as symmetric as the grid and its images
}

} // namespace upright
