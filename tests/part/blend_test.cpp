// Fillets between the free surface and kept shapes, against a rolling circle.
#include "part/extract.hpp"

#include "base/angles.hpp"
#include "support/studies.hpp"

#include <gtest/gtest.h>

using namespace upright;
using test::block_study;
using test::study_from;

namespace {

constexpr double floor_at = 1.25; // height of the free surface: material is below
constexpr double ball = 1.0;
const std::string wall_beside =
    "[[region]]\nname = \"wall\"\nrole = \"keep\"\nmaterial = \"steel\"\nbox = [[0, 0, 0], [2, 4, 4]]\n";

// A floor of the design beside what is kept.
std::vector<double> a_floor(const Model& model) {
    std::vector<double> out(model.mesh.elements());
    for (std::size_t e = 0; e < out.size(); ++e) {
        const auto id = static_cast<ElementId>(e);
        const double above = model.mesh.center(id).z() - floor_at;
        out[e] = model.role(id) == Role::Keep ? 1.0 : std::clamp(0.5 - 0.5 * above, 0.0, 1.0);
    }
    return out;
}

Part blended(const Model& model, const std::vector<double>& density, double blend) {
    PartOptions options;
    options.blend = blend;
    return PartField(model, density).extract(options);
}

// Of the corner between floor and wall, what a circle of the radius cannot reach: by squares.
double filled_area() {
    constexpr int n = 400;
    int filled = 0;
    for (int i = 0; i < n; ++i)
        for (int j = 0; j < n; ++j)
            if (std::hypot((i + 0.5) / n - 1.0, (j + 0.5) / n - 1.0) > 1.0) ++filled;
    return ball * ball * filled / (n * n);
}

} // namespace

TEST(Blend, ACornerBetweenFloorAndWallIsRoundedByItsRadius) {
    const Study study = study_from(block_study(wall_beside), {"mesh.size=0.25"});
    const Model model = build_model(study);
    const std::vector<double> density = a_floor(model);
    const Part sharp = blended(model, density, 0.0);
    const Part round = blended(model, density, ball);
    EXPECT_EQ(sharp.fillets, 0.0);
    EXPECT_TRUE(round.closed);
    EXPECT_NEAR(filled_area(), 1.0 - pi / 4.0, 1e-3);
    // A little less than the whole fillet, which would end in edges without an angle.
    const double added = round.volume - sharp.volume;
    EXPECT_LT(added, 1.0 * 4.0 * filled_area());
    EXPECT_GT(added, 0.7 * 4.0 * filled_area());
    EXPECT_NEAR(round.fillets, round.mass - sharp.mass, 1e-9 * round.mass);
    EXPECT_GT(round.solid->least_angle, 14.0);
    // Its face is a cylinder to a tenth of the radius; elsewhere nothing has moved.
    int on_fillet = 0;
    for (std::size_t n = 0; n < round.solid->points.size(); ++n) {
        const auto& on = round.solid->sheets_of[n];
        if (std::find(on.begin(), on.end(), round.solid->level) == on.end()) continue;
        const Vec3& p = round.solid->points[n];
        const double far = std::hypot(p.x() - 2.0 - ball, p.z() - floor_at - ball) / ball;
        if (p.x() < 2.0 + 0.95 * ball) {
            EXPECT_GT(far, 0.98) << p.transpose();
            EXPECT_LT(far, 1.0 + 0.13) << p.transpose();
            on_fillet += p.z() > floor_at + 0.1 ? 1 : 0;
        } else if (p.x() > 2.0 + 1.1 * ball) {
            EXPECT_NEAR(p.z(), floor_at, 0.02) << p.transpose();
        }
    }
    EXPECT_GT(on_fillet, 30);
}

TEST(Blend, AHalfModelHasTheFilletOfTheWhole) {
    const std::string post =
        "[[region]]\nname = \"post\"\nrole = \"keep\"\nmaterial = \"steel\"\ncylinder = { "
        "from = [4, 2, 0], to = [4, 2, 4], radius = 0.8 }\n";
    const Model whole = build_model(study_from(block_study(post), {"mesh.size=0.25"}));
    const Model half =
        build_model(study_from(block_study(post + "[symmetry]\nplanes = [\"y = 2\"]\n"), {"mesh.size=0.25"}));
    const Part a = blended(whole, a_floor(whole), ball);
    const Part b = blended(half, a_floor(half), ball);
    ASSERT_GT(a.fillets, 0.0);
    EXPECT_NEAR(b.fillets, a.fillets, 0.05 * a.fillets);
    // About the post: the area of the corner times the way of its middle (Pappus).
    const double corner = ball * ball * (1.0 - pi / 4.0);
    const double way = 2.0 * pi * (0.8 + 0.2234 * ball);
    const double steel = a.mass / a.volume;
    EXPECT_LT(a.fillets, 1.02 * corner * way * steel);
    EXPECT_GT(a.fillets, 0.7 * corner * way * steel);
}

// Infill is cut from the part with its fillets: what is taken out lies within it, and nothing leaves it.
TEST(Blend, InfillKeepsFillets) {
    const std::string infill =
        "[[infill]]\nname = \"core\"\nof = \"block\"\ncell = \"cubic\"\nperiod = 1.2\nthickness = "
        "0.3\nskin = 0.3\n";
    const Model model = build_model(study_from(block_study(wall_beside + infill), {"mesh.size=0.5"}));
    const std::vector<double> density = a_floor(model);
    PartOptions options;
    options.blend = ball;
    const Part part = PartField(model, density).extract(options);
    ASSERT_TRUE(part.unfilled);
    EXPECT_GT(part.unfilled->fillets, 0.0);
    EXPECT_LT(part.mass, part.unfilled->mass);
    EXPECT_GT(part.mass, 0.4 * part.unfilled->mass);
    const Bounds box = model.mesh.bounds;
    for (const Vec3& p : part.surface.points) {
        ASSERT_LT((p - box.center()).cwiseAbs().maxCoeff(), 0.51 * box.size().maxCoeff()) << p.transpose();
    }
}

TEST(Blend, WhatIsFlushOrApartHasNone) {
    const std::string flush = "[[region]]\nname = \"flush\"\nrole = \"keep\"\nmaterial = \"steel\"\nbox = "
                              "[[0, 0, 0], [2, 4, 1.25]]\n";
    const Model level = build_model(study_from(block_study(flush), {"mesh.size=0.25"}));
    const Part one = blended(level, a_floor(level), ball);
    EXPECT_NEAR(one.fillets, 0.0, 2e-3 * one.mass);

    // A slot between the wall and the design that is narrower than the ball: not to be filled.
    const Model model = build_model(study_from(block_study(wall_beside), {"mesh.size=0.25"}));
    std::vector<double> density(model.mesh.elements());
    for (std::size_t e = 0; e < density.size(); ++e) {
        const auto id = static_cast<ElementId>(e);
        density[e] = model.role(id) == Role::Keep
                         ? 1.0
                         : std::clamp(0.5 + 0.5 * (model.mesh.center(id).x() - 2.9), 0.0, 1.0);
    }
    const Part apart = blended(model, density, ball);
    EXPECT_EQ(apart.pieces.size(), 2U);
    EXPECT_EQ(apart.fillets, 0.0);
}
