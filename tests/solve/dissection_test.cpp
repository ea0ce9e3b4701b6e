#include "solve/dissection.hpp"

#include "solve/linear_solver.hpp"

#include <algorithm>
#include <cmath>
#include <gtest/gtest.h>
#include <numeric>

using namespace upright;

namespace {

std::vector<std::array<std::int32_t, 3>> box(int nx, int ny, int nz) {
    std::vector<std::array<std::int32_t, 3>> out;
    for (int k = 0; k < nz; ++k)
        for (int j = 0; j < ny; ++j)
            for (int i = 0; i < nx; ++i) out.push_back({i, j, k});
    return out;
}

// Springs between all nodes that may be coupled, and one of each node to the ground.
ElementSystem springs(const std::vector<std::array<std::int32_t, 3>>& places) {
    static const Eigen::MatrixXd spring = (Eigen::MatrixXd(2, 2) << 1, -1, -1, 1).finished();
    ElementSystem out;
    out.unknowns = places.size();
    const auto add = [&](std::int32_t a, std::int32_t b) {
        out.dofs.push_back(a);
        out.dofs.push_back(b);
        out.starts.push_back(out.dofs.size());
        out.matrix_of.push_back(&spring);
    };
    for (std::size_t a = 0; a < places.size(); ++a) {
        add(static_cast<std::int32_t>(a), -1);
        for (std::size_t b = a + 1; b < places.size(); ++b) {
            int apart = 0;
            for (std::size_t axis = 0; axis < 3; ++axis)
                apart = std::max(apart, std::abs(places[a][axis] - places[b][axis]));
            if (apart <= 1) add(static_cast<std::int32_t>(a), static_cast<std::int32_t>(b));
        }
    }
    return out;
}

} // namespace

TEST(Dissection, OrdersEveryNodeOnce) {
    for (const auto& places : {box(1, 1, 1), box(40, 3, 2), box(9, 9, 9), box(100, 1, 1)}) {
        std::vector<std::int32_t> order = dissection_order(places).nodes;
        std::sort(order.begin(), order.end());
        std::vector<std::int32_t> all(places.size());
        std::iota(all.begin(), all.end(), 0);
        EXPECT_EQ(order, all);
    }
    EXPECT_TRUE(dissection_order({}).nodes.empty());
}

TEST(Dissection, TheLastNodesPartTheOthers) {
    // The plane in the middle of the long side comes last.
    const auto places = box(21, 5, 5);
    const std::vector<std::int32_t> order = dissection_order(places).nodes;
    for (std::size_t n = order.size() - 25; n < order.size(); ++n)
        EXPECT_EQ(places[static_cast<std::size_t>(order[n])][0], 10);
}

TEST(Dissection, CutsWhereFewNodesAre) {
    // Two blocks and a neck of one node at a third of the way.
    std::vector<std::array<std::int32_t, 3>> places;
    for (const auto& p : box(15, 5, 5))
        if (p[0] != 6 || (p[1] == 2 && p[2] == 2)) places.push_back(p);
    const DissectionOrder order = dissection_order(places);
    EXPECT_EQ(places[static_cast<std::size_t>(order.nodes.back())][0], 6);
}

TEST(Dissection, GivesTheSolutionAndLittleFill) {
    const auto places = box(12, 12, 12);
    ElementSystem system = springs(places);
    const std::vector<double> scale(system.elements(), 1.0);
    const Eigen::MatrixXd load = Eigen::MatrixXd::Random(static_cast<Eigen::Index>(system.unknowns), 1);
    const auto own = make_direct_solver(system, {});
    own->update(scale);
    const DissectionOrder order = dissection_order(places);
    system.order = order.nodes;
    const auto given = make_direct_solver(system, {});
    given->update(scale);
    EXPECT_LT((own->solve(load) - given->solve(load)).norm(), 1e-12 * load.norm());
    // As good as what a general method finds, and the guess of its cost is of the right size.
    EXPECT_LT(given->cost().factor_flops, 1.5 * own->cost().factor_flops);
    EXPECT_LT(std::abs(std::log(order.flops / given->cost().factor_flops)), std::log(3.0));
}
