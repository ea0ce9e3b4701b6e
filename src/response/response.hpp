// Measures that are linear in the densities, and what it means that a bound holds.
#pragma once

#include "model/model.hpp"
#include "study/study.hpp"

#include <vector>

namespace upright {

// Mass and volume measures are linear in the densities: value = sum over elements of weight * density. They
// count the regions that the response names, and the design regions where it names none.
std::vector<double> linear_weights(const Model& model, const ResponseCard& response);

// The upper bound of a response in the unit of its values; of a share of strength that of the weakest
// material among its regions.
std::optional<double> upper_bound(const Study& study, const ResponseCard& response);

// Bounds hold with a relative tolerance, for rounding and for the last step of the optimiser.
inline constexpr double bound_tolerance = 1e-3;

} // namespace upright
