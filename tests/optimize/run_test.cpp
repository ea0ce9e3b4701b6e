#include "optimize/run.hpp"

#include "support/studies.hpp"

#include <gtest/gtest.h>

using namespace upright;
using test::block_study;
using test::half_beam;
using test::study_from;

namespace {

class Recorder : public OptimizeObserver {
  public:
    explicit Recorder(int stop_at = 0) : stop_at_(stop_at) {}
    void note(const std::string& /*sentence*/) override {}
    bool stop_requested() const override { return stop_at_ > 0 && last.iteration >= stop_at_; }
    void iteration(const OptimizerState& state) override { last = state; }
    OptimizerState last;

  private:
    int stop_at_;
};

OptimizeResult run(const Study& study, const Model& model, OptimizeObserver& observer,
                   const OptimizerState* from = nullptr) {
    StaticAnalysis analysis(model, {});
    return optimize(study, analysis, observer, from);
}

OptimizeResult run(const Study& study) {
    const Model model = build_model(study);
    Recorder recorder;
    return run(study, model, recorder);
}

std::string problem_error(const std::string& extra, const std::vector<std::string>& settings = {}) {
    try {
        const Study study = study_from(block_study(extra), settings);
        const Model model = build_model(study);
        require_reachable(study, model, make_problem(study));
    } catch (const Error& bad) {
        return bad.what();
    }
    return "";
}

} // namespace

// 60 x 20 cells, radius 2.4, penalty 3, density filter: c = 233.71 (Andreassen, Clausen, Schevenels, Lazarov
// & Sigmund 2011).
TEST(Optimize, HalfBeamReachesThePublishedCompliance) {
    const OptimizeResult result =
        run(study_from(half_beam(60, 20, false, "iterations = 1000\nstop_when = 0.01\n")));
    EXPECT_EQ(result.status, RunStatus::Converged);
    EXPECT_NEAR(result.state.history.back().goal, 233.71, 0.005 * 233.71);
    EXPECT_NEAR(result.state.history.back().responses[1], 0.5, 1e-6);
    EXPECT_TRUE(result.feasible);
}

TEST(Optimize, MirroredProblemGivesTheMirroredDesign) {
    const Study a = study_from(half_beam(30, 10, false, "iterations = 40\n"));
    const Study b = study_from(half_beam(30, 10, true, "iterations = 40\n"));
    const OptimizeResult ra = run(a);
    const OptimizeResult rb = run(b);
    for (std::size_t j = 0; j < 10; ++j)
        for (std::size_t i = 0; i < 30; ++i)
            EXPECT_NEAR(ra.state.density[j * 30 + i], rb.state.density[j * 30 + 29 - i], 1e-6);
}

TEST(Optimize, HalfOfASymmetricBlockGivesTheDesignOfTheWhole) {
    const std::string run_card = "[run]\niterations = 25\nfilter = 1.6\n";
    const OptimizeResult whole = run(study_from(block_study(run_card)));
    const OptimizeResult half = run(study_from(block_study(run_card + "[symmetry]\nplanes = [\"y = 2\"]\n"),
                                               {"load.pull.force=[0, 0, -50]"}));
    EXPECT_NEAR(whole.state.history.back().goal, 2.0 * half.state.history.back().goal,
                1e-6 * whole.state.history.back().goal);
    for (std::size_t k = 0; k < 4; ++k)
        for (std::size_t j = 0; j < 2; ++j)
            for (std::size_t i = 0; i < 8; ++i)
                EXPECT_NEAR(half.state.density[(k * 2 + j) * 8 + i], whole.state.density[(k * 4 + j) * 8 + i],
                            1e-6);
}

TEST(Optimize, SharpeningEndsNearBlackAndWhite) {
    const OptimizeResult gray = run(study_from(half_beam(40, 14, false, "iterations = 80\n")));
    std::string text = half_beam(40, 14, false, "iterations = 80\n");
    const OptimizeResult sharp = run(study_from(text, {"run.sharpen=true"}));
    EXPECT_GT(gray.state.history.back().grayness, 0.25);
    EXPECT_LT(sharp.state.history.back().grayness, 0.06);
    EXPECT_LT(sharp.state.history.back().goal, gray.state.history.back().goal);
    EXPECT_NEAR(sharp.state.history.back().responses[1], 0.5, 1e-4);
}

TEST(Optimize, LeastVolumeMeetsTheComplianceBound) {
    const Study direct = study_from(half_beam(40, 14, false, "iterations = 150\n"));
    const OptimizeResult stiffest = run(direct);
    const double reached = stiffest.state.history.back().goal;
    const Study reverse =
        study_from(half_beam(40, 14, false, "iterations = 150\n"),
                   {"goal.minimize=budget", "response.stiffness.max=" + std::to_string(reached),
                    "response.budget.max=1", "response.budget.active=true"});
    // The bound on volume has to go, or there would be two.
    EXPECT_THROW(make_problem(reverse), Error);
    std::string text = half_beam(40, 14, false, "iterations = 150\n");
    text.replace(text.find("max = 0.5"), 9, "");
    const Study least =
        study_from(text, {"goal.minimize=budget", "response.stiffness.max=" + std::to_string(reached)});
    const OptimizeResult lightest = run(least);
    EXPECT_TRUE(lightest.feasible);
    EXPECT_NEAR(lightest.state.history.back().responses[1], 0.5, 0.01);
    EXPECT_LE(lightest.state.history.back().responses[0], reached * 1.001);
}

