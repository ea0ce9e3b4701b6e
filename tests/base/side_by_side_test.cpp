#include "base/side_by_side.hpp"

#include <atomic>
#include <gtest/gtest.h>
#include <stdexcept>
#include <string>

namespace upright {

TEST(SideBySide, EveryTaskIsDoneOnceAndTheFirstErrorIsTold) {
    std::vector<int> done(1000, 0);
    side_by_side(done.size(), [&](std::size_t i) { ++done[i]; });
    for (const int times : done) EXPECT_EQ(times, 1);
    side_by_side(0, [](std::size_t) { FAIL(); });

    std::atomic<int> ended{0};
    try {
        side_by_side(40, [&](std::size_t i) {
            ++ended;
            if (i % 7 == 3) throw std::runtime_error("task " + std::to_string(i));
        });
        FAIL() << "nothing was thrown";
    } catch (const std::runtime_error& e) {
        EXPECT_STREQ(e.what(), "task 3");
    }
    EXPECT_EQ(ended, 40);
}

} // namespace upright
