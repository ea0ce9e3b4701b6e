#include "base/reduction.hpp"
#include "optimize/moving_asymptotes.hpp"
#include "optimize/optimality_criteria.hpp"
#include "solve/conjugate_gradients.hpp"

#include <condition_variable>
#include <gtest/gtest.h>
#include <mutex>
#include <omp.h>
#include <thread>

namespace upright {
namespace {

// Several threads as peers: each waits for the others and gets what all of them have.
class Threads final : public Peers {
  public:
    explicit Threads(int count) : count_(count) {}
    void add(double* values, std::size_t count) const override {
        join(values, count, [](double a, double b) { return a + b; });
    }
    void add(std::int64_t* values, std::size_t count) const override {
        std::vector<double> wide(values, values + count);
        add(wide.data(), count);
        for (std::size_t i = 0; i < count; ++i) values[i] = static_cast<std::int64_t>(wide[i]);
    }
    void take_largest(double* values, std::size_t count) const override {
        join(values, count, [](double a, double b) { return std::max(a, b); });
    }

  private:
    template <class F> void join(double* values, std::size_t count, const F& both) const {
        std::unique_lock<std::mutex> lock(mutex_);
        turn_.wait(lock, [&] { return !leaving_; });
        if (here_ == 0)
            sum_.assign(values, values + count);
        else
            for (std::size_t i = 0; i < count; ++i) sum_[i] = both(sum_[i], values[i]);
        if (++here_ == count_) {
            leaving_ = true;
            turn_.notify_all();
        }
        turn_.wait(lock, [&] { return leaving_; });
        std::copy(sum_.begin(), sum_.end(), values);
        if (--here_ == 0) {
            leaving_ = false;
            turn_.notify_all();
        }
    }

