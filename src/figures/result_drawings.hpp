// Figures and animations of results: displacement, stress, modes.
#pragma once

#include "figures/figure.hpp"
#include "model/model.hpp"

#include <filesystem>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace upright {

// One field on the body, deformed or not.
struct ResultFigure {
    std::string title, subtitle;
    std::string quantity, unit;         // of the colour bar
    const ModelCase* of_case = nullptr; // its loads and supports are drawn
    std::vector<SupportId> supports;    // of a modal case
    std::vector<bool> shown;            // elements; empty: all
    std::vector<double> displacement;   // 3 for each node; empty: not deformed
    std::function<double(NodeId, RegionId)> value;
    // Nodes that set the scale and may bear the largest value; empty: all. Values beyond get the last colour.
    std::function<bool(NodeId, RegionId)> counts;
    std::string left_out;                         // in words: what does not count
    std::string peak_words = "largest";           // before the largest value; empty: it is not marked
    std::optional<double> scale_end, deformation; // shared with other figures
    bool whole = true;                            // with the mirror images of a symmetric model
};

// What the stress responses of a study leave out, and more.
std::vector<std::string> excepted_of(const Model& model, const std::vector<std::string>& more = {});
// Leaves regions and surfaces out of the scale of a figure of stress.
void leave_out(ResultFigure& figure, const Model& model, const std::vector<std::string>& excepted);

// What a figure would choose by itself: where colours end, and how many times as large it deforms.
struct ResultScale {
    double end = 0.0, deformation = 0.0;
};
ResultScale result_scale(const Model& model, const ResultFigure& result);

std::unique_ptr<Figure> result_figure(const Model& model, const ResultFigure& result,
                                      const FigureOptions& options);
void draw_result(const Model& model, const ResultFigure& result, const FigureOptions& options,
                 const std::filesystem::path& png);

// The deformation from nothing to full and back (there and back across zero where `swings`). A GIF, or where
// the name ends in .png one picture for each frame: NAME-01.png, NAME-02.png, … Returns what was written.
std::vector<std::filesystem::path> animate_result(const Model& model, const ResultFigure& result,
                                                  const FigureOptions& options, bool swings, int frames,
                                                  const std::filesystem::path& file);

// What is above the threshold (all for 0), deformed to scale (3 numbers for each node), coloured by the size
// of the displacement.
ResultFigure displacement_figure(const Model& model, const ModelCase& c, const std::vector<double>& density,
                                 double threshold, const std::vector<double>& displacement);

// Von Mises stress (one number for each element) on what is above the threshold, averaged at the nodes.
ResultFigure stress_figure(const Model& model, const ModelCase& c, const std::vector<double>& density,
                           double threshold, const std::vector<double>& stress);

} // namespace upright
