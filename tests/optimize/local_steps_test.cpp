#include "optimize/run/local_steps.hpp"

#include "support/studies.hpp"
#include "support/study_text.hpp"

#include <gtest/gtest.h>
#include <set>

namespace upright {

namespace {

Model plate() {
    return build_model(test::study_from(test::StudyText()
                                            .steel()
                                            .region("plate", "box = [[0, 0], [20, 20]]")
                                            .surface("left", "facing = [-1, 0]")
                                            .surface("right", "facing = [1, 0]")
                                            .support("clamp", "left", R"(["x", "y"])")
                                            .force("pull", "right", "[0, -100]")
                                            .load_case("bend", R"(["clamp"])", "{ pull = 1 }")
                                            .response("stiffness", "compliance")
                                            .response("budget", "volume-fraction", "max = 0.5")
                                            .minimize("stiffness")
                                            .mesh("size = 1\nelement = \"plane-stress\"\nthickness = 1\n")
                                            .section("run", "filter = 3\n")));
}

// A bound that wants `wanted` solid elements within 4 of a place, counted on the design that is looked at.
struct Wanted {
    const Model& model;
    Vec3 place;
    double wanted;
    bool says_where = true;
    bool has_slope = false;
    int looks = 0, slopes = 0;
    std::set<std::vector<double>> looked = {};

    BlackAndWhite look(const ThreeDesigns& designs) {
        ++looks;
        BlackAndWhite out;
        out.threshold = 0.5;
        double count = 0.0;
        for (const double d : designs.drawn) out.density.push_back(d > 0.5 ? 1.0 : 0.0);
        for (std::size_t e = 0; e < out.density.size(); ++e)
            if ((model.mesh.center(e) - place).norm() < 4.0) count += out.density[e];
        EXPECT_TRUE(looked.insert(out.density).second) << "looked at twice";
        Reading r;
        r.max = 1.0;
        r.value = 2.0 - count / wanted;
        r.excess = r.value - 1.0;
        r.holds = r.excess <= 1e-3;
        if (says_where) r.at = place;
        out.readings = {r};
        out.most_broken = r.excess;
        out.feasible = r.holds;
        return out;
    }
    LocalSteps run(const DesignChain& chain, double start) {
        return take_local_steps(
            model, chain, std::vector<double>(chain.variables(), start), 32.0,
            {[this](const ThreeDesigns& d) { return look(d); },
             [&](const std::vector<double>& x, const BlackAndWhite& made) { return slope(chain, x, made); }});
    }
    // That of the density around the place.
    std::vector<double> slope(const DesignChain& chain, const std::vector<double>& x,
                              const BlackAndWhite& made) {
        ++slopes;
        EXPECT_FALSE(made.feasible);
        if (!has_slope) return {};
        std::vector<double> by_density(model.mesh.elements(), 0.0);
        for (std::size_t e = 0; e < by_density.size(); ++e)
            if ((model.mesh.center(e) - place).norm() < 4.0) by_density[e] = -1.0 / wanted;
        return chain.pull_back(x, 8.0, by_density, 0.5);
    }
};

} // namespace

TEST(LocalSteps, FindWhatGradientsDoNotSee) {
    const Model model = plate();
    const DesignChain chain(model, 3.0);
    for (const Vec3& place : {Vec3(10, 10, 0), Vec3(19, 1, 0)}) {
        Wanted bound{model, place, 12.0};
        const LocalSteps out = bound.run(chain, 0.45); // void everywhere
        EXPECT_TRUE(out.made.feasible);
        EXPECT_GT(out.taken, 0);
        EXPECT_EQ(out.looks, bound.looks + bound.slopes);
        // The variables are those of the design.
        const std::vector<double> again = chain.physical(out.x, 32.0);
        for (std::size_t e = 0; e < again.size(); ++e) EXPECT_EQ(again[e] > 0.5, out.made.density[e] > 0.5);
    }
}

TEST(LocalSteps, EndWhereNothingHelpsAndWhereNoPlaceIsTold) {
    const Model model = plate();
    const DesignChain chain(model, 3.0);
    Wanted more{model, Vec3(10, 10, 0), 1000.0}; // than there are
    const LocalSteps full = more.run(chain, 0.45);
    EXPECT_FALSE(full.made.feasible);
    EXPECT_LE(full.looks, looks_for_local_steps(model));
    EXPECT_NEAR(full.made.readings[0].value, 2.0 - 52.0 / 1000.0,
                1e-9); // all 52 within 4 of a corner of cells
    Wanted nowhere{model, Vec3(10, 10, 0), 12.0};
    nowhere.says_where = false;
    const LocalSteps none = nowhere.run(chain, 0.45);
    EXPECT_EQ(nowhere.looks, 1);
    EXPECT_EQ(none.taken, 0);
}

TEST(LocalSteps, GoDownTheSlopeWhereABoundHasNoPlace) {
    const Model model = plate();
    const DesignChain chain(model, 3.0);
    Wanted bound{model, Vec3(5, 12, 0), 40.0};
    bound.says_where = false;
    bound.has_slope = true;
    const LocalSteps out = bound.run(chain, 0.45);
    EXPECT_TRUE(out.made.feasible);
    EXPECT_GT(out.taken, 0);
    EXPECT_EQ(out.looks, bound.looks + bound.slopes);
    // Only what the slope knows of moved.
    for (std::size_t e = 0; e < out.made.density.size(); ++e)
        if ((model.mesh.center(e) - bound.place).norm() > 4.0 + 3.0 * 2.0)
            EXPECT_EQ(out.made.density[e], 0.0) << e;
}

} // namespace upright
