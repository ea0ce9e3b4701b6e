#include "base/h5_file.hpp"

#include "base/error.hpp"
#include "base/files.hpp"
#include "support/folder.hpp"

#include <gtest/gtest.h>

using namespace upright;

namespace {

std::filesystem::path whole_file(const test::TemporaryFolder& folder, const std::string& name = "a.h5") {
    H5File::write(folder.path() / name, [](const H5File& file) {
        file.put("group/numbers", std::vector<double>{1.5, -2.0, 1.0 / 3.0});
        file.put("group/texts", std::vector<std::string>{"one", "zwei"});
        file.put("integers", std::vector<std::int64_t>{7, -9}, 2);
    });
    return folder.path() / name;
}

bool opens(const std::filesystem::path& file) {
    try {
        H5File::open(file);
    } catch (const Error& bad) {
        EXPECT_EQ(bad.code(), ExitCode::Input);
        EXPECT_NE(std::string(bad.what()).find("cannot be read"), std::string::npos) << bad.what();
        return false;
    }
    return true;
}

} // namespace

TEST(H5File, ComesBack) {
    const test::TemporaryFolder folder;
    const H5File file = H5File::open(whole_file(folder));
    EXPECT_EQ(file.numbers("group/numbers"), (std::vector<double>{1.5, -2.0, 1.0 / 3.0}));
    EXPECT_EQ(file.texts("group/texts"), (std::vector<std::string>{"one", "zwei"}));
    EXPECT_EQ(file.integers("integers"), (std::vector<std::int64_t>{7, -9}));
    EXPECT_THROW(file.numbers("nothing"), Error);
}

TEST(H5File, TheSameNumbersAreTheSameFile) {
    const test::TemporaryFolder folder;
    const std::string first = read_text(whole_file(folder));
    EXPECT_EQ(first, read_text(whole_file(folder, "b.h5")));
}

TEST(H5File, EveryChangedBitAndEveryCutIsSeen) {
    const test::TemporaryFolder folder;
    const auto file = whole_file(folder);
    const std::string whole = read_text(file);
    ASSERT_TRUE(opens(file));
    for (std::size_t at = 0; at < whole.size(); at += at + 64 < whole.size() ? 37 : 1) {
        std::string bytes = whole;
        bytes[at] = static_cast<char>(bytes[at] ^ static_cast<char>(1 << (at % 8)));
        write_text(file, bytes);
        EXPECT_FALSE(opens(file)) << "bit of byte " << at << " of " << whole.size();
    }
    for (std::size_t size = 0; size < whole.size(); size += 1 + size / 4) {
        write_text(file, whole.substr(0, size));
        EXPECT_FALSE(opens(file)) << "cut to " << size;
    }
    write_text(file, whole + "x");
    EXPECT_FALSE(opens(file));
    write_text(file, whole);
    EXPECT_TRUE(opens(file));
    EXPECT_FALSE(opens(folder.path()));
    EXPECT_FALSE(opens(folder.path() / "none.h5"));
}
