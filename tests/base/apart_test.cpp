#include "base/apart.hpp"

#include "support/folder.hpp"
#include "support/sanitized.hpp"

#include <csignal>
#include <gtest/gtest.h>
#include <numeric>

using namespace upright;

namespace {

// What the process that is given the work comes to: its number, or the sentence of the error.
std::string sentence(const std::function<void()>& work, const ApartLimits& limits = {}) {
    int number = 0;
    try {
        run_apart(
            "no file", limits, "the library",
            [&] {
                work();
                number = 7;
            },
            [&](Handover& over) { over.one(number); });
    } catch (const std::runtime_error& bad) {
        return bad.what();
    }
    return std::to_string(number);
}

} // namespace

TEST(Apart, HandsOverAllKindsOfValuesInAnySize) {
    std::vector<double> numbers;
    std::string text;
    std::map<std::string, int> by_name;
    std::vector<std::string> names;
    run_apart(
        "no file", {}, "the library",
        [&] {
            numbers.resize(300001); // many times what a pipe holds
            std::iota(numbers.begin(), numbers.end(), 0.5);
            text = std::string(100000, 'x') + "é";
            by_name = {{"a", 1}, {"", -2}};
            names = {"one", "", "three"};
        },
        [&](Handover& over) {
            over.many(numbers);
            over.text(text);
            over.each(by_name, [&](int& one) { over.one(one); });
            over.each(names, [&](std::string& one) { over.text(one); });
        });
    ASSERT_EQ(numbers.size(), 300001U);
    EXPECT_EQ(numbers[300000], 300000.5);
    EXPECT_EQ(text.size(), 100002U);
    EXPECT_EQ(by_name, (std::map<std::string, int>{{"a", 1}, {"", -2}}));
    EXPECT_EQ(names, (std::vector<std::string>{"one", "", "three"}));
}

TEST(Apart, AnyEndIsOneSentence) {
    EXPECT_EQ(sentence([] {}), "7");
    EXPECT_EQ(sentence([] { throw std::runtime_error("is no such thing"); }), "is no such thing");
    EXPECT_EQ(sentence([] { std::raise(SIGSEGV); }),
              "the library breaks down on it (signal 11): the file is damaged");
    EXPECT_EQ(sentence([] { std::raise(SIGABRT); }),
              "the library breaks down on it (signal 6): the file is damaged");
    EXPECT_EQ(sentence([] { ::_exit(0); }), "what was read of it could not be handed over");
    EXPECT_EQ(sentence([] { throw 1; }), "what was read of it could not be handed over");
    ApartLimits little;
    little.seconds = 1.0;
    EXPECT_EQ(sentence(
                  [] {
                      for (volatile std::size_t i = 0;; i = i + 1) {
                      }
                  },
                  little),
              "reading it takes more than 1 s");
}

TEST(Apart, MemoryHasALimit) {
    if (test::sanitized) GTEST_SKIP() << "no limit can be set";
    ApartLimits little;
    little.memory = 1e8;
    const auto take = [] {
        std::vector<char> room(std::size_t{1} << 30);
        std::fill(room.begin(), room.end(), 'x');
    };
    EXPECT_EQ(sentence(take, little), "reading it takes more than 0.1 GB of memory");
    EXPECT_EQ(sentence(take, {}).rfind("reading it takes more than", 0),
              0U); // 1 GB for a file that is not there
    ApartLimits much;
    much.memory = 3e9;
    EXPECT_EQ(sentence(take, much), "7");
}
