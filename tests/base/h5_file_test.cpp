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

TEST(H5File, InMemoryIsThatOnTheDisk) {
    const test::TemporaryFolder folder;
    const auto fill = [](const H5File& file) {
        const std::vector<double> two_by_three{1, 2, 3, 4, 5, 6};
        file.put("list", std::vector<double>(1000, 0.25));
        file.put("matrix", two_by_three.data(), 2, 3);
    };
    const auto at = folder.path() / "a.h5";
    H5File::write(at, fill);
    const std::string written = read_text(at);
    std::filesystem::remove(at);
    // Two of one name side by side, saved later; the second one stands.
    const H5File first =
        H5File::in_memory(at, [](const H5File& file) { file.put("list", std::vector<double>{1.0}); });
    const H5File second = H5File::in_memory(at, fill);
    EXPECT_FALSE(std::filesystem::exists(at));
    first.save();
    EXPECT_EQ(H5File::open(at).numbers("list"), std::vector<double>{1.0});
    second.save();
    EXPECT_EQ(read_text(at), written);
    EXPECT_EQ(H5File::open(at).numbers("matrix"), (std::vector<double>{1, 2, 3, 4, 5, 6}));
    const H5File lost = H5File::in_memory(folder.path() / "missing" / "a.h5", fill);
    EXPECT_THROW(lost.save(), Error);
}
