// Sums, largest values and questions over all elements, nodes, unknowns or variables. They are made here
// alone, with whoever holds a part of them: a program by itself (Alone), or many processes, each with its own
// part and a Peers of theirs. Every peer calls the same function and gets the same answer. Sums come in a
// fixed order: the same whatever the threads do.
#pragma once

#include "base/blocks.hpp"

#include <array>
#include <cstddef>
#include <cstdint>
#include <vector>

namespace upright {

// With whom values are put together, in place.
class Peers {
  public:
    virtual ~Peers() = default;
    virtual void add(double* values, std::size_t count) const = 0;
    virtual void add(std::int64_t* values, std::size_t count) const = 0;
    virtual void take_largest(double* values, std::size_t count) const = 0;
};

// Nobody else has a part.
class Alone final : public Peers {
  public:
    void add(double* /*values*/, std::size_t /*count*/) const override {}
    void add(std::int64_t* /*values*/, std::size_t /*count*/) const override {}
    void take_largest(double* /*values*/, std::size_t /*count*/) const override {}
};

// Those of this process: Alone until others are set.
const Peers& peers();
// Sets others for as long as it lives. Not while anything is being computed.
class WithPeers {
  public:
    explicit WithPeers(const Peers& others);
    ~WithPeers();
    WithPeers(const WithPeers&) = delete;
    WithPeers& operator=(const WithPeers&) = delete;

  private:
    const Peers* before_;
};

// Of what each peer found on its own part.
inline double total(double mine) {
    peers().add(&mine, 1);
    return mine;
}
inline std::int64_t total(std::int64_t mine) {
    peers().add(&mine, 1);
    return mine;
}
inline void total(double* mine, std::size_t count) {
    peers().add(mine, count);
}
inline double largest_of_all(double mine) {
    peers().take_largest(&mine, 1);
    return mine;
}
inline bool any_of_all(bool mine) {
    return largest_of_all(mine ? 1.0 : 0.0) > 0.0;
}

// Several sums at once: part(from, to) gives an array of `Count` for each block of [0, n).
template <std::size_t Count, class Part>
std::array<double, Count> sums_of_blocks(std::size_t n, Part&& part, int threads = 0) {
    std::vector<std::array<double, Count>> parts((n + block_of_range - 1) / block_of_range);
    each_block(
        n, [&](std::size_t from, std::size_t to) { parts[from / block_of_range] = part(from, to); }, threads);
    std::array<double, Count> out{};
    for (const std::array<double, Count>& p : parts)
        for (std::size_t c = 0; c < Count; ++c) out[c] += p[c];
    total(out.data(), Count);
    return out;
}

// The sum of part(from, to) over blocks of [0, n).
template <class Part> double sum_of_blocks(std::size_t n, Part&& part, int threads = 0) {
    return sums_of_blocks<1>(
        n, [&](std::size_t from, std::size_t to) { return std::array<double, 1>{part(from, to)}; },
        threads)[0];
}

// The sum of value(i) over [0, n); value is called from several threads.
template <class Value> double sum_over(std::size_t n, Value&& value, int threads = 0) {
    return sum_of_blocks(
        n,
        [&](std::size_t from, std::size_t to) {
            double sum = 0.0;
            for (std::size_t i = from; i < to; ++i) sum += value(i);
            return sum;
        },
        threads);
}
inline double sum_of(const std::vector<double>& values) {
    return sum_over(values.size(), [&](std::size_t i) { return values[i]; });
}

// The sum of a_i b_i.
inline double inner_product(std::size_t n, const double* a, const double* b, int threads = 0) {
    return sum_of_blocks(
        n,
        [&](std::size_t from, std::size_t to) {
            double sum = 0.0;
#pragma omp simd reduction(+ : sum)
            for (std::size_t i = from; i < to; ++i) sum += a[i] * b[i];
            return sum;
        },
        threads);
}
inline double weighted_sum(const std::vector<double>& a, const std::vector<double>& b) {
    return inner_product(a.size(), a.data(), b.data());
}

// The largest value(i) over [0, n), and `least` where there is none; value is called from several threads.
template <class Value> double largest_over(std::size_t n, double least, Value&& value, int threads = 0) {
    std::vector<double> parts((n + block_of_range - 1) / block_of_range, least);
    each_block(
        n,
        [&](std::size_t from, std::size_t to) {
            double most = least;
            for (std::size_t i = from; i < to; ++i) {
                const double one = value(i);
                most = one > most ? one : most;
            }
            parts[from / block_of_range] = most;
        },
        threads);
    double out = least;
    for (const double one : parts) out = std::max(out, one);
    return largest_of_all(out);
}

// The largest |a_i - b_i|.
inline double largest_difference(const std::vector<double>& a, const std::vector<double>& b) {
    return largest_over(a.size(), 0.0, [&](std::size_t i) { return std::abs(a[i] - b[i]); });
}

// How many of [0, n) pass, and whether any does.
template <class Test> std::int64_t count_over(std::size_t n, Test&& test) {
    std::int64_t mine = 0;
    for (std::size_t i = 0; i < n; ++i) mine += test(i) ? 1 : 0;
    return total(mine);
}
template <class Test> bool any_over(std::size_t n, Test&& test) {
    bool mine = false;
    for (std::size_t i = 0; i < n && !mine; ++i) mine = test(i);
    return any_of_all(mine);
}

} // namespace upright
