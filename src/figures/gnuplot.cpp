#include "figures/gnuplot.hpp"

#include "base/error.hpp"
#include "base/files.hpp"
#include "base/process.hpp"

namespace upright {

namespace {

bool is_whole_svg(const std::filesystem::path& file) {
    const std::string all = read_text(file);
    return all.find("</svg>") != std::string::npos;
}

} // namespace

std::string gnuplot_text(const std::string& text) {
    std::string out = "'";
    for (const char c : text) {
        if (c == '\'') out += '\'';
        const auto code = static_cast<unsigned char>(c);
        out += code < 0x20 || code == 0x7f ? ' ' : c;
    }
    return out + "'";
}

void run_gnuplot(const std::string& script, const std::filesystem::path& file,
                 const std::filesystem::path& temporary) {
    const int code = run_program({"gnuplot", "-"}, script, temporary);
    if (code == 127)
        throw Error::files(file.string(), "the chart needs gnuplot, which is not there",
                           "Install gnuplot-nox");
    if (code != 0 || !(file.extension() == ".svg" ? is_whole_svg(temporary) : is_whole_png(temporary)))
        throw Error::files(file.string(), "gnuplot could not draw the chart",
                           "Install gnuplot-nox, and check that the disk is not full");
}

} // namespace upright
