// Every reader on files that are damaged, and on those that once broke one. scripts/fuzz tries far more.
#include "base/files.hpp"
#include "fuzz/targets.hpp"

#include <filesystem>
#include <gtest/gtest.h>
#include <random>

using namespace upright;

namespace {

// A copy that is damaged in one to four ways.
std::string damaged(std::string out, std::mt19937& random) {
    const auto below = [&](std::size_t n) { return n == 0 ? 0 : random() % n; };
    static const std::vector<std::string> odd{
        "0",          "-1",          "1e308", "-1e308", "1e-320", "nan",  "inf", "99999999999999999999",
        "2147483648", "-2147483649", "1.5",   "",       "x",      "1e999"};
    for (std::size_t ways = 1 + below(4); ways > 0; --ways) {
        const std::size_t at = below(out.size());
        const std::size_t far = std::min(out.size(), at + (std::size_t{1} << below(9)));
        switch (below(8)) {
        case 0:
            if (!out.empty()) out[at] = static_cast<char>(out[at] ^ static_cast<char>(1U << below(8)));
            break;
        case 1:
            if (!out.empty()) out[at] = static_cast<char>(below(256));
            break;
        case 2:
            out.erase(at, far - at);
            break;
        case 3:
            out.insert(at, out.substr(at, far - at));
            break;
        case 4:
            out.resize(at);
            break;
        case 5:
            out.insert(at, odd[below(odd.size())]);
            break;
        default: { // a number for another
            const std::size_t from = out.find_first_of("0123456789", at);
            if (from == std::string::npos) break;
            const std::size_t to = std::min(out.size(), out.find_first_not_of("0123456789.eE+-", from));
            out.replace(from, to - from, odd[below(odd.size())]);
        }
        }
    }
    return out;
}

class Readers : public testing::TestWithParam<std::size_t> {};

} // namespace

TEST_P(Readers, EndWithAResultOrAnErrorOfOurs) {
    const fuzz::Target& target = fuzz::targets().at(GetParam());
    const std::vector<std::string> seeds = target.seeds();
    ASSERT_FALSE(seeds.empty());
    for (const std::string& whole : seeds) EXPECT_NO_THROW(target.take(whole)) << target.name;
    std::mt19937 random(7);
    const int rounds = target.name == "step" ? 4 : 120;
    for (int k = 0; k < rounds; ++k) {
        const std::string bytes = damaged(seeds[random() % seeds.size()], random);
        EXPECT_NO_THROW(target.take(bytes)) << target.name << " round " << k;
    }
}

TEST_P(Readers, TakeWhatOnceBrokeThem) {
    const fuzz::Target& target = fuzz::targets().at(GetParam());
    const std::filesystem::path folder =
        std::filesystem::path(UPRIGHT_TEST_BODIES) / ".." / "fuzz" / "found" / target.name;
    if (!std::filesystem::exists(folder)) return;
    for (const auto& one : std::filesystem::directory_iterator(folder))
        EXPECT_NO_THROW(target.take(read_text(one.path()))) << one.path();
}

INSTANTIATE_TEST_SUITE_P(All, Readers, testing::Range(std::size_t{0}, fuzz::targets().size()),
                         [](const auto& info) { return fuzz::targets().at(info.param).name; });
