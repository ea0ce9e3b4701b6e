#include "store/run_folder.hpp"

#include "base/files.hpp"
#include "support/studies.hpp"

#include <gtest/gtest.h>

using namespace upright;

namespace {

OptimizerState some_state() {
    OptimizerState state;
    state.iteration = 2;
    state.x = {0.1, 1.0 / 3.0, 0.9};
    state.density = {0.2, 0.3};
    state.multiplier = 1.0 / 7.0;
    state.step = 0.05;
    state.aim = 0.97;
    state.kept.values = {{"measures/corrections/sag@start-up/1", 0.1},
                         {"stepper/asymptotes/steps", std::int64_t{7}},
                         {"stepper/asymptotes/low", std::vector<double>{1.0 / 3.0, 2.0}},
                         {"stepper/merits", std::vector<double>{}},
                         {"measures/warm-static/0", Eigen::MatrixXd(Eigen::MatrixXd::Random(4, 3))}};
    state.history = {{1, 5.5, 1.0, 0.9, 0.1, {5.5, 0.5}}, {2, 4.25, 0.2, 0.8, 0.1, {4.25, 0.5}}};
    return state;
}

} // namespace

TEST(RunFolder, CheckpointComesBackToTheLastBit) {
    const test::TemporaryFolder folder;
    const RunFolder run = RunFolder::create(folder.path() / "a.run", false);
    const OptimizerState state = some_state();
    run.write_checkpoint(state);
    const OptimizerState back = run.read_checkpoint();
    EXPECT_EQ(back.x, state.x);
    EXPECT_EQ(back.density, state.density);
    EXPECT_EQ(back.multiplier, state.multiplier);
    EXPECT_EQ(back.step, state.step);
    EXPECT_EQ(back.aim, state.aim);
    EXPECT_EQ(back.iteration, 2);
    EXPECT_EQ(back.kept.values.size(), 4U); // what is empty is not kept
    for (const auto& [key, value] : back.kept.values) EXPECT_EQ(value, state.kept.values.at(key)) << key;
    ASSERT_EQ(back.history.size(), 2U);
    EXPECT_EQ(back.history[1].responses, state.history[1].responses);
}

TEST(RunFolder, IsNeverOverwrittenUnasked) {
    const test::TemporaryFolder folder;
    const auto path = folder.path() / "a.run";
    { write_text((RunFolder::create(path, false)).study_file(), "x"); }
    EXPECT_THROW(RunFolder::create(path, false), Error);
    EXPECT_NO_THROW(RunFolder::create(path, true));
    std::filesystem::create_directory(folder.path() / "other");
    folder.write("other/mine.txt", "precious");
    EXPECT_THROW(RunFolder::create(folder.path() / "other", true), Error); // not even with force
    EXPECT_EQ(read_text(folder.path() / "other/mine.txt"), "precious");
}

TEST(RunFolder, IsNeverShared) {
    const test::TemporaryFolder folder;
    const RunFolder run = RunFolder::create(folder.path() / "a.run", false);
    write_text(run.study_file(), "x");
    EXPECT_THROW(RunFolder::create(folder.path() / "a.run", true), Error);
    EXPECT_THROW(RunFolder::open(folder.path() / "a.run", true), Error);
    EXPECT_NO_THROW(RunFolder::open(folder.path() / "a.run", false)); // looking is free
}

TEST(RunFolder, StepsAreListedAndMissingOnesNamed) {
    const test::TemporaryFolder folder;
    const RunFolder run = RunFolder::create(folder.path() / "a.run", false);
    OptimizerState state = some_state();
    run.write_step(state.iteration, state.density);
    state.iteration = 10;
    state.density = {0.7, 0.8};
    run.write_step(state.iteration, state.density);
    EXPECT_EQ(run.kept_iterations(), (std::vector<int>{2, 10}));
    EXPECT_EQ(run.read_density(-1), state.density);
    EXPECT_EQ(run.read_density(2), (std::vector<double>{0.2, 0.3}));
    try {
        run.read_density(5);
        FAIL();
    } catch (const Error& bad) {
        EXPECT_NE(std::string(bad.what()).find("Kept: 2, 10"), std::string::npos);
    }
}

TEST(RunFolder, HistoryHasTheContractsHeader) {
    const test::TemporaryFolder folder;
    const Model model = build_model(test::study_from(test::block_study()));
    const RunFolder run = RunFolder::create(folder.path() / "a.run", false);
    run.write_history(model, some_state().history);
    const std::string text = read_text(run.path() / "history.csv");
    EXPECT_EQ(text.substr(0, text.find('\n')), "iteration,goal,change,grayness,seconds,stiffness,budget");
    EXPECT_EQ(run.read_history()[1].responses, (std::vector<double>{4.25, 0.5}));
}

TEST(RunFolder, FileNamesOfCopies) {
    EXPECT_EQ(file_name("start-up/1"), "start-up.1");
}

// A new run is written beside the old one; what the program did not write stays, whatever happens.
TEST(RunFolder, ANewRunTakesThePlaceOfTheOldOnlyWhenItStands) {
    const test::TemporaryFolder folder;
    const auto path = folder.path() / "a.run";
    {
        RunFolder old = RunFolder::create(path, false);
        write_text(old.study_file(), "old");
        old.write_step(1, {0.5});
        write_text(path / "mine.txt", "precious");
        write_text(path / "steps" / "mine.h5", "precious");
    }
    {
        RunFolder fails = RunFolder::create(path, true);
        write_text(fails.study_file(), "never");
        EXPECT_FALSE(fails.published());
        EXPECT_EQ(read_text(path / "study.toml"), "old");
        fails.discard();
    }
    EXPECT_EQ(read_text(path / "study.toml"), "old");
    EXPECT_FALSE(std::filesystem::exists(path / ".next"));
    {
        RunFolder next = RunFolder::create(path, true);
        write_text(next.study_file(), "new");
        next.write_step(2, {0.25});
        next.publish();
        EXPECT_TRUE(next.published());
        next.publish(); // twice does no harm
    }
    EXPECT_EQ(read_text(path / "study.toml"), "new");
    EXPECT_EQ(read_text(path / "mine.txt"), "precious");
    EXPECT_EQ(read_text(path / "steps" / "mine.h5"), "precious");
    EXPECT_FALSE(std::filesystem::exists(path / "steps" / "0001.h5"));
    EXPECT_EQ(RunFolder::open(path, false).read_density(2), std::vector<double>{0.25});
    EXPECT_FALSE(std::filesystem::exists(path / ".next"));
}

TEST(RunFolder, TheResultIsTheStepThatTheReportNames) {
    const test::TemporaryFolder folder;
    RunFolder run = RunFolder::create(folder.path() / "a.run", false);
    run.write_step(9, {0.9});
    run.write_step(10, {0.1});
    EXPECT_EQ(run.result_iteration(), 10); // not ended yet: the last one
    write_text(run.report_file(), R"({"status": "iteration-limit", "design_of_iteration": 9})");
    EXPECT_EQ(run.result_iteration(), 9);
    EXPECT_EQ(run.read_density(-1), std::vector<double>{0.9});
    EXPECT_EQ(run.read_density(10), std::vector<double>{0.1});
    write_text(run.report_file(), "{ not json");
    EXPECT_EQ(run.result_iteration(), 10);
}
