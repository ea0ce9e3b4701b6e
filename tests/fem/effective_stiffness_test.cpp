#include "fem/effective_stiffness.hpp"
#include "part/solid/lattice_cell.hpp"

#include <gtest/gtest.h>

using namespace upright;

namespace {

EffectiveConstants of_cell(InfillCard::Cell cell, double thickness, int n, double& share) {
    InfillCard card;
    card.cell = cell;
    card.period = 1.0;
    card.thickness = thickness;
    const LatticeCell lattice(card);
    share = lattice.share();
    return constants_of(effective_stiffness(n, lattice.shares(n), 1.0, 0.3));
}

} // namespace

TEST(EffectiveStiffness, OfOneMaterialIsItsOwn) {
    const Elastic6 found = effective_stiffness(3, std::vector<double>(27, 1.0), 7.0, 0.3);
    EXPECT_LT((found - 7.0 * elastic_matrix(ElementFamily::Solid, 0.3)).norm(), 1e-9);
    EXPECT_EQ(effective_stiffness(3, std::vector<double>(27, 0.0), 7.0, 0.3).norm(), 0.0);
}

// Layers across each axis: in closed form (Milton 2002, chapter 9).
TEST(EffectiveStiffness, OfLayersIsTheClosedForm) {
    const double nu = 0.3;
    const Eigen::MatrixXd one = elastic_matrix(ElementFamily::Solid, nu);
    const double c11 = one(0, 0);
    const double c12 = one(0, 1);
    const double g = one(3, 3);
    const double a = 1.0;
    const double b = 0.2;
    const auto mean = [&](double x, double y) { return 0.5 * (x + y); };
    const double across = 1.0 / mean(1.0 / (a * c11), 1.0 / (b * c11));
    const double along = mean(a, b) * (c11 - c12 * c12 / c11) + c12 * c12 / (c11 * c11) * across;
    const double beside = mean(a, b) * (c12 - c12 * c12 / c11) + c12 * c12 / (c11 * c11) * across;
    const double slip = 1.0 / mean(1.0 / (a * g), 1.0 / (b * g));
    const int n = 4;
    for (int axis = 0; axis < 3; ++axis) {
        std::vector<double> share;
        for (int cell = 0; cell < n * n * n; ++cell) {
            const std::array<int, 3> at{cell % n, cell / n % n, cell / n / n};
            share.push_back(at[static_cast<std::size_t>(axis)] % 2 == 0 ? a : b);
        }
        const Elastic6 found = effective_stiffness(n, share, 1.0, nu);
        const int u = (axis + 1) % 3;
        const int v = (axis + 2) % 3;
        EXPECT_NEAR(found(axis, axis), across, 1e-9);
        EXPECT_NEAR(found(u, u), along, 1e-9);
        EXPECT_NEAR(found(u, v), beside, 1e-9);
        EXPECT_NEAR(found(axis, u), c12 / c11 * across, 1e-9);
        // Shears are xy, yz, zx: those of a pair of axes bear the number of the first.
        EXPECT_NEAR(found(3 + axis, 3 + axis), slip, 1e-9);
        EXPECT_NEAR(found(3 + v, 3 + v), slip, 1e-9);
        EXPECT_NEAR(found(3 + u, 3 + u), mean(a, b) * g, 1e-9);
    }
}

TEST(EffectiveStiffness, OfLatticesIsWhatIsPublished) {
    // Struts along the axes alone bear a pull: E = pi r^2 / P^2 (Gibson & Ashby 1997), a little more for what
    // the others add at the nodes; hardly any shear.
    double share = 0.0;
    const EffectiveConstants cubic = of_cell(InfillCard::Cell::Cubic, 0.1, 40, share);
    EXPECT_GT(cubic.E[0], M_PI * 0.0025);
    EXPECT_LT(cubic.E[0], 1.08 * M_PI * 0.0025);
    EXPECT_LT(cubic.G[0], 0.01 * cubic.E[0]);
    // Octet truss (Deshpande, Fleck & Ashby 2001): E = density / 9, G = density / 12 and nu = 1 / 3 where
    // struts are slender and joints turn freely; thicker ones have more, less the nearer they are to it.
    double thin_share = 0.0;
    const EffectiveConstants thick = of_cell(InfillCard::Cell::Octet, 0.1, 40, share);
    const EffectiveConstants thin = of_cell(InfillCard::Cell::Octet, 0.06, 48, thin_share);
    EXPECT_GT(thin.E[0], thin_share / 9.0);
    EXPECT_LT(thin.E[0] / thin_share, thick.E[0] / share);
    EXPECT_LT(thin.E[0], 1.4 * thin_share / 9.0);
    EXPECT_NEAR(thin.G[0], 1.2 * thin_share / 12.0, 0.2 * thin_share / 12.0);
    EXPECT_NEAR(thin.nu[0], 1.0 / 3.0, 0.01);
    // All three are alike along x, y and z.
    EXPECT_NEAR(thick.E.maxCoeff(), thick.E.minCoeff(), 1e-6 * thick.E[0]);
    // No isotropic solid with voids is stiffer than the upper bound of Hashin & Shtrikman (1963); sheets of a
    // gyroid come near to it, and are nearly isotropic.
    const EffectiveConstants gyroid = of_cell(InfillCard::Cell::Gyroid, 0.1, 32, share);
    const double K = 1.0 / (3.0 * (1.0 - 0.6));
    const double G = 1.0 / 2.6;
    const double f = share;
    const double most_K = K * f * 4.0 * G / (4.0 * G + 3.0 * K * (1.0 - f));
    const double bulk = gyroid.E[0] / (3.0 * (1.0 - 2.0 * gyroid.nu[0]));
    EXPECT_LT(bulk, most_K);
    EXPECT_GT(bulk, 0.8 * most_K);
    const double as_isotropic = gyroid.E[0] / (2.0 * (1.0 + gyroid.nu[0]));
    EXPECT_NEAR(gyroid.G[0], as_isotropic, 0.25 * as_isotropic);
}
