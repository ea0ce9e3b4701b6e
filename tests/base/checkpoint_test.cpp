#include "base/checkpoint.hpp"
#include "base/error.hpp"
#include "base/id_vector.hpp"

#include <gtest/gtest.h>
#include <stdexcept>

namespace upright {
namespace {

struct Kept {
    double scale = 0.0;
    int steps = 0;
    bool careful = false;
    std::vector<double> x;
    std::map<std::string, double> sizes;
    std::vector<Eigen::MatrixXd> starts;

    void walk(const Walk& w) {
        w("scale", scale);
        w("careful", careful);
        w("sizes", sizes);
        const Walk inner = w.part("inner");
        inner("steps", steps);
        inner("x", x);
        inner("starts", starts);
    }
};

} // namespace

TEST(Checkpoint, OneWalkKeepsAndTakesUp) {
    Kept a{1.0 / 3.0, 7, true, {0.1, 0.2}, {{"sag@start-up/1", 2.5}, {"other", 1.0}}, {}};
    a.starts = {Eigen::MatrixXd::Random(5, 3), Eigen::MatrixXd(), Eigen::MatrixXd::Random(2, 1)};
    Checkpoint kept;
    a.walk(Walk(kept).part("run"));
    Kept b;
    b.x = {9.0};
    b.walk(Walk(std::as_const(kept)).part("run"));
    EXPECT_EQ(b.scale, a.scale);
    EXPECT_EQ(b.steps, 7);
    EXPECT_TRUE(b.careful);
    EXPECT_EQ(b.x, a.x);
    EXPECT_EQ(b.sizes, a.sizes);
    ASSERT_EQ(b.starts.size(), 3U);
    EXPECT_EQ(b.starts[0], a.starts[0]);
    EXPECT_EQ(b.starts[1].size(), 0);
    EXPECT_EQ(b.starts[2], a.starts[2]);
}

TEST(Checkpoint, WhatIsNotThereStaysAsItIs) {
    const Checkpoint nothing;
    Kept b;
    b.steps = 3;
    b.starts.resize(2);
    b.walk(Walk(nothing));
    EXPECT_EQ(b.steps, 3);
    EXPECT_EQ(b.starts.size(), 2U);
}

TEST(Checkpoint, AnotherTypeOrALyingCountIsDamage) {
    Kept a;
    a.starts = {Eigen::MatrixXd::Ones(1, 1)};
    Checkpoint kept;
    a.walk(Walk(kept));
    Checkpoint wrong = kept;
    wrong.values["inner/steps"] = 2.5;
    EXPECT_THROW(Kept().walk(Walk(std::as_const(wrong))), Error);
    // Whole numbers are counts: one more than the largest would be none.
    for (const std::int64_t steps :
         {std::int64_t{2147483647}, std::int64_t{-2147483648}, std::int64_t{1} << 40}) {
        Checkpoint far = kept;
        far.values["inner/steps"] = steps;
        EXPECT_THROW(Kept().walk(Walk(std::as_const(far))), Error) << steps;
    }
    for (const std::int64_t count : {std::int64_t{-1}, std::int64_t{4000000000}}) {
        Checkpoint lying = kept;
        lying.values["inner/starts/count"] = count;
        EXPECT_THROW(Kept().walk(Walk(std::as_const(lying))), Error) << count;
    }
}

TEST(IdVector, IsWalkedByItsIdentifiers) {
    IdVector<LoadId, std::string> list({"push", "pull"});
    list.push_back("turn");
    std::string all;
    for (const LoadId l : list.ids()) all += list[l] + std::to_string(index(l));
    EXPECT_EQ(all, "push0pull1turn2");
    EXPECT_THROW(list.at(3), std::out_of_range);
}

} // namespace upright
