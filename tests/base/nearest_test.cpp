#include "base/nearest.hpp"

#include <gtest/gtest.h>

using namespace upright;

TEST(Nearest, CountsSwapsAsOneChange) {
    EXPECT_EQ(edit_distance("force", "froce"), 1);
    EXPECT_EQ(edit_distance("Force", "force"), 0);
    EXPECT_EQ(edit_distance("abc", ""), 3);
}

TEST(Nearest, FindsWhatWasMeantOrNothing) {
    const std::vector<std::string> words{"material", "radius", "penalty"};
    EXPECT_EQ(nearest("matrial", words), "material");
    EXPECT_EQ(nearest("mat", words), "material"); // a prefix
    EXPECT_FALSE(nearest("zzz", words).has_value());
    EXPECT_EQ(suggestion("zzz", words), "Known: material, radius, penalty");
    EXPECT_EQ(suggestion("radus", words), "Did you mean \"radius\"?");
}
