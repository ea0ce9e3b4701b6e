// Reading a unit: UDUNITS behind a guard that refuses what it would take for something else.
#pragma once

#include "base/error.hpp"
#include "quantity/dimension.hpp"

#include <string>

namespace upright {

// What one unit is worth: its size in SI (m, N, s, K, rad) and its dimension.
struct Unit {
    double si = 1.0;
    Dimension dimension;
};

// Reads a unit such as "kN", "g/cm3", "N/mm^2", "lbf", "1/K". Throws Error (Input) at `place` for an unknown
// unit, an ambiguous one (oz, C, T, ", …) or one with an offset (degC).
Unit parse_unit(const std::string& text, const Place& place);

// The units system of `units = ["mm", "N", "s"]`; throws Error (Input) when a name is no length, force or
// time.
UnitSystem make_unit_system(const std::string& length, const std::string& force, const std::string& time,
                            const Place& place);

} // namespace upright
