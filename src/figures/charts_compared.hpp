// Charts of several runs: histories laid over each other, one measure against another.
#pragma once

#include "figures/figure.hpp"

#include <filesystem>
#include <optional>
#include <string>
#include <utility>
#include <vector>

namespace upright {

struct HistoryPanel {
    std::string name;                                          // and unit
    std::vector<std::vector<std::pair<double, double>>> lines; // of each run; empty: it has none
    std::optional<double> min, max;                            // drawn where all runs share them
};
// One panel below the other, a colour and a dash for each run. Throws Error (Files) when gnuplot fails.
void draw_histories(const std::vector<std::string>& labels, const std::vector<HistoryPanel>& panels,
                    const FigureOptions& options, const std::filesystem::path& png);

struct ScatterPoint {
    std::string label;
    double x = 0.0, y = 0.0;
    bool feasible = true;
    bool front = false; // no other feasible one is better in both
};
// Feasible points are filled, infeasible ones are crosses, the front is joined by a line. PNG, or SVG by the
// ending of the file.
void draw_scatter(const std::string& title, const std::string& along, const std::string& up,
                  const std::vector<ScatterPoint>& points, const FigureOptions& options,
                  const std::filesystem::path& file);

// Marks those that no other feasible one beats: better in one and no worse in the other. `low_x`: small is
// good.
void mark_front(std::vector<ScatterPoint>& points, bool low_x, bool low_y);

} // namespace upright
