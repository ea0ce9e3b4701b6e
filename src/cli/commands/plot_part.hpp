// Figures of what is measured on the part that a run would be carved to.
#pragma once

#include "cli/commands/commands.hpp"

namespace upright::cli {

struct PartPlot {
    std::string what;  // "thickness", "overhang", "draft"
    std::string along; // "0,0,1": up, or the way of the die; empty: as [form] has it
    double at = 0.5;
    std::string state; // for the subtitle
};

// Throws Error (Usage) for models that are no solids and where nobody says which way.
void plot_part(const PartPlot& wish, const Model& model, const DesignValues& design,
               const FigureOptions& options, const std::filesystem::path& png);

} // namespace upright::cli
