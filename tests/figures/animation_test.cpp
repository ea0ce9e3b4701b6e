#include "figures/animation.hpp"

#include "base/error.hpp"
#include "support/folder.hpp"

#include <fstream>
#include <gif_lib.h>
#include <gtest/gtest.h>

namespace upright {

namespace {

Picture plain(unsigned char r, unsigned char g, unsigned char b) {
    Picture out;
    out.width = 40;
    out.height = 30;
    for (int i = 0; i < 40 * 30; ++i) {
        out.rgb.push_back(i == 0 ? 255 : r);
        out.rgb.push_back(i == 0 ? 255 : g);
        out.rgb.push_back(i == 0 ? 255 : b);
    }
    return out;
}

} // namespace

TEST(Animation, AGifHasEveryFrameInItsColours) {
    const test::TemporaryFolder folder;
    const auto file = folder.path() / "film é.gif";
    write_gif(file, {plain(200, 30, 10), plain(20, 40, 220), plain(0, 0, 0)}, 6);
    int code = 0;
    GifFileType* gif = DGifOpenFileName(file.c_str(), &code);
    ASSERT_NE(gif, nullptr);
    ASSERT_EQ(DGifSlurp(gif), GIF_OK);
    EXPECT_EQ(gif->ImageCount, 3);
    EXPECT_EQ(gif->SWidth, 40);
    const auto color = [&](int frame, int pixel) {
        return gif->SColorMap->Colors[gif->SavedImages[frame].RasterBits[pixel]];
    };
    EXPECT_EQ(color(0, 0).Blue, 255);
    EXPECT_EQ(color(0, 77).Red, 200);
    EXPECT_EQ(color(1, 77).Blue, 220);
    EXPECT_EQ(color(2, 1199).Green, 0);
    DGifCloseFile(gif, &code);
}

TEST(Animation, AFolderThatCannotBeWrittenIsNamed) {
    EXPECT_THROW(write_gif("/proc/nowhere/film.gif", {plain(1, 2, 3)}, 6), Error);
    EXPECT_THROW(write_gif("film.gif", {}, 6), Error);
}

} // namespace upright
