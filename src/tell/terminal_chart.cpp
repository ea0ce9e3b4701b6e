#include "tell/terminal_chart.hpp"

#include <algorithm>
#include <array>
#include <cmath>

namespace upright {

namespace {

constexpr double by_logarithm = 30.0; // ratio of the ends from which on

// U+2800 and the dots of a character in UTF-8.
std::string braille(unsigned dots) {
    const unsigned code = 0x2800U + dots;
    std::string out;
    out += static_cast<char>(0xe0U | code >> 12U);
    out += static_cast<char>(0x80U | (code >> 6U & 0x3fU));
    out += static_cast<char>(0x80U | (code & 0x3fU));
    return out;
}

} // namespace

TerminalChart terminal_chart(const std::vector<double>& values, const std::optional<double>& bound,
                             std::size_t columns, std::size_t rows) {
    static const std::array<std::array<unsigned, 4>, 2> bits{std::array<unsigned, 4>{0x01, 0x02, 0x04, 0x40},
                                                             std::array<unsigned, 4>{0x08, 0x10, 0x20, 0x80}};
    TerminalChart out;
    std::vector<std::vector<unsigned>> dots(rows, std::vector<unsigned>(columns, 0));
    std::vector<double> all;
    for (const double v : values)
        if (std::isfinite(v)) all.push_back(v);
    const auto finish = [&] {
        for (const auto& row : dots) {
            std::string line;
            for (const unsigned d : row) line += braille(d);
            out.lines.push_back(line);
        }
        return out;
    };
    if (all.empty() || columns == 0 || rows == 0) return finish();
    if (bound) all.push_back(*bound);
    out.low = *std::min_element(all.begin(), all.end());
    out.high = *std::max_element(all.begin(), all.end());
    const bool decades = out.low > 0.0 && out.high > by_logarithm * out.low;
    const auto of = [&](double v) { return decades ? std::log10(v) : v; };
    const double from = of(out.low);
    const double range = of(out.high) - from;
    const auto wide = static_cast<double>(2 * columns - 1);
    const auto tall = static_cast<double>(4 * rows - 1);
    const auto row_of = [&](double v) {
        const double share = range > 0.0 ? (of(v) - from) / range : 0.5;
        return static_cast<int>(std::lround((1.0 - share) * tall));
    };
    const auto set = [&](int x, int y) {
        dots[static_cast<std::size_t>(y / 4)][static_cast<std::size_t>(x / 2)] |=
            bits[static_cast<std::size_t>(x % 2)][static_cast<std::size_t>(y % 4)];
    };
    if (bound)
        for (int x = 0; x <= static_cast<int>(wide); x += 4) set(x, row_of(*bound));
    int before = -1;
    for (int x = 0; x <= static_cast<int>(wide); ++x) {
        const double at = values.size() > 1 ? x / wide * static_cast<double>(values.size() - 1) : 0.0;
        const double v = values[static_cast<std::size_t>(std::lround(at))];
        if (!std::isfinite(v)) {
            before = -1;
            continue;
        }
        const int y = row_of(v);
        // Without gaps where it is steep.
        const int towards = before < 0 ? y : before;
        for (int k = std::min(y, towards); k <= std::max(y, towards); ++k)
            if (k == y || std::abs(k - y) < std::abs(towards - y)) set(x, k);
        before = y;
    }
    return finish();
}

} // namespace upright
