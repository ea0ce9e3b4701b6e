// The stages of a run, played through with made-up histories.
#include "optimize/run/stages.hpp"
#include "support/studies.hpp"

#include <algorithm>
#include <gtest/gtest.h>

using namespace upright;

namespace {

struct Played {
    std::vector<Schedule> schedules; // of each iteration
    bool ended = false;
};

struct Play {
    RunCard run;
    Problem problem;
    // Of iteration i, from 1: the goal, the share by which the worst bound is broken, the mean change.
    std::function<double(int)> goal = [](int i) { return 100.0 * (1.0 + std::exp(-0.15 * i)); };
    std::function<double(int)> broken = [](int) { return -0.1; };
    std::function<double(int)> change = [](int i) { return 0.02 * std::exp(-0.05 * i); };
    std::function<double(int)> gray = [](int) { return 0.05; };

    Played play() const {
        Played out;
        Stages stages(run, problem);
        std::vector<IterationRow> history;
        for (int i = 1; i <= run.iterations && !out.ended; ++i) {
            out.schedules.push_back(stages.now());
            IterationRow row;
            row.iteration = i;
            row.goal = goal(i);
            row.change = 10.0 * change(i);
            row.grayness = gray(i);
            history.push_back(row);
            const StageFacts facts{history, change(i), broken(i), broken(i) <= 1e-3};
            out.ended = stages.done(facts);
            stages.next(facts);
        }
        return out;
    }
};

Play stiff(int iterations) {
    Play out;
    out.run.iterations = iterations;
    out.problem.compliance_goal = true;
    out.problem.stiffness_alone = true;
    return out;
}

} // namespace

TEST(Stages, TheLimitIsNothingButALimit) {
    const Played shorter = stiff(200).play();
    const Played longer = stiff(2000).play();
    ASSERT_TRUE(shorter.ended);
    ASSERT_TRUE(longer.ended);
    ASSERT_EQ(shorter.schedules.size(), longer.schedules.size());
    for (std::size_t i = 0; i < shorter.schedules.size(); ++i) {
        EXPECT_EQ(shorter.schedules[i].penalty, longer.schedules[i].penalty);
        EXPECT_EQ(shorter.schedules[i].sharpness, longer.schedules[i].sharpness);
    }
    EXPECT_LT(shorter.schedules.size(), 160U);
}

TEST(Stages, ALimitThatIsShortHurriesThem) {
    for (const int limit : {1, 2, 3, 5, 10, 25, 60}) {
        Play play = stiff(limit);
        play.goal = [](int i) { return 100.0 + i % 2; }; // never rests
        const Played out = play.play();
        ASSERT_EQ(out.schedules.size(), static_cast<std::size_t>(limit));
        // Never by more than a quarter: a run that is too short ends before its stages do, and one of a few
        // iterations stays gray.
        for (std::size_t i = 1; i < out.schedules.size(); ++i)
            if (out.schedules[i - 1].sharpness > 0.0)
                EXPECT_LE(out.schedules[i].sharpness, 1.25 * out.schedules[i - 1].sharpness * (1 + 1e-12));
        if (limit >= 5) EXPECT_DOUBLE_EQ(out.schedules.back().penalty, 3.0) << limit;
        EXPECT_EQ(out.schedules.back().sharpness > 0.0, limit >= 25) << limit;
        EXPECT_EQ(out.schedules.back().final, limit >= 60) << limit;
        if (limit >= 60) EXPECT_DOUBLE_EQ(out.schedules.back().sharpness, 128.0) << limit;
    }
}

TEST(Stages, PenaltyAndSharpnessNeverFall) {
    const Played out = stiff(150).play();
    EXPECT_DOUBLE_EQ(out.schedules.front().penalty, 1.0);
    EXPECT_DOUBLE_EQ(out.schedules.front().sharpness, 0.0);
    for (std::size_t i = 1; i < out.schedules.size(); ++i) {
        EXPECT_GE(out.schedules[i].penalty, out.schedules[i - 1].penalty);
        EXPECT_GE(out.schedules[i].sharpness, out.schedules[i - 1].sharpness);
        if (out.schedules[i].sharpness > 0.0) EXPECT_DOUBLE_EQ(out.schedules[i].penalty, 3.0);
    }
}

