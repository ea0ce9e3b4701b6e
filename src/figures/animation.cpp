#include "figures/animation.hpp"

#include "base/error.hpp"
#include "base/files.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <gif_lib.h>
#include <unordered_map>

namespace upright {

namespace {

// Colours are told apart to five bits each.
std::uint32_t coarse(const unsigned char* rgb) {
    return static_cast<std::uint32_t>(rgb[0] >> 3U) << 10U | static_cast<std::uint32_t>(rgb[1] >> 3U) << 5U |
           static_cast<std::uint32_t>(rgb[2] >> 3U);
}

struct Shade {
    double count = 0.0;
    std::array<double, 3> sum{};
};

class Palette {
  public:
    explicit Palette(const std::vector<Picture>& pictures) {
        std::unordered_map<std::uint32_t, Shade> shades;
        for (const Picture& picture : pictures)
            for (std::size_t i = 0; i + 2 < picture.rgb.size(); i += 3) {
                Shade& s = shades[coarse(&picture.rgb[i])];
                s.count += 1.0;
                for (std::size_t a = 0; a < 3; ++a) s.sum[a] += picture.rgb[i + a];
            }
        std::vector<std::pair<std::uint32_t, Shade>> list(shades.begin(), shades.end());
        std::vector<std::size_t> chosen;
        std::sort(list.begin(), list.end(), [](const auto& a, const auto& b) {
            return a.second.count != b.second.count ? a.second.count > b.second.count : a.first < b.first;
        });
        const auto mean = [](const Shade& s) {
            return std::array<double, 3>{s.sum[0] / s.count, s.sum[1] / s.count, s.sum[2] / s.count};
        };
        // The most frequent ones first; then always the one that is worst served and not too rare, so that
        // small marks keep their colour.
        std::vector<double> far(list.size(), 1e300);
        const auto take = [&](std::size_t i) {
            const std::array<double, 3> c = mean(list[i].second);
            for (std::size_t k = 0; k < list.size(); ++k) {
                const std::array<double, 3> d = mean(list[k].second);
                double distance = 0.0;
                for (std::size_t a = 0; a < 3; ++a) distance += (c[a] - d[a]) * (c[a] - d[a]);
                far[k] = std::min(far[k], distance);
            }
            chosen.push_back(i);
        };
        for (std::size_t i = 0; i < std::min<std::size_t>(list.size(), 160); ++i) take(i);
        while (chosen.size() < std::min<std::size_t>(list.size(), 256)) {
            std::size_t worst = 0;
            for (std::size_t k = 1; k < list.size(); ++k)
                if (far[k] * std::sqrt(list[k].second.count) >
                    far[worst] * std::sqrt(list[worst].second.count))
                    worst = k;
            if (far[worst] <= 0.0) break;
            take(worst);
        }
        for (const std::size_t i : chosen) {
            GifColorType color;
            const Shade& s = list[i].second;
            color.Red = static_cast<GifByteType>(s.sum[0] / s.count + 0.5);
            color.Green = static_cast<GifByteType>(s.sum[1] / s.count + 0.5);
            color.Blue = static_cast<GifByteType>(s.sum[2] / s.count + 0.5);
            colors_.push_back(color);
        }
    }

    const std::vector<GifColorType>& colors() const { return colors_; }

    GifByteType nearest(const unsigned char* rgb) {
        const auto [at, fresh] = known_.emplace(coarse(rgb), 0);
        if (!fresh) return at->second;
        int best = 1 << 30;
        for (std::size_t i = 0; i < colors_.size(); ++i) {
            const int r = rgb[0] - colors_[i].Red;
            const int g = rgb[1] - colors_[i].Green;
            const int b = rgb[2] - colors_[i].Blue;
            const int d = 3 * r * r + 6 * g * g + b * b;
            if (d >= best) continue;
            best = d;
            at->second = static_cast<GifByteType>(i);
        }
        return at->second;
    }

  private:
    std::vector<GifColorType> colors_;
    std::unordered_map<std::uint32_t, GifByteType> known_;
};

} // namespace

void write_gif(const std::filesystem::path& file, const std::vector<Picture>& pictures, int hundredths) {
    if (pictures.empty()) throw Error::files(file.string(), "there is no picture to write");
    make_folder(file.has_parent_path() ? file.parent_path() : std::filesystem::path("."));
    write_then_rename(file, [&](const std::filesystem::path& temporary) {
        const auto fail = [&] {
            throw Error::files(file.string(), "cannot be written", "Choose another place with --out");
        };
        int code = 0;
        GifFileType* gif = EGifOpenFileName(temporary.c_str(), false, &code);
        if (gif == nullptr) fail();
        const int width = pictures.front().width;
        const int height = pictures.front().height;
        Palette palette(pictures);
        std::vector<GifColorType> colors = palette.colors();
        colors.resize(256);
        ColorMapObject* map = GifMakeMapObject(256, colors.data());
        EGifSetGifVersion(gif, true);
        bool good = EGifPutScreenDesc(gif, width, height, 8, 0, map) == GIF_OK;
        // The block that makes it run for ever.
        const std::array<unsigned char, 3> forever{1, 0, 0};
        good = good && EGifPutExtensionLeader(gif, APPLICATION_EXT_FUNC_CODE) == GIF_OK &&
               EGifPutExtensionBlock(gif, 11, "NETSCAPE2.0") == GIF_OK &&
               EGifPutExtensionBlock(gif, 3, forever.data()) == GIF_OK &&
               EGifPutExtensionTrailer(gif) == GIF_OK;
        std::vector<GifByteType> line(static_cast<std::size_t>(width));
        for (const Picture& picture : pictures) {
            GraphicsControlBlock control;
            control.DisposalMode = DISPOSE_DO_NOT;
            control.UserInputFlag = false;
            control.DelayTime = hundredths;
            control.TransparentColor = NO_TRANSPARENT_COLOR;
            std::array<GifByteType, 4> extension{};
            const auto bytes = EGifGCBToExtension(&control, extension.data());
            good = good &&
                   EGifPutExtension(gif, GRAPHICS_EXT_FUNC_CODE, static_cast<int>(bytes), extension.data()) ==
                       GIF_OK &&
                   EGifPutImageDesc(gif, 0, 0, width, height, false, nullptr) == GIF_OK;
            for (int y = 0; y < height && good; ++y) {
                for (int x = 0; x < width; ++x)
                    line[static_cast<std::size_t>(x)] = palette.nearest(
                        &picture.rgb[3 * (static_cast<std::size_t>(y) * static_cast<std::size_t>(width) +
                                          static_cast<std::size_t>(x))]);
                good = EGifPutLine(gif, line.data(), width) == GIF_OK;
            }
        }
        GifFreeMapObject(map);
        good = EGifCloseFile(gif, &code) == GIF_OK && good;
        if (!good) fail();
    });
}

} // namespace upright
