// The figures of a comparison: side by side, from one camera, with one scale.
#pragma once

#include "cli/commands/commands.hpp"
#include "compare/comparison.hpp"

#include <filesystem>
#include <optional>
#include <string>
#include <vector>

namespace upright::cli {

struct CompareFiguresWish {
    std::string of_case;      // empty: all
    std::optional<double> at; // density above which material is shown; else each run's own
    FigureOptions options;    // of one tile
};

// density.png, displacement-CASE.png and stress-CASE.png (those that at least one has), history.png of runs.
// Returns what was written.
std::vector<std::filesystem::path> draw_comparison(const Comparison& comparison,
                                                   const CompareFiguresWish& wish, const Session& session,
                                                   const std::filesystem::path& folder);

} // namespace upright::cli