TEST(Stages, ThePenaltyRisesFasterWhereDensitiesRest) {
    Play slow = stiff(1000);
    slow.change = [](int) { return 0.02; };
    Play fast = stiff(1000);
    fast.change = [](int) { return 0.003; };
    const auto at_full = [](const Played& p) {
        std::size_t i = 0;
        while (p.schedules[i].penalty < 3.0) ++i;
        return i;
    };
    // By 2.5e-4 over the mean change, within 0.01 to 0.12, from 1 to 3, and not in the first two.
    EXPECT_NEAR(static_cast<double>(at_full(slow.play())), 2 + 2.0 / 0.0125, 2.0);
    EXPECT_NEAR(static_cast<double>(at_full(fast.play())), 2 + 2.0 / (2.5e-4 / 0.003), 2.0);
}

TEST(Stages, TheProjectionWaitsWhileABoundIsBroken) {
    Play held = stiff(1000);
    held.broken = [](int i) { return i < 120 ? 0.05 : -0.01; };
    const Played out = held.play();
    double at_120 = 0.0;
    for (std::size_t i = 0; i < 119; ++i) at_120 = std::max(at_120, out.schedules[i].sharpness);
    EXPECT_EQ(at_120, 0.0); // gray until bounds hold within one per cent
    Play later = stiff(1000);
    later.broken = [](int i) { return i > 60 && i < 120 ? 0.05 : -0.01; };
    const Played waits = later.play();
    EXPECT_EQ(waits.schedules[118].sharpness, waits.schedules[80].sharpness);
    EXPECT_TRUE(waits.ended);
}

TEST(Stages, NothingEndsWhileABoundIsBroken) {
    Play play = stiff(300);
    play.broken = [](int) { return 0.015; };
    EXPECT_FALSE(play.play().ended);
}

TEST(Stages, ADesignWithoutGrayEndsWithoutMoreSharpening) {
    // Densities go on to flip at an edge.
    Play gray = stiff(1000);
    gray.change = [](int i) { return i < 90 ? 0.003 : 0.05; };
    const Played usual = gray.play();
    EXPECT_DOUBLE_EQ(usual.schedules.back().sharpness, 128.0);
    // Black and white at a sharpness of about 40: five rows after it, at that sharpness.
    Play made = gray;
    const auto is_sharp = [&](const Schedule& s) { return s.sharpness > 40.0; };
    const auto sharp_at = [&](const Played& p) {
        return static_cast<int>(std::find_if(p.schedules.begin(), p.schedules.end(), is_sharp) -
                                p.schedules.begin() + 1);
    };
    const int from = sharp_at(usual);
    made.gray = [&](int i) { return i >= from ? 5e-4 : 0.05; };
    const Played out = made.play();
    EXPECT_TRUE(out.ended);
    EXPECT_EQ(static_cast<int>(out.schedules.size()), from + 5);
    EXPECT_DOUBLE_EQ(out.schedules.back().sharpness,
                     out.schedules[static_cast<std::size_t>(from) - 1].sharpness);
    EXPECT_TRUE(out.schedules.back().final);
    // Not while a bound is broken or the goal moves, and not of stress, which goes on to change.
    Play broken = made;
    broken.broken = [&](int i) { return i < from + 20 ? 0.0015 : -0.1; };
    EXPECT_GE(static_cast<int>(broken.play().schedules.size()), from + 20);
    Play moving = made;
    moving.goal = [&](int i) { return i < from + 30 ? 100.0 + i % 2 : 100.0; };
    EXPECT_GE(static_cast<int>(moving.play().schedules.size()), from + 33);
    Play stress = stiff(1000);
    stress.problem.has_stress = true;
    stress.gray = [](int) { return 5e-4; };
    EXPECT_DOUBLE_EQ(stress.play().schedules.back().sharpness, 64.0);
    // What is shown of it is what decides.
    ASSERT_TRUE(gray_enough(made.run, made.problem).has_value());
    made.gray = [&](int i) { return i >= from ? 0.99 * *gray_enough(made.run, made.problem) : 0.05; };
    EXPECT_EQ(static_cast<int>(made.play().schedules.size()), from + 5);
    made.gray = [&](int i) { return i >= from ? 1.01 * *gray_enough(made.run, made.problem) : 0.05; };
    EXPECT_GT(static_cast<int>(made.play().schedules.size()), from + 5);
    EXPECT_FALSE(gray_enough(stress.run, stress.problem).has_value());
    made.run.sharpen = false;
    EXPECT_FALSE(gray_enough(made.run, made.problem).has_value());
}

