// The filter by an equation against its closed form: cosines with slopes of nothing at the ends are only made
// smaller, by 1 + (r k)^2.
#include "design/helmholtz.hpp"
#include "support/studies.hpp"

#include "base/angles.hpp"

using namespace upright;

namespace {

// How much smaller a cosine along x comes out, of a bar of 40 x 4 x 4 in cells of `size`.
double damping(const std::string& mesh, int waves, double radius) {
    const Model model = build_model(test::study_from(
        test::StudyText().steel().region("bar", "box = [[0, 0, 0], [40, 4, 4]]").mesh(mesh).str()));
    std::vector<std::int32_t> variable_of;
    std::vector<double> x;
    const double k = waves * pi / 40.0;
    for (std::size_t e = 0; e < model.mesh.elements(); ++e) {
        variable_of.push_back(static_cast<std::int32_t>(e));
        x.push_back(0.5 + 0.4 * std::cos(k * model.mesh.center(e).x()));
    }
    const std::vector<double> y = HelmholtzFilter(model, variable_of, radius, {}).apply(x);
    double both = 0.0, own = 0.0;
    for (std::size_t e = 0; e < x.size(); ++e) {
        const double c = std::cos(k * model.mesh.center(e).x());
        both += (y[e] - 0.5) * c * model.mesh.volume(e);
        own += 0.4 * c * c * model.mesh.volume(e);
    }
    return both / own;
}

} // namespace

TEST(HelmholtzFilter, DampsWavesAsItsEquationSays) {
    for (const int waves : {1, 2, 4, 8})
        for (const double radius : {5.0, 10.0, 20.0}) {
            const double r = radius / (2.0 * std::sqrt(3.0));
            const double k = waves * pi / 40.0;
            // Cells to nodes and back is a mean over half a cell each.
            const auto exact = [&](double cell) {
                return std::pow(std::cos(0.5 * k * cell), 2) / (1.0 + r * r * k * k);
            };
            EXPECT_NEAR(damping("size = 1", waves, radius), exact(1.0), 0.02) << waves << ' ' << radius;
            EXPECT_NEAR(damping("size = 2\nkind = \"fitted\"", waves, radius), exact(1.5), 0.06)
                << waves << ' ' << radius;
        }
}

TEST(HelmholtzFilter, ComesNearerToItWithSmallerCells) {
    const double r = 12.0 / (2.0 * std::sqrt(3.0)), k = 6 * pi / 40.0;
    const double exact = 1.0 / (1.0 + r * r * k * k);
    const double coarse = std::abs(damping("size = 2", 6, 12.0) - exact);
    const double fine = std::abs(damping("size = 0.5", 6, 12.0) - exact);
    EXPECT_LT(fine, 0.3 * coarse);
}
