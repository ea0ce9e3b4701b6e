#include "part/triangles.hpp"

#include "base/angles.hpp"
#include "support/studies.hpp"

#include <cmath>
#include <cstring>
#include <gtest/gtest.h>
#include <map>

using namespace upright;

namespace {

// An octahedron, refined towards the sphere.
Triangles ball(int rounds) {
    Triangles out;
    out.points = {Vec3(1, 0, 0),  Vec3(-1, 0, 0), Vec3(0, 1, 0),
                  Vec3(0, -1, 0), Vec3(0, 0, 1),  Vec3(0, 0, -1)};
    out.corners = {{0, 2, 4}, {2, 1, 4}, {1, 3, 4}, {3, 0, 4}, {2, 0, 5}, {1, 2, 5}, {3, 1, 5}, {0, 3, 5}};
    for (int r = 0; r < rounds; ++r) {
        std::map<std::pair<int, int>, int> middle;
        const auto between = [&](int a, int b) {
            const auto key = std::minmax(a, b);
            const auto [at, fresh] = middle.emplace(key, static_cast<int>(out.points.size()));
            if (fresh)
                out.points.push_back(
                    (out.points[static_cast<std::size_t>(a)] + out.points[static_cast<std::size_t>(b)])
                        .normalized());
            return at->second;
        };
        std::vector<std::array<std::int32_t, 3>> next;
        for (const auto& t : out.corners) {
            const int ab = between(t[0], t[1]);
            const int bc = between(t[1], t[2]);
            const int ca = between(t[2], t[0]);
            next.push_back({t[0], ab, ca});
            next.push_back({t[1], bc, ab});
            next.push_back({t[2], ca, bc});
            next.push_back({ab, bc, ca});
        }
        out.corners = next;
    }
    return out;
}

} // namespace

TEST(Triangles, MeasureABall) {
    const Triangles b = ball(5);
    EXPECT_NEAR(volume(b), 4.0 / 3.0 * pi, 0.01);
    EXPECT_NEAR(area(b), 4.0 * pi, 0.02);
    EXPECT_TRUE(closed(b));
    Triangles open = b;
    open.corners.pop_back();
    EXPECT_FALSE(closed(open));
}

TEST(Triangles, SmoothingHoldsTheVolumeAndThePins) {
    Triangles b = ball(4);
    for (std::size_t i = 0; i < b.points.size(); ++i)
        b.points[i] *= 1.0 + 0.05 * std::sin(37.0 * static_cast<double>(i));
    const double before = volume(b);
    const double rough = area(b);
    std::vector<bool> pinned(b.points.size(), false);
    pinned[3] = true;
    const Vec3 pin = b.points[3];
    smooth_holding_volume(b, pinned, 20);
    EXPECT_NEAR(volume(b), before, 1e-6 * before);
    EXPECT_LT(area(b), 0.97 * rough);
    EXPECT_EQ(b.points[3], pin);
}

TEST(Triangles, StlHoldsEveryTriangle) {
    const test::TemporaryFolder folder;
    const Triangles b = ball(1);
    write_stl(folder.path() / "ball.stl", b, "a header");
    std::ifstream in(folder.path() / "ball.stl", std::ios::binary);
    const std::string bytes((std::istreambuf_iterator<char>(in)), {});
    ASSERT_EQ(bytes.size(), 84U + 50U * b.corners.size());
    std::uint32_t count = 0;
    std::memcpy(&count, bytes.data() + 80, 4);
    EXPECT_EQ(count, b.corners.size());
    float normal[3];
    std::memcpy(normal, bytes.data() + 84, 12);
    EXPECT_NEAR(std::hypot(normal[0], normal[1], normal[2]), 1.0, 1e-6);
}
