// What became of the bounds of a study on the carved part, for people.
#pragma once

#include "response/reading.hpp"

#include <optional>
#include <string>
#include <vector>

namespace upright {

// One number of the space of full material, of the design in the run's own model, and of the part.
struct VerifyRow {
    std::string name;    // "stiffness", "stiffness @ lift"
    std::string measure; // "compliance"
    std::string unit;
    std::optional<double> whole, design, part;
    std::optional<double> min, max;
    bool holds = true;
    double excess = -1.0;               // as of Reading
    double tolerance = bound_tolerance; // by which it holds
    std::string where;
    bool bounded() const { return min || max; }
};

std::string verify_table(const std::vector<VerifyRow>& rows, bool black_and_white);

} // namespace upright