TEST(Optimize, LeastVolumeHoldsItsBoundWhenSharpened) {
    std::string text = half_beam(40, 14, false, "iterations = 80\n");
    text.replace(text.find("max = 0.5"), 9, "");
    const Study least =
        study_from(text, {"goal.minimize=budget", "response.stiffness.max=260", "run.sharpen=true"});
    const OptimizeResult lightest = run(least);
    EXPECT_TRUE(lightest.feasible) << lightest.state.history.back().responses[0];
    EXPECT_GT(lightest.state.history.back().responses[0], 0.985 * 260); // and does not waste material
    EXPECT_LT(lightest.state.history.back().grayness, 0.1);
}

TEST(Optimize, ResumingGivesTheSameEndToTheLastDigit) {
    const Study study = study_from(block_study("[run]\niterations = 14\nfilter = 1.6\n"));
    const Model model = build_model(study);
    Recorder whole;
    const OptimizeResult a = run(study, model, whole);
    Recorder first(5);
    const OptimizeResult stopped = run(study, model, first);
    EXPECT_EQ(stopped.status, RunStatus::Interrupted);
    EXPECT_EQ(stopped.state.iteration, 5);
    Recorder second;
    const OptimizeResult b = run(study, model, second, &first.last);
    ASSERT_EQ(a.state.history.size(), b.state.history.size());
    EXPECT_EQ(a.state.density, b.state.density);
    for (std::size_t i = 0; i < a.state.history.size(); ++i)
        EXPECT_EQ(a.state.history[i].goal, b.state.history[i].goal) << i;
}

TEST(Optimize, KeptRegionsStaySolid) {
    const Study study =
        study_from(block_study("[run]\niterations = 10\n[[region]]\nname = \"pad\"\nrole = "
                               "\"keep\"\nmaterial = \"steel\"\nbox = [[6, 0, 0], [8, 4, 4]]\n"));
    const Model model = build_model(study);
    Recorder recorder;
    const OptimizeResult result = run(study, model, recorder);
    for (std::size_t e = 0; e < model.mesh.elements(); ++e)
        if (model.role(static_cast<ElementId>(e)) == Role::Keep) EXPECT_EQ(result.state.density[e], 1.0);
}

TEST(Optimize, ScheduleRisesSmoothlyAndEndsFinal) {
    RunCard card;
    card.iterations = 100;
    EXPECT_DOUBLE_EQ(schedule(card, 1).penalty, 1.0);
    EXPECT_DOUBLE_EQ(schedule(card, 100).penalty, 3.0);
    EXPECT_DOUBLE_EQ(schedule(card, 100).sharpness, 16.0);
    EXPECT_TRUE(schedule(card, 100).final);
    EXPECT_FALSE(schedule(card, 60).final);
    for (int i = 2; i <= 100; ++i) EXPECT_GE(schedule(card, i).sharpness, schedule(card, i - 1).sharpness);
    card.penalty = 3.0;
    card.sharpen = false;
    EXPECT_TRUE(schedule(card, 1).final);
}

TEST(Problem, SaysWhatIsNotServedOrOutOfReach) {
    EXPECT_NE(problem_error("[[response]]\nname = \"w\"\nmeasure = \"mass\"\nmax = 1\n").find("second bound"),
              std::string::npos);
    EXPECT_NE(problem_error("", {"response.budget.min=0.1"}).find("min bound"), std::string::npos);
    EXPECT_NE(problem_error("[[region]]\nname = \"pad\"\nrole = \"keep\"\nmaterial = \"steel\"\nbox = [[0, "
                            "0, 0], [4, 4, 4]]\n",
                            {"response.budget.of=[\"block\", \"pad\"]"})
                  .find("kept regions alone"),
              std::string::npos);
    EXPECT_NE(problem_error("", {"region.block.role=keep"}).find("no design material"), std::string::npos);
}

TEST(Problem, AComplianceBoundThatNothingMeetsIsSaidAtOnce) {
    std::string text = half_beam(20, 6, false);
    text.replace(text.find("max = 0.5"), 9, "");
    const Study study = study_from(text, {"goal.minimize=budget", "response.stiffness.max=1"});
    const Model model = build_model(study);
    Recorder recorder;
    try {
        run(study, model, recorder);
        FAIL();
    } catch (const Error& bad) {
        EXPECT_NE(std::string(bad.what()).find("with all material it is"), std::string::npos);
        EXPECT_EQ(recorder.last.iteration, 0);
    }
}