TEST(Stages, StressIsSharpenedSlowly) {
    Play play = stiff(400);
    play.problem.has_stress = true;
    EXPECT_DOUBLE_EQ(play.play().schedules.front().penalty, 1.0); // stiffness beside it
    play.problem.compliance_goal = play.problem.stiffness_alone = play.problem.has_stiffness = false;
    play.problem.material_goal = true;
    const Played out = play.play();
    EXPECT_DOUBLE_EQ(out.schedules.front().penalty, 3.0);
    EXPECT_DOUBLE_EQ(out.schedules.front().move, 0.1);
    EXPECT_DOUBLE_EQ(out.schedules.back().sharpness, 64.0);
    // At the end a variable moves by no more than makes a sixth of a density.
    EXPECT_NEAR(out.schedules.back().move * 0.5 * 64.0, 0.16, 1e-12);
}

TEST(Stages, ADesignToBeginWithIsTakenAsItIs) {
    Play play = stiff(400);
    play.problem.has_stress = true;
    play.problem.compliance_goal = play.problem.stiffness_alone = false;
    play.problem.material_goal = true;
    EXPECT_EQ(Stages(play.run, play.problem, 0.02).now().sharpness, 1.0);
    EXPECT_EQ(Stages(play.run, play.problem, 0.3).now().sharpness, 0.0); // gray
    EXPECT_EQ(Stages(play.run, play.problem).now().sharpness, 0.0);
    play.run.sharpen = false;
    EXPECT_EQ(Stages(play.run, play.problem, 0.02).now().sharpness, 0.0);
    // Stiffness: the penalty is there from the start, and densities settle first.
    const Play other = stiff(400);
    EXPECT_EQ(Stages(other.run, other.problem, 0.02).now().penalty, 3.0);
    EXPECT_EQ(Stages(other.run, other.problem, 0.02).now().sharpness, 0.0);
    EXPECT_EQ(Stages(other.run, other.problem).now().penalty, 1.0);
}

TEST(Stages, WithoutSharpeningTheFirstStageIsTheLast) {
    Play play = stiff(400);
    play.run.penalty = 3.0;
    play.run.sharpen = false;
    const Played out = play.play();
    EXPECT_TRUE(out.schedules.front().final);
    EXPECT_TRUE(out.ended);
    for (const Schedule& s : out.schedules) EXPECT_EQ(s.sharpness, 0.0);
}

TEST(Stages, GoOnFromACheckpointAsIfThereHadBeenNoStop) {
    const Play play = stiff(200);
    const Played whole = play.play();
    for (const std::size_t stop : {3U, 20U, 45U, 70U}) {
        Stages first(play.run, play.problem);
        std::vector<IterationRow> history;
        const auto go = [&](Stages& stages, std::size_t until) {
            while (history.size() < until) {
                const int i = static_cast<int>(history.size()) + 1;
                EXPECT_EQ(stages.now().penalty, whole.schedules[history.size()].penalty);
                EXPECT_EQ(stages.now().sharpness, whole.schedules[history.size()].sharpness);
                EXPECT_EQ(stages.now().move, whole.schedules[history.size()].move);
                IterationRow row;
                row.goal = play.goal(i);
                row.change = 10.0 * play.change(i);
                row.grayness = play.gray(i);
                history.push_back(row);
                stages.next({history, play.change(i), play.broken(i), true});
            }
        };
        go(first, stop);
        Checkpoint kept;
        first.walk(Walk(kept));
        Stages second(play.run, play.problem);
        second.walk(Walk(std::as_const(kept)));
        go(second, whole.schedules.size());
    }
}

TEST(GoalRange, IsThatOfTheLastRows) {
    std::vector<IterationRow> rows(4);
    rows[0].goal = 50.0;
    rows[1].goal = 10.0;
    rows[2].goal = 12.0;
    rows[3].goal = 8.0;
    EXPECT_FALSE(goal_range(rows, 5).has_value());
    EXPECT_NEAR(*goal_range(rows, 3), 0.5, 1e-12);
    EXPECT_NEAR(*goal_range(rows, 4), 42.0 / 8.0, 1e-12);
}
