#include "base/module_file.hpp"

#include "base/error.hpp"
#include "base/files.hpp"
#include "support/folder.hpp"

#include <gtest/gtest.h>

using namespace upright;

namespace {

std::filesystem::path cad_file() {
    return folder_of(reinterpret_cast<const void*>(&cad_file)) / "../bin/upright-cad.so";
}

std::string refusal(const std::filesystem::path& file, const char* symbol = "upright_cad_module") {
    try {
        symbol_of_module({file}, symbol);
    } catch (const Error& bad) {
        EXPECT_EQ(bad.code(), ExitCode::Files);
        return bad.what();
    }
    return {};
}

} // namespace

TEST(ModuleFile, IsLoadedWhereItIsWholeAndOfThisBuild) {
    EXPECT_EQ(refusal(cad_file()), "");
    EXPECT_NE(refusal(cad_file(), "no_such_symbol").find("another module"), std::string::npos);
}

TEST(ModuleFile, OneThatWasCutOffOrIsOfAnotherBuildIsRefused) {
    const test::TemporaryFolder folder;
    const std::string whole = read_text(cad_file());
    for (const double share : {0.0, 0.001, 0.3, 0.7, 0.999}) {
        write_text(folder.path() / "cut.so",
                   whole.substr(0, static_cast<std::size_t>(share * static_cast<double>(whole.size()))));
        EXPECT_NE(refusal(folder.path() / "cut.so").find("not whole"), std::string::npos) << share;
    }
    // Any library that is none of ours.
    const std::filesystem::path other = "/usr/lib/x86_64-linux-gnu/libm.so.6";
    if (std::filesystem::exists(other)) {
        EXPECT_NE(refusal(other).find("another build"), std::string::npos);
    }
    EXPECT_NE(refusal(folder.path() / "none.so").find("missing"), std::string::npos);
}
