#include "base/spatial_order.hpp"

#include <gtest/gtest.h>
#include <random>
#include <set>

using namespace upright;

TEST(SpatialOrder, IsAPermutationInWhichEveryOctantStandsTogether) {
    std::mt19937 random(9);
    std::uniform_real_distribution<double> any(-3.0, 5.0);
    std::vector<Vec3> places{Vec3(-3, -3, -3), Vec3(5, 5, 5)};
    for (int i = 0; i < 4000; ++i) places.emplace_back(any(random), any(random), any(random));
    const std::vector<std::int32_t> order = spatial_order(places);
    std::vector<std::int32_t> sorted = order;
    std::sort(sorted.begin(), sorted.end());
    for (std::size_t i = 0; i < sorted.size(); ++i) ASSERT_EQ(sorted[i], static_cast<std::int32_t>(i));
    // Of a cube cut in two along each axis, three times over, each piece is met once.
    for (const double parts : {2.0, 4.0, 8.0}) {
        std::set<int> met;
        int last = -1;
        int changes = 0;
        for (const std::int32_t n : order) {
            int cell = 0;
            for (int a = 0; a < 3; ++a)
                cell =
                    cell * 8 +
                    std::min(static_cast<int>(parts) - 1,
                             static_cast<int>((places[static_cast<std::size_t>(n)][a] + 3.0) / 8.0 * parts));
            changes += cell != last ? 1 : 0;
            last = cell;
            met.insert(cell);
        }
        EXPECT_EQ(static_cast<std::size_t>(changes), met.size());
        EXPECT_GT(met.size(), 0.9 * parts * parts * parts);
    }
}

TEST(SpatialOrder, KeepsTheOrderOfEqualPlacesAndTakesNone) {
    EXPECT_TRUE(spatial_order({}).empty());
    EXPECT_EQ(spatial_order(std::vector<Vec3>(3, Vec3(1, 2, 3))), (std::vector<std::int32_t>{0, 1, 2}));
}
