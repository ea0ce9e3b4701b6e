// Whether the bounds of a run can be met at all, as far as that can be seen before it.
#pragma once

#include "optimize/run/stepper.hpp"

namespace upright {

// Analyses the full solid where that tells: throws Error (Input) for a bound that no design meets and notes
// others that the solid breaks. Throws too where the convex relaxation shows that a bound on compliance and
// one on material contradict each other.
void look_ahead(const StepTools& tools);

} // namespace upright
