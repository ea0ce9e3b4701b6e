#include "base/process.hpp"

#include "base/error.hpp"
#include "base/files.hpp"
#include "support/folder.hpp"

#include <atomic>
#include <chrono>
#include <gtest/gtest.h>
#include <thread>

using namespace upright;
using test::TemporaryFolder;

TEST(Process, GivesInputTakesOutputAndTellsHowItEnded) {
    const TemporaryFolder folder;
    const auto out = folder.path() / "out.txt";
    EXPECT_EQ(run_program({"cat"}, "two\nlines\n", out), 0);
    EXPECT_EQ(read_text(out), "two\nlines\n");
    const auto errors = folder.path() / "errors.txt";
    EXPECT_EQ(run_program({"sh", "-c", "echo no >&2; exit 7"}, "", out, errors), 7);
    EXPECT_EQ(read_text(errors), "no\n");
    EXPECT_EQ(run_program({"no-such-program-here"}, "", out), 127);
    EXPECT_EQ(run_program({"sh", "-c", "kill -9 $$"}, "", out), -1);
    EXPECT_EQ(run_program({"true"}, std::string(1 << 22, 'x'), out), -1); // it takes none of its input
    EXPECT_THROW(run_program({"true"}, "", folder.path() / "none/out.txt"), Error);
}

TEST(Process, IsAskedToEndOnceAndMayTidyUp) {
    const TemporaryFolder folder;
    const auto out = folder.path() / "out.txt";
    std::atomic<bool> stop{false};
    std::thread later([&] {
        for (int k = 0; k < 400 && (!std::filesystem::exists(out) || read_text(out).empty()); ++k)
            std::this_thread::sleep_for(std::chrono::milliseconds(10));
        stop = true;
    });
    const int code =
        run_program({"sh", "-c",
                     "trap 'echo asked; n=$((n + 1)); [ $n -gt 1 ] && exit 9; sleep 0.3; exit 5' TERM; "
                     "echo ready; while :; do sleep 0.05; done"},
                    "", out, "/dev/null", [&] { return stop.load(); });
    later.join();
    EXPECT_EQ(code, 5);
    EXPECT_EQ(read_text(out), "ready\nasked\n");
}

TEST(Process, RunsToItsEndWhereNobodyAsks) {
    const TemporaryFolder folder;
    EXPECT_EQ(run_program({"sh", "-c", "sleep 0.1; exit 3"}, "", folder.path() / "out.txt", "/dev/null",
                          [] { return false; }),
              3);
}
