// Where forces run: the main direction of stress in every element.
#pragma once

#include "figures/figure.hpp"
#include "model/model.hpp"

#include <filesystem>
#include <string>
#include <vector>

namespace upright {

// A line in the middle of each element that is shown, along its principal stress of the largest size and as
// long as that is large beside the largest of all; tension and compression in two colours. `displacement`: 3
// for each node. Of solids and plane models; throws Error (Usage) for shells.
void draw_directions(const Model& model, const ModelCase& c, const std::vector<bool>& shown,
                     const std::vector<double>& displacement, const std::string& state,
                     const FigureOptions& options, const std::filesystem::path& png);

} // namespace upright
