// A making rule that is not linear and that the program does not ship: what it does, its transpose, a run.
#include "own/own.hpp"

#include "design/chain.hpp"
#include "optimize/gradient_check.hpp"
#include "support/silent.hpp"
#include "support/studies.hpp"

#include <gtest/gtest.h>
#include <random>

using namespace upright;

namespace {

const Language& language() {
    static const Kinds out = make_kinds({{}, {}, {test::leaning()}, {}});
    return out.language;
}

Study study_of(const std::string& form) {
    const test::TemporaryFolder folder;
    return load_study(folder.write("study.toml", test::block_study("[form]\n" + form)), {}, language());
}

using test::Silent;

} // namespace

TEST(OwnRule, StandsBehindTheFilter) {
    const Study study = study_of("leaning = \"x\"\n");
    const Model model = build_model(study);
    const DesignChain chain(model, 0.9, form_rules(model.form)); // a filter of one cell: it changes nothing
    std::vector<double> x(chain.variables());
    std::mt19937 random(7);
    for (double& v : x) v = static_cast<double>(random() % 1000) / 1000.0;
    const std::vector<double> density = chain.physical(x, 0.0);
    for (std::size_t e = 0; e < density.size(); ++e) {
        double expected = x[e];
        for (std::size_t o = 0; o < density.size(); ++o)
            if ((model.mesh.center(e) - model.mesh.center(o) - Vec3::UnitX()).norm() < 1e-9)
                expected = 0.5 * x[e] * (1.0 + x[o]);
        EXPECT_NEAR(density[e], expected, 1e-12);
    }
}

TEST(OwnRule, PullsGradientsBackAlsoBesideTies) {
    for (const char* form : {"leaning = \"x\"\n", "leaning = \"z\"\nmirror = [\"y = 2\"]\n"}) {
        const Study study = study_of(form);
        const Model model = build_model(study);
        StaticAnalysis analysis(model, {});
        Silent silent;
        for (const GradientRow& row : check_gradients(analysis, silent).rows)
            EXPECT_LT(row.error, 1e-6) << form << row.name;
    }
}

TEST(OwnRule, TiedElementsStayAlike) {
    const Study study = study_of("leaning = \"z\"\nmirror = [\"y = 2\"]\n");
    const Model model = build_model(study);
    const DesignChain chain(model, 1.7, form_rules(model.form));
    std::vector<double> x(chain.variables());
    std::mt19937 random(11);
    for (double& v : x) v = static_cast<double>(random() % 1000) / 1000.0;
    const std::vector<double> density = chain.physical(x, 8.0);
    for (std::size_t e = 0; e < density.size(); ++e)
        for (std::size_t o = 0; o < e; ++o) {
            Vec3 image = model.mesh.center(o);
            image.y() = 4.0 - image.y();
            if ((model.mesh.center(e) - image).norm() < 1e-9) EXPECT_EQ(density[e], density[o]);
        }
}
