// Charts, drawn by gnuplot through a pipe.
#pragma once

#include "optimize/run.hpp"
#include "output/figure.hpp"

#include <filesystem>

namespace upright {

// The history of a run: the goal, every bound, change and grayness. Throws Error (Files) when gnuplot fails.
void draw_history(const Study& study, const std::vector<IterationRow>& rows, const FigureOptions& options,
                  const std::filesystem::path& png);

} // namespace upright
