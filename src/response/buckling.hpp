// Which cases buckling is looked for in.
#pragma once

#include "model/model.hpp"

#include <vector>

namespace upright {

// The factors that a response of buckling asks for.
int buckling_factors(const ResponseCard& r);

// How many factors the responses want of each static case; 0: none.
std::vector<int> buckling_wanted(const Model& model);

} // namespace upright
