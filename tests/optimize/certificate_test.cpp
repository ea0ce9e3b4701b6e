#include "optimize/certificate.hpp"

#include "optimize/run.hpp"
#include "support/silent.hpp"
#include "support/studies.hpp"

#include <gtest/gtest.h>

using namespace upright;
using test::half_beam;
using test::study_from;

namespace {

// Of a study that was run: the certificate for its goal.
Certificate certified(const Study& study, double* goal) {
    const Model model = build_model(study);
    StaticAnalysis analysis(model, {});
    test::Silent silent;
    *goal = optimize(analysis, silent).row().goal;
    return certify(analysis, *goal, silent);
}

} // namespace

TEST(Certificate, BoundsEveryDesignFromBelowAndItsOwnProblemFromAbove) {
    double goal = 0.0;
    const Study study = study_from(half_beam(40, 14, false, "iterations = 60\n"), {"run.sharpen=true"});
    const Certificate c = certified(study, &goal);
    ASSERT_TRUE(c.not_served.empty()) << c.not_served;
    EXPECT_LT(c.bound, c.relaxed);
    EXPECT_LT(c.gap, 0.01);
    EXPECT_NEAR(c.distance, goal / c.bound - 1.0, 1e-12);
    EXPECT_GT(c.distance, 0.02);
    EXPECT_LT(c.distance, 0.5);
    // Without a penalty and hardly a filter the optimiser solves the relaxed problem itself.
    double relaxed = 0.0;
    certified(study_from(half_beam(40, 14, false, "iterations = 200\nstop_when = 0.001\n"),
                         {"run.penalty=1", "run.filter=0.9"}),
              &relaxed);
    EXPECT_GT(relaxed, c.bound);
    EXPECT_LT(relaxed, 1.01 * c.bound);
}

TEST(Certificate, LeastMaterialUnderAComplianceBound) {
    std::string text = half_beam(40, 14, false, "iterations = 60\n");
    text.replace(text.find("max = 0.5"), 9, "");
    double goal = 0.0;
    const Certificate c =
        certified(study_from(text, {"goal.minimize=budget", "response.stiffness.max=260"}), &goal);
    ASSERT_TRUE(c.not_served.empty()) << c.not_served;
    EXPECT_LT(c.bound, goal);
    EXPECT_LT(c.gap, 0.01);
}

TEST(Certificate, TheWorstOfSeveralCases) {
    std::string text = half_beam(30, 10, false, "iterations = 30\n");
    const Study study =
        study_from(text + "\n[[load]]\nname = \"pull\"\non = \"top\"\nforce = [0, 0.5]\n[[case]]\nname "
                          "= \"up\"\nsupports = [\"mirror\", \"roller\"]\nloads = { pull = 1 }\n",
                   {"response.stiffness.take=largest"});
    double goal = 0.0;
    const Certificate c = certified(study, &goal);
    ASSERT_TRUE(c.not_served.empty()) << c.not_served;
    EXPECT_LT(c.bound, goal);
    EXPECT_GT(c.bound, 0.3 * goal);
}

TEST(Certificate, SaysWhereThereIsNone) {
    test::Silent silent;
    const Study study = study_from(test::block_study("[[load]]\nname = \"w\"\ngravity = [0, 0, -9810]\n"));
    const Model model = build_model(study);
    StaticAnalysis analysis(model, {});
    EXPECT_NE(certify(analysis, 1.0, silent).not_served.find("not convex"), std::string::npos);
}
