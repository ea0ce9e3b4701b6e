// Measures that are linear in the densities.
#pragma once

#include "model/model.hpp"
#include "response/reading.hpp"

#include <vector>

namespace upright {

// Mass and volume measures are linear in the densities: value = sum over elements of weight * density. They
// count the regions that the response names, and the design regions where it names none.
std::vector<double> linear_weights(const Model& model, const ModelResponse& response);

} // namespace upright