    int count_;
    mutable std::mutex mutex_;
    mutable std::condition_variable turn_;
    mutable std::vector<double> sum_;
    mutable int here_ = 0;
    mutable bool leaving_ = false;
};

// Calls work(rank) in as many threads, as peers of each other.
template <class Work> void together(int count, const Work& work) {
    const Threads all(count);
    const WithPeers scope(all);
    std::vector<std::thread> threads;
    for (int rank = 0; rank < count; ++rank)
        threads.emplace_back([&, rank] {
            ::omp_set_num_threads(1);
            work(rank);
        });
    for (std::thread& t : threads) t.join();
}

std::vector<double> part_of(const std::vector<double>& all, int rank) {
    const auto middle = all.begin() + static_cast<std::ptrdiff_t>(all.size() / 3); // of unequal length
    return rank == 0 ? std::vector<double>(all.begin(), middle) : std::vector<double>(middle, all.end());
}

std::vector<double> numbers(std::size_t n, double low, double high) {
    std::vector<double> out(n);
    std::uint32_t seed = 12345;
    for (double& v : out) {
        seed = seed * 1664525U + 1013904223U;
        v = low + (high - low) * (seed >> 8) / 16777216.0;
    }
    return out;
}

} // namespace

TEST(Reduction, ClosedFormsOverBlocksOfAnyLength) {
    for (const std::size_t n :
         {std::size_t{0}, std::size_t{1}, block_of_range, block_of_range + 1, 5 * block_of_range}) {
        const auto N = static_cast<double>(n);
        const auto value = [](std::size_t i) { return static_cast<double>(i); };
        EXPECT_DOUBLE_EQ(sum_over(n, value), 0.5 * N * (N - 1)) << n;
        EXPECT_DOUBLE_EQ(sum_of(std::vector<double>(n, 0.5)), 0.5 * N) << n;
        EXPECT_DOUBLE_EQ(largest_over(n, -1.0, value), N - 1) << n;
        EXPECT_EQ(count_over(n, [](std::size_t i) { return i % 2 == 0; }),
                  static_cast<std::int64_t>((n + 1) / 2))
            << n;
        EXPECT_EQ(any_over(n, [&](std::size_t i) { return i + 1 == n; }), n > 0) << n;
    }
    EXPECT_DOUBLE_EQ(largest_difference({1, 5, 2}, {2, 1, 2}), 4.0);
    EXPECT_DOUBLE_EQ(weighted_sum({1, 2, 3}, {4, 5, 6}), 32.0);
}

TEST(Reduction, PeersGetTheWhole) {
    const std::vector<double> all = numbers(50000, -1.0, 1.0);
    const double sum = sum_of(all);
    const double most = largest_over(all.size(), -1e300, [&](std::size_t i) { return all[i]; });
    together(2, [&](int rank) {
        const std::vector<double> mine = part_of(all, rank);
        EXPECT_NEAR(sum_of(mine), sum, 1e-10);
        EXPECT_EQ(largest_over(mine.size(), -1e300, [&](std::size_t i) { return mine[i]; }), most);
        EXPECT_EQ(count_over(mine.size(), [&](std::size_t) { return true; }), 50000);
        EXPECT_TRUE(any_over(mine.size(), [&](std::size_t i) { return rank == 1 && i == 7; }));
    });
    EXPECT_EQ(sum_of(all), sum); // alone again
}

// Optimality criteria on two peers, each with its part of the variables, come to the same step.
TEST(Reduction, CriteriaStepIsTheSameOnTwoPeers) {
    const std::size_t n = 3000;
    const std::vector<double> x = numbers(n, 0.2, 0.9);
    const std::vector<double> benefit = numbers(n, 0.1, 5.0);
    const std::vector<double> cost(n, 1.0 / static_cast<double>(n));
    const CriteriaStep whole = criteria_step({x, benefit, cost, 0.2, 1.0}, 0.5, 0.0);
    const CriteriaStep least = least_material_step({x, benefit, cost, 0.2, 1.0}, 9000.0, 8000.0);
    together(2, [&](int rank) {
        const std::vector<double> mine = part_of(x, rank);
        const std::vector<double> gain = part_of(benefit, rank);
        const std::vector<double> price = part_of(cost, rank);
        const CriteriaStep part = criteria_step({mine, gain, price, 0.2, 1.0}, 0.5, 0.0);
        const std::vector<double> expected = part_of(whole.x, rank);
        for (std::size_t i = 0; i < mine.size(); ++i) ASSERT_NEAR(part.x[i], expected[i], 1e-9) << rank;
        EXPECT_NEAR(part.multiplier, whole.multiplier, 1e-9 * whole.multiplier);
        const CriteriaStep light = least_material_step({mine, gain, price, 0.2, 1.0}, 9000.0, 8000.0);
        EXPECT_NEAR(light.multiplier, least.multiplier, 1e-6 * least.multiplier);
    });
}

// Moving asymptotes with two constraints, over three steps so that the asymptotes have moved.
TEST(Reduction, AsymptotesAreTheSameOnTwoPeers) {
    const std::size_t n = 900;
    const std::vector<double> weight = numbers(n, 0.5, 2.0);
    const std::vector<double> other = numbers(n, -1.0, 1.0);
    // The least of sum w / x with sum x <= 0.4 n and sum other x <= 0.05 n.
    const auto step = [&](const std::vector<double>& w, const std::vector<double>& o) {
        const double count = static_cast<double>(n);
        std::vector<double> x(w.size(), 0.5);
        const std::vector<double> low(w.size(), 0.01);
        const std::vector<double> high(w.size(), 1.0);
        MmaState state;
        MmaStep out;
        for (int k = 0; k < 3; ++k) {
            MmaValues v;
            v.goal = sum_over(x.size(), [&](std::size_t i) { return w[i] / x[i]; }) / count;
            v.constraint = {sum_of(x) / count - 0.4, weighted_sum(o, x) / count - 0.05};
            v.gradient.assign(2, std::vector<double>(x.size()));
            for (std::size_t i = 0; i < x.size(); ++i) {
                v.goal_gradient.push_back(-w[i] / (x[i] * x[i]) / count);
                v.gradient[0][i] = 1.0 / count;
                v.gradient[1][i] = o[i] / count;
            }
            out = mma_step({x, low, high, 0.3, v}, {}, state);
            x = out.x;
        }
        return out;
    };
    const MmaStep whole = step(weight, other);
    together(2, [&](int rank) {
        const MmaStep part = step(part_of(weight, rank), part_of(other, rank));
        const std::vector<double> expected = part_of(whole.x, rank);
        for (std::size_t i = 0; i < expected.size(); ++i) ASSERT_NEAR(part.x[i], expected[i], 1e-7) << rank;
        EXPECT_NEAR(part.multiplier[0], whole.multiplier[0], 1e-6);
    });
}

} // namespace upright
