#include "solve/lattice/carried.hpp"

#include "base/instruction_sets.hpp"

#include <algorithm>
#include <cmath>
#include <numeric>
#include <unordered_map>

namespace upright::lattices {

namespace {

constexpr double no_weight = 1e-9;
constexpr std::size_t wide = 12; // numbers a block takes in between: nine, and room for whole vectors

typedef double Four __attribute__((vector_size(32), aligned(8), may_alias));

struct Cell {
    std::array<std::int32_t, 3> at{};
    bool operator==(const Cell& other) const { return at == other.at; }
};

Cell cell_of(const Vec3& p) {
    Cell out;
    for (int a = 0; a < 3; ++a)
        out.at[static_cast<std::size_t>(a)] = static_cast<std::int32_t>(std::floor(p[a]));
    return out;
}

struct CellHash {
    std::size_t operator()(const Cell& c) const {
        std::size_t h = 0;
        for (const std::int32_t v : c.at)
            h = h * 0x9e3779b97f4a7c15ULL + static_cast<std::size_t>(static_cast<std::uint32_t>(v)) + 1;
        return h ^ (h >> 29);
    }
};

// The buckets that a bucket's rows reach, and the coarse nodes those lean on, ascending.
class Reach {
  public:
    Reach(const BlockPattern& fine, const Carried& carried)
        : fine_(fine), carried_(carried), seen_(carried.corners.size(), -1) {}
    const std::vector<std::int32_t>& of(std::int32_t bucket) {
        found.clear();
        const auto b = static_cast<std::size_t>(bucket);
        for (auto i = static_cast<std::size_t>(carried_.begins[b]);
             i < static_cast<std::size_t>(carried_.begins[b + 1]); ++i)
            for (std::size_t k = fine_.starts[i]; k < fine_.starts[i + 1]; ++k) {
                const auto other =
                    static_cast<std::size_t>(carried_.bucket_of[static_cast<std::size_t>(fine_.at[k])]);
                if (seen_[other] == bucket) continue;
                seen_[other] = bucket;
                for (const std::int32_t c : carried_.corners[other])
                    if (c != Carried::none) found.push_back(c);
            }
        std::sort(found.begin(), found.end());
        found.erase(std::unique(found.begin(), found.end()), found.end());
        return found;
    }

