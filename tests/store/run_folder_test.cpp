#include "store/run_folder.hpp"

#include "base/h5_file.hpp"

#include "base/files.hpp"
#include "support/studies.hpp"

#include <gtest/gtest.h>
#include <limits>

using namespace upright;

namespace {

OptimizerState some_state() {
    OptimizerState state;
    state.iteration = 2;
    state.x = {0.1, 1.0 / 3.0, 0.9};
    state.density = {0.2, 0.3};
    state.filtered = {0.25, 0.35};
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
    const RunFolder run = RunFolder::create(folder.path() / "a.run", Existing::Refuse);
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

// Into memory, the state's own values let go of on the way; the files are those that are written at once.
TEST(RunFolder, FilesKeptInMemoryAreTheSame) {
    const test::TemporaryFolder folder;
    const RunFolder run = RunFolder::create(folder.path() / "a.run", Existing::Refuse);
    OptimizerState state = some_state();
    run.write_checkpoint(state);
    run.write_step(state.iteration, state.design());
    const auto steps = run.study_file().parent_path() / "steps";
    const std::string checkpoint = read_text(steps / "checkpoint.h5");
    const std::string step = read_text(steps / "0002.h5");
    std::filesystem::remove(steps / "checkpoint.h5");
    std::filesystem::remove(steps / "0002.h5");
    std::vector<H5File> files = run.kept_files(state);
    ASSERT_EQ(files.size(), 2U);
    EXPECT_TRUE(state.kept.values.empty()); // taken
    for (; !files.empty(); files.pop_back()) files.back().save();
    EXPECT_EQ(read_text(steps / "checkpoint.h5"), checkpoint);
    EXPECT_EQ(read_text(steps / "0002.h5"), step);
    state.ended = true; // nothing goes on from here
    EXPECT_EQ(run.kept_files(state).size(), 1U);
}

TEST(RunFolder, IsNeverOverwrittenUnasked) {
    const test::TemporaryFolder folder;
    const auto path = folder.path() / "a.run";
    { write_text((RunFolder::create(path, Existing::Refuse)).study_file(), "x"); }
    EXPECT_THROW(RunFolder::create(path, Existing::Refuse), Error);
    EXPECT_NO_THROW(RunFolder::create(path, Existing::Replace));
    std::filesystem::create_directory(folder.path() / "other");
    folder.write("other/mine.txt", "precious");
    EXPECT_THROW(RunFolder::create(folder.path() / "other", Existing::Replace), Error); // not even with force
    EXPECT_EQ(read_text(folder.path() / "other/mine.txt"), "precious");
}

TEST(RunFolder, IsNeverShared) {
    const test::TemporaryFolder folder;
    const RunFolder run = RunFolder::create(folder.path() / "a.run", Existing::Refuse);
    write_text(run.study_file(), "x");
    EXPECT_THROW(RunFolder::create(folder.path() / "a.run", Existing::Replace), Error);
    EXPECT_THROW(RunFolder::open(folder.path() / "a.run", Access::Running), Error);
    EXPECT_NO_THROW(RunFolder::open(folder.path() / "a.run", Access::Reading)); // looking is free
}

TEST(RunFolder, StepsAreListedAndMissingOnesNamed) {
    const test::TemporaryFolder folder;
    const RunFolder run = RunFolder::create(folder.path() / "a.run", Existing::Refuse);
    OptimizerState state = some_state();
    run.write_step(state.iteration, state.design());
    state.iteration = 10;
    state.density = {0.7, 0.8};
    state.filtered = {0.6, 0.55};
    state.penalty = 2.5;
    state.sharpness = 4.0;
    run.write_step(state.iteration, state.design());
    EXPECT_EQ(run.read_step(10).filtered, state.filtered);
    EXPECT_EQ(run.read_step(10).penalty, 2.5);
    EXPECT_EQ(run.read_step(10).sharpness, 4.0);
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

// Files come from disks that fail, and from other hands.
TEST(RunFolder, ADamagedCheckpointIsSaidNotRead) {
    const test::TemporaryFolder folder;
    const RunFolder run = RunFolder::create(folder.path() / "a.run", Existing::Refuse);
    const auto file = run.path() / "steps" / "checkpoint.h5";
    const auto damaged = [&](const std::function<void(const H5File&)>& fill) {
        H5File::write(file, fill);
        try {
            run.read_checkpoint();
        } catch (const Error& bad) {
            return bad.code() == ExitCode::Input;
        }
        return false;
    };
    const auto sound = [](const H5File& h5, const std::vector<double>& state, std::size_t history) {
        h5.put("state", state);
        h5.put("x", std::vector<double>{0.5, 0.5});
        h5.put("density", std::vector<double>{0.5, 0.5});
        h5.put("history", std::vector<double>(history, 1.0));
    };
    const double nan = std::numeric_limits<double>::quiet_NaN();
    EXPECT_FALSE(damaged([&](const H5File& h5) { sound(h5, {2, 1, 7, 0.1, 1}, 14); }));
    for (const std::vector<double>& state : {std::vector<double>{2, 1},
                                             {2, 1, 0, 0.1, 1},
                                             {2, 1, nan, 0.1, 1},
                                             {2, 1, 1e300, 0.1, 1},
                                             {-3, 1, 7, 0.1, 1},
                                             {2.5, 1, 7, 0.1, 1}})
        EXPECT_TRUE(damaged([&](const H5File& h5) { sound(h5, state, 14); })) << state.size();
    EXPECT_TRUE(damaged([&](const H5File& h5) { sound(h5, {2, 1, 7, 0.1, 1}, 13); })); // a row cut short
    const auto kept = [&](const std::vector<std::string>& names, const std::vector<std::string>& types,
                          const std::function<void(const H5File&)>& more) {
        return damaged([&](const H5File& h5) {
            sound(h5, {2, 1, 7, 0.1, 1}, 14);
            h5.put("kept/names", names);
            h5.put("kept/types", types);
            more(h5);
        });
    };
    EXPECT_TRUE(kept({"a", "b"}, {"number"}, [](const H5File&) {}));
    EXPECT_TRUE(kept({"a"}, {"number"}, [](const H5File&) {})); // no value
    EXPECT_TRUE(kept({"a"}, {"number"}, [](const H5File& h5) {
        h5.put("kept/0", std::vector<double>{1, 2});
    }));
    EXPECT_TRUE(kept({"a"}, {"wish"}, [](const H5File& h5) { h5.put("kept/0", std::vector<double>{1}); }));
    for (const std::vector<std::int64_t>& size :
         {std::vector<std::int64_t>{3, 3}, {-2, -2}, {std::int64_t{1} << 62, 4}, {4}})
        EXPECT_TRUE(kept({"a"}, {"columns"}, [&](const H5File& h5) {
            h5.put("kept/0", std::vector<double>{1, 2, 3, 4});
            h5.put("kept/0-size", size);
        })) << size.front();
    run.write_checkpoint(some_state());
    const auto whole = std::filesystem::file_size(file);
    for (const double share : {0.95, 0.5, 0.1, 0.0}) {
        run.write_checkpoint(some_state());
        std::filesystem::resize_file(file, static_cast<std::uintmax_t>(share * static_cast<double>(whole)));
        EXPECT_THROW(run.read_checkpoint(), Error) << share;
    }
}

TEST(RunFolder, HistoryHasTheContractsHeader) {
    const test::TemporaryFolder folder;
    const Model model = build_model(test::study_from(test::block_study()));
    const RunFolder run = RunFolder::create(folder.path() / "a.run", Existing::Refuse);
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
        RunFolder old = RunFolder::create(path, Existing::Refuse);
        write_text(old.study_file(), "old");
        old.write_step(1, {{0.5}, {0.5}, 3.0, 0.0});
        write_text(path / "mine.txt", "precious");
        write_text(path / "steps" / "mine.h5", "precious");
    }
    {
        RunFolder fails = RunFolder::create(path, Existing::Replace);
        write_text(fails.study_file(), "never");
        EXPECT_FALSE(fails.published());
        EXPECT_EQ(read_text(path / "study.toml"), "old");
        fails.discard();
    }
    EXPECT_EQ(read_text(path / "study.toml"), "old");
    EXPECT_FALSE(std::filesystem::exists(path / ".next"));
    {
        RunFolder next = RunFolder::create(path, Existing::Replace);
        write_text(next.study_file(), "new");
        next.write_step(2, {{0.25}, {0.25}, 3.0, 0.0});
        next.publish();
        EXPECT_TRUE(next.published());
        next.publish(); // twice does no harm
    }
    EXPECT_EQ(read_text(path / "study.toml"), "new");
    EXPECT_EQ(read_text(path / "mine.txt"), "precious");
    EXPECT_EQ(read_text(path / "steps" / "mine.h5"), "precious");
    EXPECT_FALSE(std::filesystem::exists(path / "steps" / "0001.h5"));
    EXPECT_EQ(RunFolder::open(path, Access::Reading).read_density(2), std::vector<double>{0.25});
    EXPECT_FALSE(std::filesystem::exists(path / ".next"));
}

TEST(RunFolder, TheResultIsTheStepThatTheReportNames) {
    const test::TemporaryFolder folder;
    RunFolder run = RunFolder::create(folder.path() / "a.run", Existing::Refuse);
    run.write_step(9, {{0.9}, {0.8}, 3.0, 2.0});
    run.write_step(10, {{0.1}, {0.2}, 3.0, 2.0});
    EXPECT_EQ(run.result_iteration(), 10); // not ended yet: the last one
    write_text(run.report_file(), R"({"status": "iteration-limit", "design_of_iteration": 9})");
    EXPECT_EQ(run.result_iteration(), 9);
    EXPECT_EQ(run.read_density(-1), std::vector<double>{0.9});
    EXPECT_EQ(run.read_density(10), std::vector<double>{0.1});
    write_text(run.report_file(), "{ not json");
    EXPECT_EQ(run.result_iteration(), 10);
}
