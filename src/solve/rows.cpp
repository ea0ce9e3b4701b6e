#include "solve/rows.hpp"

#include "base/instruction_sets.hpp"

#include <algorithm>
#include <numeric>

namespace upright {

void multiply(const Rows& m, const double* x, double* y, int threads) {
    const auto n = static_cast<std::ptrdiff_t>(m.rows());
#pragma omp parallel for num_threads(threads) schedule(static) if (n > 2000)
    for (std::ptrdiff_t r = 0; r < n; ++r) {
        double sum = 0.0;
        const auto row = static_cast<std::size_t>(r);
        for (std::size_t k = m.starts[row]; k < m.starts[row + 1]; ++k) sum += m.value[k] * x[m.at[k]];
        y[r] = sum;
    }
}

Rows transposed(const Rows& m) {
    Rows out;
    out.columns = m.rows();
    out.starts.assign(m.columns + 1, 0);
    for (const std::int32_t c : m.at) ++out.starts[static_cast<std::size_t>(c) + 1];
    for (std::size_t c = 0; c < m.columns; ++c) out.starts[c + 1] += out.starts[c];
    out.at.resize(m.at.size());
    out.value.resize(m.at.size());
    std::vector<std::size_t> next(out.starts.begin(), out.starts.end() - 1);
    for (std::size_t r = 0; r < m.rows(); ++r)
        for (std::size_t k = m.starts[r]; k < m.starts[r + 1]; ++k) {
            const std::size_t to = next[static_cast<std::size_t>(m.at[k])]++;
            out.at[to] = static_cast<std::int32_t>(r);
            out.value[to] = m.value[k];
        }
    return out;
}

// From the group of each column, which do not decrease. Where some row of `b` has a part of a group alone
// every column is its own.
ColumnGroups groups_of(const Rows& b, const std::vector<std::int32_t>& node_of) {
    ColumnGroups out;
    for (std::size_t c = 0; c < b.columns; ++c) {
        if (c == 0 || node_of[c] != node_of[c - 1]) out.first.push_back(static_cast<std::int32_t>(c));
        out.of.push_back(static_cast<std::int32_t>(out.first.size()) - 1);
    }
    out.first.push_back(static_cast<std::int32_t>(b.columns));
    for (std::size_t r = 0; r < b.rows(); ++r)
        for (std::size_t k = b.starts[r]; k < b.starts[r + 1];) {
            const auto g = static_cast<std::size_t>(out.of[static_cast<std::size_t>(b.at[k])]);
            const auto count = static_cast<std::size_t>(out.first[g + 1] - out.first[g]);
            if (b.at[k] != out.first[g] || k + count > b.starts[r + 1] ||
                b.at[k + count - 1] != out.first[g + 1] - 1) {
                out.of.resize(b.columns);
                out.first.resize(b.columns + 1);
                std::iota(out.of.begin(), out.of.end(), 0);
                std::iota(out.first.begin(), out.first.end(), 0);
                return out;
            }
            k += count;
        }
    return out;
}

constexpr std::size_t most_rows_together = 6;

// Adds rows of one pattern times b. The sums of a group stand together, row after row of it.
UPRIGHT_CLONES void add_rows(const Rows& b, const ColumnGroups& groups, const std::int32_t* at,
                             const double* values, std::size_t length, std::size_t many, std::uint8_t* there,
                             std::vector<std::int32_t>& found, double* sums) {
    for (std::size_t k = 0; k < length; ++k) {
        const auto middle = static_cast<std::size_t>(at[k]);
        for (std::size_t l = b.starts[middle]; l < b.starts[middle + 1];) {
            const auto c = static_cast<std::size_t>(b.at[l]);
            const auto g = static_cast<std::size_t>(groups.of[c]);
            const auto count = static_cast<std::size_t>(groups.first[g + 1] - groups.first[g]);
            if (there[g] == 0) {
                there[g] = 1;
                found.push_back(static_cast<std::int32_t>(g));
            }
            const double* with = b.value.data() + l;
            double* sum = sums + c * most_rows_together;
            if (count == 6) {
                for (std::size_t m = 0; m < many; ++m, sum += 6) {
                    const double v = values[k + m * length];
                    for (int i = 0; i < 6; ++i) sum[i] += v * with[i];
                }
            } else {
                for (std::size_t m = 0; m < many; ++m, sum += count) {
                    const double v = values[k + m * length];
                    for (std::size_t i = 0; i < count; ++i) sum[i] += v * with[i];
                }
            }
            l += count;
        }
    }
}

// a * b, row by row with dense rows of sums (Gustavson 1978): rows of one pattern together, columns by
// groups; columns ascending. `node_of`: the group of each column of b.
Rows product(const Rows& a, const Rows& b, const std::vector<std::int32_t>& node_of, int threads) {
    Rows out;
    out.columns = b.columns;
    const ColumnGroups groups = groups_of(b, node_of);
    const std::size_t n = a.rows();
    const int parts = std::max(1, threads) * 4;
    struct Part {
        std::vector<std::size_t> counts;
        std::vector<std::int32_t> at;
        std::vector<double> value;
    };
    std::vector<Part> pieces(static_cast<std::size_t>(parts));
    const auto alike = [&](std::size_t r, std::size_t other) {
        const std::size_t count = a.starts[r + 1] - a.starts[r];
        return a.starts[other + 1] - a.starts[other] == count &&
               std::equal(a.at.begin() + static_cast<std::ptrdiff_t>(a.starts[r]),
                          a.at.begin() + static_cast<std::ptrdiff_t>(a.starts[r + 1]),
                          a.at.begin() + static_cast<std::ptrdiff_t>(a.starts[other]));
    };
#pragma omp parallel num_threads(threads)
    {
        std::vector<double> sums(b.columns * most_rows_together, 0.0);
        std::vector<std::uint8_t> there(groups.first.size(), 0);
        std::vector<std::int32_t> found;
#pragma omp for schedule(dynamic)
        for (int p = 0; p < parts; ++p) {
            Part& piece = pieces[static_cast<std::size_t>(p)];
            const std::size_t from = n * static_cast<std::size_t>(p) / static_cast<std::size_t>(parts);
            const std::size_t to = n * static_cast<std::size_t>(p + 1) / static_cast<std::size_t>(parts);
            for (std::size_t r = from; r < to;) {
                std::size_t many = 1;
                while (many < most_rows_together && r + many < to && alike(r, r + many)) ++many;
                found.clear();
                const std::size_t length = a.starts[r + 1] - a.starts[r];
                add_rows(b, groups, a.at.data() + a.starts[r], a.value.data() + a.starts[r], length, many,
                         there.data(), found, sums.data());
                std::sort(found.begin(), found.end());
                for (std::size_t m = 0; m < many; ++m) {
                    const std::size_t begun = piece.at.size();
                    for (const std::int32_t g : found) {
                        const auto first =
                            static_cast<std::size_t>(groups.first[static_cast<std::size_t>(g)]);
                        const auto count =
                            static_cast<std::size_t>(groups.first[static_cast<std::size_t>(g) + 1]) - first;
                        double* sum = sums.data() + first * most_rows_together + m * count;
                        for (std::size_t i = 0; i < count; ++i) {
                            piece.at.push_back(static_cast<std::int32_t>(first + i));
                            piece.value.push_back(sum[i]);
                            sum[i] = 0.0;
                        }
                    }
                    piece.counts.push_back(piece.at.size() - begun);
                }
                for (const std::int32_t g : found) there[static_cast<std::size_t>(g)] = 0;
                r += many;
            }
        }
    }
    std::size_t entries = 0;
    for (const Part& piece : pieces) entries += piece.at.size();
    out.at.reserve(entries);
    out.value.reserve(entries);
    for (Part& piece : pieces) {
        for (const std::size_t count : piece.counts) out.starts.push_back(out.starts.back() + count);
        out.at.insert(out.at.end(), piece.at.begin(), piece.at.end());
        out.value.insert(out.value.end(), piece.value.begin(), piece.value.end());
        piece = {};
    }
    return out;
}

} // namespace upright
