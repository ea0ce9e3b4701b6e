// How a bound stands, for people: at the bound, slack or broken, and by how much.
#pragma once

#include "response/reading.hpp"

#include <optional>
#include <string>

namespace upright {

// "at most 144, at least 3 MPa"; empty where there is no bound.
std::string limits_text(const std::optional<double>& min, const std::optional<double>& max,
                        const std::string& unit);

// "at the bound" (within the tolerance by which bounds hold), "slack by 30 %", "broken by 2 %"; `excess` as
// of Reading.
std::string standing_text(double excess);

} // namespace upright
