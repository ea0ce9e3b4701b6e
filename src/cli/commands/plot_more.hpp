// What plot shows of more than one design, and of less than a whole body.
#pragma once

#include "cli/commands/commands.hpp"
#include "figures/result_drawings.hpp"

#include <filesystem>
#include <memory>
#include <string>
#include <vector>

namespace upright::cli {

// A plane across an axis, and the side that stays.
struct CutPlane {
    int axis = 0;
    double at = 0.0;
    bool keeps_below = true;
    std::string words; // "x = 100 mm"
};
// "x = 100" (what lies towards the reader goes), "x < 100", "x > 100 mm". Throws Error (Usage).
CutPlane read_cut(const std::string& words, const Model& model, const FigureOptions& options);
// Leaves cells beyond the plane out, by their middles; of a symmetric model the modelled part alone is shown.
// Throws Error (Usage) where nothing stays.
void apply_cut(const CutPlane& cut, const Model& model, ResultFigure& figure);

// The kept designs side by side (up to nine of them), or one after the other as a GIF.
void plot_iterations(bool sheet, const RunFolder& folder, const Model& model, double at,
                     const FigureOptions& options, const std::filesystem::path& file);

// --mass: the threshold at which the part has that mass. Throws Error (Usage).
double threshold_of_mass(const std::string& mass, const Model& model, const DesignValues& design);

// Of every node the mean of those cells about it that are shown.
std::shared_ptr<std::vector<double>> cell_means(const Model& model, const std::vector<double>& of_cells,
                                                const std::vector<bool>& shown);

} // namespace upright::cli
