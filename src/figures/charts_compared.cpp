#include "figures/charts_compared.hpp"

#include "base/files.hpp"
#include "figures/gnuplot.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>

namespace upright {

namespace {

// Colours that can be told apart by people with colour-blindness (after Okabe & Ito), dark enough for lines.
const std::array<const char*, 7> line_colors{"#0a4d8c", "#d54500", "#00785a", "#993880",
                                             "#b8860b", "#808080", "#3fa7d6"};

std::string block(const std::string& name, const std::vector<std::pair<double, double>>& points) {
    std::string out = "$" + name + " << END\n";
    for (const auto& [x, y] : points) out += fmt::format("{:.12g} {:.12g}\n", x, y);
    return out + "END\n";
}

void write_chart(const std::filesystem::path& file, const std::string& script) {
    make_folder(file.has_parent_path() ? file.parent_path() : std::filesystem::path("."));
    write_then_rename(file,
                      [&](const std::filesystem::path& temporary) { run_gnuplot(script, file, temporary); });
}

} // namespace

void draw_histories(const std::vector<std::string>& labels, const std::vector<HistoryPanel>& panels,
                    const FigureOptions& options, const std::filesystem::path& png) {
    double last = 2.0;
    for (const HistoryPanel& p : panels)
        for (const auto& line : p.lines)
            if (!line.empty()) last = std::max(last, line.back().first);
    const std::size_t wide = panels.size() > 4 ? 2 : 1;
    const std::size_t high = (panels.size() + wide - 1) / wide;
    std::string script = chart_head(options, png, 11);
    script += sheet_title(options, "Histories");
    script += fmt::format("set multiplot layout {},{} margins {},0.97,0.09,0.88 spacing "
                          "{},{}\nset xrange [1:{}]\nset format y '%.4g'\n",
                          high, wide, wide == 1 ? 0.10 : 0.085, wide == 1 ? 0.0 : 0.09,
                          high > 3 ? 0.055 : 0.07, last);
    script += "set key at graph 1,1.0 right bottom horizontal Left reverse samplen 2\n";
    for (std::size_t k = 0; k < panels.size(); ++k) {
        const HistoryPanel& panel = panels[k];
        double low = 1e300;
        double most = -1e300;
        std::string plot;
        for (std::size_t i = 0; i < panel.lines.size(); ++i) {
            if (panel.lines[i].empty()) continue;
            const std::string name = fmt::format("h{}_{}", k, i);
            script += block(name, panel.lines[i]);
            for (const auto& [x, y] : panel.lines[i]) {
                low = std::min(low, y);
                most = std::max(most, y);
            }
            plot += fmt::format("{}${} with lines lw 2.2 dt {} lc rgb '{}' title {}",
                                plot.empty() ? "plot " : ", ", name, 1 + i / line_colors.size(),
                                line_colors[i % line_colors.size()], gnuplot_text(labels[i]));
        }
        for (const auto& [bound, what] : {std::pair{panel.max, "max"}, std::pair{panel.min, "min"}}) {
            if (!bound) continue;
            low = std::min(low, *bound);
            most = std::max(most, *bound);
            plot += fmt::format(", {:.12g} with lines lw 1.6 dt 2 lc rgb '#888888' title {}", *bound,
                                gnuplot_text(fmt::format("{} {:.4g}", what, *bound)));
        }
        if (plot.empty()) continue;
        const bool decades = low > 0.0 && most > 30.0 * low;
        const double room = std::max(0.08 * (most - low), 0.02 * std::max(std::abs(most), 1e-300));
        script +=
            decades ? fmt::format("set logscale y\nset yrange [{:.9g}:{:.9g}]\n", low / 1.3, most * 1.3)
                    : fmt::format("unset logscale y\nset yrange [{:.9g}:{:.9g}]\n", low - room, most + room);
        script += "set ylabel " + gnuplot_text(panel.name) + "\n";
        if (k + wide >= panels.size()) script += "set xlabel 'iteration'\n";
        script += plot + "\n" + after_sheet_title;
    }
    write_chart(png, for_paper(options, script + "unset multiplot\n"));
}

void draw_scatter(const std::string& title, const std::string& along, const std::string& up,
                  const std::vector<ScatterPoint>& points, const FigureOptions& options,
                  const std::filesystem::path& file) {
    std::string script = chart_head(options, file, 11);
    script +=
        fmt::format("set title {} font ',15'\nset xlabel {}\nset ylabel {}\nset key top right Left reverse\n"
                    "set offsets graph 0.08,graph 0.12,graph 0.08,graph 0.08\nset format '%.4g'\n",
                    gnuplot_text(title), gnuplot_text(along), gnuplot_text(up));
    std::vector<std::pair<double, double>> good;
    std::vector<std::pair<double, double>> bad;
    std::vector<std::pair<double, double>> front;
    std::string labels = "$labels << END\n";
    for (const ScatterPoint& p : points) {
        (p.feasible ? good : bad).emplace_back(p.x, p.y);
        if (p.front) front.emplace_back(p.x, p.y);
        // As a text in double quotes within the data: quotes and backslashes have no place there.
        std::string word = p.label;
        std::replace_if(
            word.begin(), word.end(),
            [](unsigned char c) { return c == '"' || c == '\\' || c < 0x20 || c == 0x7f; }, ' ');
        labels += fmt::format("{:.12g} {:.12g} \"{}\"\n", p.x, p.y, word);
    }
    std::sort(front.begin(), front.end());
    script += labels + "END\n" + block("good", good) + block("bad", bad) + block("front", front);
    std::string plot;
    const auto add = [&](const std::string& one) { plot += (plot.empty() ? "plot " : ", ") + one; };
    if (front.size() > 1)
        add("$front with lines lw 1.8 dt 2 lc rgb '#0a4d8c' title 'none that holds its bounds beats these'");
    if (!good.empty()) add("$good with points pt 7 ps 1.6 lc rgb '#0a4d8c' title 'every bound holds'");
    if (!bad.empty()) add("$bad with points pt 2 ps 1.8 lw 2 lc rgb '#d54500' title 'a bound is broken'");
    add("$labels using 1:2:3 with labels offset 1,0.7 left font ',9' textcolor rgb '#777777' notitle");
    write_chart(file, for_paper(options, script + plot + "\n"));
}

void mark_front(std::vector<ScatterPoint>& points, bool low_x, bool low_y) {
    const auto x = [&](const ScatterPoint& p) { return low_x ? p.x : -p.x; };
    const auto y = [&](const ScatterPoint& p) { return low_y ? p.y : -p.y; };
    for (ScatterPoint& p : points)
        p.front = p.feasible && std::none_of(points.begin(), points.end(), [&](const ScatterPoint& o) {
                      return o.feasible && x(o) <= x(p) && y(o) <= y(p) && (x(o) < x(p) || y(o) < y(p));
                  });
}

} // namespace upright
