// The figures of an analysis: deformed shape, stress, modes.
#pragma once

#include "figures/result_drawings.hpp"
#include "store/analysis_folder.hpp"

namespace upright {

ResultFigure deformed_figure(const Model& model, const ModelCase& c, const std::vector<double>& displacement);
// Von Mises stress, one number for each region node of the mesh.
ResultFigure nodal_stress_figure(const Model& model, const ModelCase& c, const RegionNodes& nodes,
                                 const std::vector<double>& von_mises,
                                 const std::vector<std::string>& excepted = {});
// A mode (from 1), its largest displacement set to one.
ResultFigure mode_figure(const Model& model, const ModelModalCase& c, int mode, double frequency,
                         const std::vector<double>& shape, const std::vector<bool>& shown = {});

// A shape of buckling (from 1), the same.
ResultFigure buckling_figure(const Model& model, const ModelCase& c, int mode, double factor,
                             const std::vector<double>& shape, const std::vector<bool>& shown = {});

// Deformed shape, stress and the first shape of buckling of every static case, and the first four modes of
// every modal one, into the folder. Returns what was drawn.
std::vector<std::filesystem::path> draw_analysis(const Model& model, const AnalysisReport& report,
                                                 const AnalysisFolder& folder, const FigureOptions& options);

} // namespace upright
