// What a run will take, before it begins.
#pragma once

#include "fem/constrained_solver.hpp"

#include <optional>
#include <string>
#include <vector>

namespace upright {

struct RunEstimate {
    double seconds = 0.0; // with as many iterations as are allowed, on this machine's cores
    double bytes = 0.0;   // of the whole process
};
// Throws Error (Input) for supports that contradict each other.
RunEstimate estimate_run(const Model& model);
// The same where its cases are planned already.
RunEstimate estimate_run(const Model& model, const std::vector<CasePlan>& plans);

// Carving and verifying a part of a solid model: it and the space of full material as tetrahedra of second
// order, by a factorisation. Nothing for other models, and where it is beyond what was measured.
std::optional<RunEstimate> estimate_verify(const Model& model);

std::string duration_text(double seconds); // "8 s", "25 min", "3.1 h"

} // namespace upright
