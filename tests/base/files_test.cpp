#include "base/files.hpp"

#include "base/error.hpp"
#include "support/studies.hpp"

#include <gtest/gtest.h>

using namespace upright;

TEST(Files, AreReadWhole) {
    const test::TemporaryFolder folder;
    EXPECT_EQ(read_text(folder.write("empty.txt", "")), "");
    const std::string odd("a\0b\r\n\xff", 6);
    EXPECT_EQ(read_text(folder.write("odd.txt", odd)), odd);
    EXPECT_THROW(read_text(folder.path() / "none.txt"), Error);
    EXPECT_THROW(read_text(folder.path()), Error);
    EXPECT_THROW(read_text("/proc/self/mem"), Error); // opens, but its first bytes cannot be read
}

TEST(Files, LeaveNothingBehindWhenWritingFails) {
    const test::TemporaryFolder folder;
    const auto target = folder.write("kept.txt", "old");
    EXPECT_THROW(write_then_rename(target,
                                   [](const std::filesystem::path& temporary) {
                                       write_text(temporary, "half");
                                       throw Error::numerics("stopped");
                                   }),
                 Error);
    EXPECT_EQ(read_text(target), "old");
    EXPECT_EQ(std::distance(std::filesystem::directory_iterator(folder.path()), {}), 1);
}

TEST(Files, SayWhatCannotBeRead) {
    try {
        read_text("/nowhere/at/all.toml");
        FAIL();
    } catch (const Error& bad) {
        EXPECT_EQ(bad.code(), ExitCode::Input);
        EXPECT_NE(std::string(bad.what()).find("No such file"), std::string::npos);
    }
}

TEST(Files, SayWhereNothingCanBeWritten) {
    bool called = false;
    try {
        write_then_rename("/proc/nothing.txt", [&](const std::filesystem::path&) { called = true; });
        FAIL();
    } catch (const Error& bad) {
        EXPECT_EQ(bad.code(), ExitCode::Files);
        EXPECT_EQ(std::string(bad.what()).rfind("/proc/nothing.txt: cannot be written: ", 0), 0U)
            << bad.what();
    }
    EXPECT_FALSE(called);
}

TEST(Files, TemporariesFollowNoLinkAndForeseeNoName) {
    const test::TemporaryFolder folder;
    std::vector<std::string> names;
    for (int k = 0; k < 3; ++k)
        write_then_rename(folder.path() / (std::string(240, 'n') + ".txt"),
                          [&](const std::filesystem::path& temporary) {
                              names.push_back(temporary.filename().string());
                              EXPECT_EQ(temporary.extension(), ".txt");
                              EXPECT_LT(names.back().size(), 256U);
                              write_text(temporary, "x");
                          });
    EXPECT_NE(names[0], names[1]);
    EXPECT_NE(names[1], names[2]);
    // A link in place of a temporary is not written through.
    const auto victim = folder.write("victim.txt", "precious");
    std::filesystem::create_symlink(victim, folder.path() / "link.txt");
    EXPECT_THROW(write_bytes(folder.path() / "link.txt", "bad", 3, "target.txt"), Error);
    EXPECT_EQ(read_text(victim), "precious");
}
