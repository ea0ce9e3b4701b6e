// A comparison for people.
#pragma once

#include "compare/comparison.hpp"

#include <string>

namespace upright {

// What differs in the studies, then a table: a row for each number, a column for each subject; "!" marks a
// broken bound. Of two subjects the change from the first to the second as well.
std::string comparison_text(const Comparison& comparison);

} // namespace upright
