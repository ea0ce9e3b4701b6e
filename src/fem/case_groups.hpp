// Static cases that share supports: one system, one solver.
#pragma once

#include "model/model.hpp"

#include <vector>

namespace upright {

// Indices of the cases of each group, groups in the order of their first cases.
std::vector<std::vector<CaseId>> cases_by_supports(const Model& model);

} // namespace upright
