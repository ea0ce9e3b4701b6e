// The table of measures. A new one is a file in response/measures and a line in measures.cpp.
#pragma once

#include "response/measure.hpp"

#include <memory>
#include <vector>

namespace upright {

using MeasureList = std::vector<std::shared_ptr<const MeasureKind>>;

// Those that the program ships, in the order of the reference, and `more` behind them.
MeasureList measure_kinds(const MeasureList& more = {});

// One file each.
MeasureList compliance_measures();
MeasureList material_measures();
MeasureList displacement_measures();
MeasureList strength_measures();
MeasureList frequency_measures();
MeasureList reaction_measures();
MeasureList buckling_measures();
MeasureList bulk_measures();

} // namespace upright
