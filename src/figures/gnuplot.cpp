#include "figures/gnuplot.hpp"

#include "base/error.hpp"
#include "base/files.hpp"
#include "base/process.hpp"

#include <fmt/format.h>
#include <utility>

namespace upright {

namespace {

bool is_whole_svg(const std::filesystem::path& file) {
    const std::string all = read_text(file);
    return all.find("</svg>") != std::string::npos;
}

} // namespace

std::string chart_head(const FigureOptions& options, const std::filesystem::path& file, int font) {
    const char* paper = options.dark ? "#17191e" : "#ffffff";
    const char* ink = options.dark ? "#e3e4e6" : "#212126";
    return fmt::format(
        "set terminal {0} noenhanced size {1},{2} font 'DejaVu Sans,{3}' background '{4}'\n"
        "set border 3 lc rgb '{5}'\nset tics nomirror textcolor rgb '{5}'\nset key textcolor rgb '{5}'\n"
        "set title textcolor rgb '{5}'\nset xlabel textcolor rgb '{5}'\nset ylabel textcolor rgb '{5}'\n"
        "set grid lt 1 lw 0.8 lc rgb '{6}'\n",
        file.extension() == ".svg" ? "svg" : "pngcairo", options.width, options.height, font, paper, ink,
        options.dark ? "#3b3f46" : "#dcdcdc");
}

std::string gnuplot_text(const std::string& text) {
    std::string out = "'";
    for (const char c : text) {
        if (c == '\'') out += '\'';
        const auto code = static_cast<unsigned char>(c);
        out += code < 0x20 || code == 0x7f ? ' ' : c;
    }
    return out + "'";
}

std::string sheet_title(const FigureOptions& options, const std::string& title) {
    return fmt::format("set label 99 {} at screen 0.5,0.972 center font ',15' textcolor rgb '{}' front\n",
                       gnuplot_text(title), options.dark ? "#e3e4e6" : "#212126");
}

std::string for_paper(const FigureOptions& options, std::string script) {
    if (!options.dark) return script;
    for (const auto& [pale, bright] :
         {std::pair{"#0a4d8c", "#6db1f2"}, std::pair{"#00785a", "#2fc79a"}, std::pair{"#993880", "#df86c8"},
          std::pair{"#d54500", "#ff8a4a"}, std::pair{"#b8860b", "#e8b84a"}})
        for (auto at = script.find(pale); at != std::string::npos; at = script.find(pale, at))
            script.replace(at, 7, bright);
    return script;
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
