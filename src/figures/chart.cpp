#include "figures/chart.hpp"

#include "base/files.hpp"
#include "figures/gnuplot.hpp"
#include "optimize/problem.hpp"
#include "optimize/run/stages.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <utility>

namespace upright {

namespace {

std::string unit_of(const Model& model, const ModelResponse& r) {
    const std::string unit = model.units.text(r.measure->dimension);
    return unit.empty() ? "" : ", " + unit;
}

template <class Value>
void define(std::string& script, const std::string& name, const std::vector<IterationRow>& rows,
            const Value& value) {
    script += "$" + name + " << END\n";
    for (const IterationRow& row : rows) script += fmt::format("{} {:.12g}\n", row.iteration, value(row));
    script += "END\n";
}

// A round step that cuts a range into about four.
double round_step(double range) {
    const double raw = range / 4.0;
    const double decade = std::pow(10.0, std::floor(std::log10(raw)));
    for (const double step : {1.0, 2.0, 2.5, 5.0})
        if (step * decade >= raw) return step * decade;
    return 10.0 * decade;
}

// The axis of some columns. What hardly changes is drawn as such, not blown up until its rounding shows; what
// falls by orders of magnitude gets a logarithmic axis.
std::string value_range(const std::vector<IterationRow>& rows, const std::vector<std::size_t>& columns,
                        const std::vector<double>& bounds) {
    double low = rows.front().responses.at(columns.front());
    double high = low;
    const auto take = [&](double value) {
        low = std::min(low, value);
        high = std::max(high, value);
    };
    for (const IterationRow& row : rows)
        for (const std::size_t c : columns) take(row.responses.at(c));
    for (const double b : bounds) take(b);
    if (low > 0.0 && high > 30.0 * low)
        return fmt::format("set logscale y\nset yrange [{:.9g}:{:.9g}]\nset ytics autofreq\n", low / 1.3,
                           high * 1.3);
    const double least = 0.2 * std::max({std::abs(high), std::abs(low), 1e-300});
    const double room = std::max(0.08 * (high - low), 0.5 * (least - (high - low)));
    low -= room;
    high += room;
    return fmt::format("unset logscale y\nset yrange [{:.9g}:{:.9g}]\nset ytics {:.9g}\n", low, high,
                       round_step(high - low));
}

std::string problem_word(const Model& model) {
    return model.goal->maximize ? " (goal: raise)" : " (goal)";
}

} // namespace

void draw_history(const Model& model, const std::vector<IterationRow>& rows, const FigureOptions& options,
                  const std::filesystem::path& png, int result) {
    if (rows.empty())
        throw Error::input({png.string()}, "the run has no history yet", "Let it go on: optimize --resume");
    const std::string named = result > 0 && result != rows.back().iteration
                                  ? fmt::format("; the result is iteration {}", result)
                                  : std::string();
    // One panel a response, the goal first, a line for each case.
    const std::vector<Column> all = columns(model);
    struct Panel {
        std::size_t response = 0;
        std::vector<std::size_t> columns;
    };
    std::vector<Panel> panels;
    for (std::size_t c = 0; c < all.size(); ++c) {
        if (panels.empty() || panels.back().response != all[c].response)
            panels.push_back({all[c].response, {}});
        panels.back().columns.push_back(c);
    }
    const auto is_goal = [&](const Panel& p) { return model.responses[p.response].goal; };
    std::stable_partition(panels.begin(), panels.end(), is_goal);
    const std::size_t count = panels.size() + 1;
    const std::size_t wide = count > 10 ? 3 : count > 4 ? 2 : 1;
    const std::size_t high = (count + wide - 1) / wide;
    const double left = wide == 1 ? 0.11 : wide == 2 ? 0.09 : 0.07;
    make_folder(png.has_parent_path() ? png.parent_path() : std::filesystem::path("."));
    write_then_rename(png, [&](const std::filesystem::path& temporary) {
        std::string script = chart_head(options, png, high > 4 || wide > 1 ? 10 : 11);
        script += sheet_title(options, model.title + ": history" + named);
        script += fmt::format("set multiplot layout {},{} margins {},0.97,0.08,0.91 "
                              "spacing {},{}\n",
                              high, wide, left, wide == 1 ? 0.0 : left + 0.015, high > 3 ? 0.055 : 0.07);
        script += "set key at graph 1,1.02 right bottom horizontal Left reverse samplen 2\n";
        script +=
            fmt::format("set xrange [1:{}]\nset format y '%.4g'\nset offsets 0,0,graph 0.08,graph 0.08\n",
                        std::max(2, rows.back().iteration));
        // Colours and dashes that can be told apart without colour.
        static const std::array<const char*, 6> colors{"#00785a", "#993880", "#b8860b",
                                                       "#808080", "#3fa7d6", "#8a5a00"};
        if (!named.empty())
            script += fmt::format(
                "set arrow 1 from {0}, graph 0 to {0}, graph 1 nohead dt 3 lc rgb '#777777'\n", result);
        for (std::size_t k = 0; k < panels.size(); ++k) {
            const Panel& panel = panels[k];
            const ModelResponse& card = model.responses[panel.response];
            const bool goal = is_goal(panel);
            std::vector<double> bounds;
            const std::optional<double> most = upper_bound(model, card);
            if (most) bounds.push_back(*most);
            if (card.min) bounds.push_back(*card.min);
            script += "set ylabel " + gnuplot_text(card.name + unit_of(model, card)) + "\n" +
                      value_range(rows, panel.columns, bounds);
            if (k + wide >= count) script += "set xlabel 'iteration'\n";
            std::string plot;
            for (std::size_t i = 0; i < panel.columns.size(); ++i) {
                const std::size_t c = panel.columns[i];
                define(script, fmt::format("r{}", c), rows,
                       [&](const IterationRow& row) { return row.responses.at(c); });
                std::string name = all[c].name;
                if (panel.columns.size() > 1) name = name.substr(name.find('@') + 1);
                if (goal && i == 0) name += problem_word(model);
                const std::string color = goal && i == 0 ? "#0a4d8c" : colors.at(i % colors.size());
                const std::string before = plot.empty() ? "plot " : ", ";
                plot += fmt::format("{}$r{} with lines lw 2.2 dt {} lc rgb '{}' title {}", before, c,
                                    i < 6 ? 1 : 3, color, gnuplot_text(std::as_const(name)));
            }
            for (const double b : bounds)
                plot += fmt::format(
                    ", {:.12g} with lines lw 1.6 dt 2 lc rgb '#d54500' title {}", b,
                    gnuplot_text(fmt::format("{} {:.4g}", most && b == *most ? "max" : "min", b)));
            script += plot + "\n" + after_sheet_title;
        }
        define(script, "change", rows, [](const IterationRow& row) { return std::max(row.change, 1e-6); });
        define(script, "gray", rows, [](const IterationRow& row) { return std::max(row.grayness, 1e-6); });
        script += "set xlabel 'iteration'\nset autoscale y\nset ytics autofreq\nset logscale y\nset ylabel "
                  "'change, grayness'\nset "
                  "xlabel 'iteration'\n";
        script += fmt::format(
            "plot $change with lines lw 1.8 lc rgb '#993880' title 'density change', $gray with lines lw 1.8 "
            "lc rgb '#888888' "
            "title 'grayness', {:.6g} with lines lw 1.2 dt 2 lc rgb '#993880' title 'stop below'",
            model.run.stop_when);
        if (const std::optional<double> gray = gray_enough(model.run, make_problem(model)))
            script += fmt::format(
                ", {:.6g} with lines lw 1.2 dt 2 lc rgb '#888888' title 'or as gray, bounds held'", *gray);
        script += "\n";
        run_gnuplot(for_paper(options, script + "unset multiplot\n"), png, temporary);
    });
}

void draw_convergence(const std::string& title, const std::string& along, const std::string& up,
                      const std::vector<ChartLine>& lines, const FigureOptions& options,
                      const std::filesystem::path& png) {
    // Colours and marks that can be told apart without colour.
    static const std::array<const char*, 6> colors{"#0a4d8c", "#d54500", "#00785a",
                                                   "#993880", "#b8860b", "#808080"};
    make_folder(png.has_parent_path() ? png.parent_path() : std::filesystem::path("."));
    write_then_rename(png, [&](const std::filesystem::path& temporary) {
        std::string script =
            chart_head(options, png, 12) +
            fmt::format("set title {} font ',15'\nset xlabel {}\nset ylabel {}\nset logscale xy\n"
                        "set format y '%.0e'\nset key outside right top Left reverse\nset offsets "
                        "graph 0.05,graph 0.05,0,0\n",
                        gnuplot_text(title), gnuplot_text(along), gnuplot_text(up));
        std::string plot;
        for (std::size_t i = 0; i < lines.size(); ++i) {
            script += fmt::format("$l{} << END\n", i);
            for (const auto& [x, y] : lines[i].points) script += fmt::format("{:.12g} {:.12g}\n", x, y);
            script += "END\n";
            const std::string name =
                lines[i].slope > 0.0 ? fmt::format("{} (theory: slope {:g})", lines[i].name, lines[i].slope)
                                     : lines[i].name;
            plot +=
                fmt::format("{}$l{} with linespoints lw 2 pt {} ps 1.3 lc rgb '{}' title {}",
                            i == 0 ? "plot " : ", ", i, 4 + i, colors[i % colors.size()], gnuplot_text(name));
        }
        run_gnuplot(for_paper(options, script + plot + "\n"), png, temporary);
    });
}

} // namespace upright
