// Charts, drawn by gnuplot through a pipe.
#pragma once

#include "figures/figure.hpp"
#include "optimize/run.hpp"

#include <filesystem>
#include <string>
#include <utility>
#include <vector>

namespace upright {

// The history of a run: the goal, every bound, change and grayness; the iteration of the result is marked
// where it is not the last. Throws Error (Files) when gnuplot fails.
void draw_history(const Model& model, const std::vector<IterationRow>& rows, const FigureOptions& options,
                  const std::filesystem::path& png, int result = 0);

// Lines over a logarithmic pair of axes: how errors fall with the size of elements.
struct ChartLine {
    std::string name;
    std::vector<std::pair<double, double>> points;
    double slope = 0.0; // the theoretical one, for the legend
};
void draw_convergence(const std::string& title, const std::string& along, const std::string& up,
                      const std::vector<ChartLine>& lines, const FigureOptions& options,
                      const std::filesystem::path& png);

} // namespace upright