  private:
    const BlockPattern& fine_;
    const Carried& carried_;
    std::vector<std::int32_t> seen_;
    std::vector<std::int32_t> found;
};

// The share of some fine nodes of one bucket in P' A P: their rows times P, then P' times those. What stands
// in a row for nodes of one bucket stands together, and so its eight coarse nodes are met once. `local` has
// the place of each coarse node among those reached; of each corner of the bucket a row of `length` numbers.
UPRIGHT_CLONES void add_bucket(const BlockPattern& fine, const double* blocks, const Carried& carried,
                               std::size_t from, std::size_t to, const std::int32_t* local,
                               std::size_t length, double* sums) {
    for (std::size_t i = from; i < to; ++i) {
        const float* own = carried.weights.data() + 8 * i;
        const std::size_t end = fine.starts[i + 1];
        for (std::size_t k = fine.starts[i]; k < end;) {
            const std::int32_t bucket = carried.bucket_of[static_cast<std::size_t>(fine.at[k])];
            const auto beyond =
                static_cast<std::int32_t>(carried.begins[static_cast<std::size_t>(bucket) + 1]);
            Eight first[8] = {};
            Four rest[8] = {};
            for (; k < end && fine.at[k] < beyond; ++k) {
                const double* block = blocks + 9 * k; // read to its twelfth number: the next block's
                const Eight low = *reinterpret_cast<const Eight*>(block);
                const Four high = *reinterpret_cast<const Four*>(block + 8);
                const float* weights = carried.weights.data() + 8 * static_cast<std::size_t>(fine.at[k]);
                for (std::size_t c = 0; c < 8; ++c) {
                    const auto w = static_cast<double>(weights[c]);
                    first[c] += w * low;
                    rest[c] += w * high;
                }
            }
            const std::array<std::int32_t, 8>& corners = carried.corners[static_cast<std::size_t>(bucket)];
            for (std::size_t c = 0; c < 8; ++c) {
                if (corners[c] == Carried::none) continue;
                double* column = sums + static_cast<std::size_t>(local[corners[c]]) * wide;
                for (std::size_t s = 0; s < 8; ++s) {
                    const auto w = static_cast<double>(own[s]);
                    double* sum = column + s * length;
                    *reinterpret_cast<Eight*>(sum) += w * first[c];
                    *reinterpret_cast<Four*>(sum + 8) += w * rest[c];
                }
            }
        }
    }
}

} // namespace

Carrying carry(const std::vector<Vec3>& at, const std::vector<std::uint8_t>& beyond) {
    Carrying out;
    const std::size_t n = at.size();
    // Cells in an order that keeps neighbours near: by blocks of 4 x 4 x 4, then by themselves.
    std::unordered_map<Cell, std::int32_t, CellHash> number;
    std::vector<Cell> cells;
    std::vector<std::int32_t> cell_at(n, -1);
    for (std::size_t i = 0; i < n; ++i) {
        if (beyond[i] != 0) continue;
        const Cell cell = cell_of(at[i]);
        const auto [found, fresh] = number.emplace(cell, static_cast<std::int32_t>(cells.size()));
        if (fresh) cells.push_back(cell);
        cell_at[i] = found->second;
    }
    std::vector<std::int32_t> order_of_cells(cells.size());
    std::iota(order_of_cells.begin(), order_of_cells.end(), 0);
    const auto key = [&](std::int32_t c) {
        const std::array<std::int32_t, 3>& p = cells[static_cast<std::size_t>(c)].at;
        return std::array<std::int32_t, 6>{p[2] >> 2, p[1] >> 2, p[0] >> 2, p[2], p[1], p[0]};
    };
    std::sort(order_of_cells.begin(), order_of_cells.end(),
              [&](std::int32_t a, std::int32_t b) { return key(a) < key(b); });
    std::vector<std::int32_t> place_of_cell(cells.size());
    for (std::size_t c = 0; c < cells.size(); ++c)
        place_of_cell[static_cast<std::size_t>(order_of_cells[c])] = static_cast<std::int32_t>(c);
    // Nodes by their cells, those beyond at the end, each a bucket of its own.
    out.order.resize(n);
    std::iota(out.order.begin(), out.order.end(), 0);
    const auto place = [&](std::int32_t i) {
        const std::int32_t c = cell_at[static_cast<std::size_t>(i)];
        return c < 0 ? static_cast<std::int32_t>(cells.size()) : place_of_cell[static_cast<std::size_t>(c)];
    };
    std::stable_sort(out.order.begin(), out.order.end(),
                     [&](std::int32_t a, std::int32_t b) { return place(a) < place(b); });

    Carried& carried = out.carried;
    carried.bucket_of.resize(n);
    carried.weights.assign(8 * n, 0.0F);
    carried.colours.resize(9);
    std::unordered_map<Cell, std::int32_t, CellHash> coarse;
    for (std::size_t from = 0; from < n;) {
        const auto first = static_cast<std::size_t>(out.order[from]);
        const auto bucket = static_cast<std::int32_t>(carried.corners.size());
        carried.begins.push_back(static_cast<std::int32_t>(from));
        carried.corners.emplace_back();
        carried.corners.back().fill(Carried::none);
        if (beyond[first] != 0) {
            carried.corners.back()[0] = static_cast<std::int32_t>(out.lattice.size());
            out.lattice.push_back(at[first] * 0.5);
            out.beyond.push_back(1);
            carried.weights[8 * from] = 1.0F;
            carried.bucket_of[from] = bucket;
            carried.colours[8].push_back(bucket);
            ++from;
            continue;
        }
        const Cell& cell = cells[static_cast<std::size_t>(cell_at[first])];
        std::size_t to = from;
        std::array<double, 8> most{};
        for (; to < n && cell_at[static_cast<std::size_t>(out.order[to])] == cell_at[first]; ++to) {
            const Vec3& p = at[static_cast<std::size_t>(out.order[to])];
            carried.bucket_of[to] = bucket;
            for (std::size_t c = 0; c < 8; ++c) {
                double w = 1.0;
                for (std::size_t a = 0; a < 3; ++a) {
                    const double t = p[static_cast<Eigen::Index>(a)] - cell.at[a];
                    w *= ((c >> a) & 1U) != 0 ? t : 1.0 - t;
                }
                if (w <= no_weight) continue;
                carried.weights[8 * to + c] = static_cast<float>(w);
                most[c] = std::max(most[c], w);
            }
        }
        for (std::size_t c = 0; c < 8; ++c) {
            if (!(most[c] > 0.0)) continue;
            Cell corner = cell;
            for (std::size_t a = 0; a < 3; ++a) corner.at[a] += static_cast<std::int32_t>((c >> a) & 1U);
            const auto [found, fresh] = coarse.emplace(corner, static_cast<std::int32_t>(out.lattice.size()));
            if (fresh) {
                out.lattice.emplace_back(corner.at[0], corner.at[1], corner.at[2]);
                out.beyond.push_back(0);
            }
            carried.corners.back()[c] = found->second;
        }
        const auto colour =
            static_cast<std::size_t>((cell.at[0] & 1) + 2 * (cell.at[1] & 1) + 4 * (cell.at[2] & 1));
        carried.colours[colour].push_back(bucket);
        from = to;
    }
    carried.begins.push_back(static_cast<std::int32_t>(n));
    return out;
}

void Carried::number(const std::vector<std::int32_t>& new_of, std::size_t count) {
    for (std::array<std::int32_t, 8>& eight : corners)
        for (std::int32_t& c : eight)
            if (c != none) c = new_of[static_cast<std::size_t>(c)];
    starts.assign(count + 1, 0);
    const auto each = [&](auto&& call) {
        for (std::size_t i = 0; i < bucket_of.size(); ++i)
            for (std::size_t c = 0; c < 8; ++c)
                if (weights[8 * i + c] != 0.0F)
                    call(static_cast<std::size_t>(corners[static_cast<std::size_t>(bucket_of[i])][c]), i,
                         weights[8 * i + c]);
    };
    each([&](std::size_t c, std::size_t /*i*/, float /*w*/) { ++starts[c + 1]; });
    for (std::size_t c = 0; c < count; ++c) starts[c + 1] += starts[c];
    fine.resize(starts[count]);
    weight.resize(starts[count]);
    std::vector<std::size_t> next(starts.begin(), starts.end() - 1);
    each([&](std::size_t c, std::size_t i, float w) {
        fine[next[c]] = static_cast<std::int32_t>(i);
        weight[next[c]++] = w;
    });
}

BlockPattern coarse_pattern(const BlockPattern& fine, const Carried& carried, int threads) {
    const std::size_t n = carried.coarse_nodes();
    std::vector<std::vector<std::int32_t>> rows(n);
#pragma omp parallel num_threads(threads)
    {
        Reach reach(fine, carried);
        std::vector<std::int32_t> both;
        for (const std::vector<std::int32_t>& colour : carried.colours) {
#pragma omp for schedule(dynamic, 16)
            for (std::size_t b = 0; b < colour.size(); ++b) {
                const std::vector<std::int32_t>& found = reach.of(colour[b]);
                for (const std::int32_t c : carried.corners[static_cast<std::size_t>(colour[b])]) {
                    if (c == Carried::none) continue;
                    std::vector<std::int32_t>& row = rows[static_cast<std::size_t>(c)];
                    both.clear();
                    std::set_union(row.begin(), row.end(), found.begin(), found.end(),
                                   std::back_inserter(both));
                    row.assign(both.begin(), both.end());
                }
            }
        }
    }
    BlockPattern out;
    out.starts.reserve(n + 1);
    for (const std::vector<std::int32_t>& row : rows) out.starts.push_back(out.starts.back() + row.size());
    out.at.reserve(out.starts.back());
    for (std::vector<std::int32_t>& row : rows) {
        out.at.insert(out.at.end(), row.begin(), row.end());
        row = {};
    }
    return out;
}

void coarse_blocks(const BlockPattern& fine, const double* blocks, const Carried& carried,
                   const BlockPattern& coarse, double* out, int threads) {
    std::fill(out, out + 9 * coarse.blocks(), 0.0);
#pragma omp parallel num_threads(threads)
    {
        Reach reach(fine, carried);
        std::vector<std::int32_t> local(carried.coarse_nodes(), 0);
        std::vector<double> sums;
        for (const std::vector<std::int32_t>& colour : carried.colours) {
#pragma omp for schedule(dynamic, 16)
            for (std::size_t b = 0; b < colour.size(); ++b) {
                const auto bucket = static_cast<std::size_t>(colour[b]);
                const std::vector<std::int32_t>& found = reach.of(colour[b]);
                for (std::size_t m = 0; m < found.size(); ++m)
                    local[static_cast<std::size_t>(found[m])] = static_cast<std::int32_t>(m);
                const std::size_t length = found.size() * wide;
                sums.assign(8 * length, 0.0);
                add_bucket(fine, blocks, carried, static_cast<std::size_t>(carried.begins[bucket]),
                           static_cast<std::size_t>(carried.begins[bucket + 1]), local.data(), length,
                           sums.data());
                for (std::size_t c = 0; c < 8; ++c) {
                    const std::int32_t s = carried.corners[bucket][c];
                    if (s == Carried::none) continue;
                    std::size_t k = coarse.starts[static_cast<std::size_t>(s)];
                    for (std::size_t m = 0; m < found.size(); ++m) {
                        while (coarse.at[k] != found[m]) ++k;
                        const double* sum = sums.data() + c * length + m * wide;
                        for (std::size_t i = 0; i < 9; ++i) out[9 * k + i] += sum[i];
                    }
                }
            }
        }
    }
}

void restrict_to(const Carried& carried, const float* fine, float* coarse, int threads) {
    const std::size_t n = carried.coarse_nodes();
#pragma omp parallel for num_threads(threads) schedule(static) if (n > 500)
    for (std::size_t c = 0; c < n; ++c) {
        float sum[3] = {};
        for (std::size_t k = carried.starts[c]; k < carried.starts[c + 1]; ++k) {
            const float* from = fine + 3 * static_cast<std::size_t>(carried.fine[k]);
            for (std::size_t d = 0; d < 3; ++d) sum[d] += carried.weight[k] * from[d];
        }
        for (std::size_t d = 0; d < 3; ++d) coarse[3 * c + d] = sum[d];
    }
}

void prolong_from(const Carried& carried, const float* coarse, float* fine, int threads) {
    const std::size_t buckets = carried.corners.size();
#pragma omp parallel for num_threads(threads) schedule(static) if (buckets > 100)
    for (std::size_t b = 0; b < buckets; ++b) {
        float corner[8][3] = {};
        for (std::size_t c = 0; c < 8; ++c)
            if (carried.corners[b][c] != Carried::none)
                for (std::size_t d = 0; d < 3; ++d)
                    corner[c][d] = coarse[3 * static_cast<std::size_t>(carried.corners[b][c]) + d];
        for (auto i = static_cast<std::size_t>(carried.begins[b]);
             i < static_cast<std::size_t>(carried.begins[b + 1]); ++i)
            for (std::size_t c = 0; c < 8; ++c) {
                const float w = carried.weights[8 * i + c];
                for (std::size_t d = 0; d < 3; ++d) fine[3 * i + d] += w * corner[c][d];
            }
    }
}

} // namespace upright::lattices
