// How good a design can be at most: the convex relaxation of stiffness problems.
//
// With penalty 1 (the "variable thickness" problem) compliance is a convex function of the densities, and no
// greater than with any higher penalty. So for any densities t and all designs d that meet the bounds
//   C(d) >= C(t) + min over s of C'(t) (s - t),   0 <= s <= 1, material within its bound,
// a knapsack problem that is solved exactly (Boyd & Vandenberghe 2004, section 5; Petersson 1999 for the
// sheet). That is a lower bound whether or not t is the optimum; how far apart the two sides are is the gap.
#pragma once

#include "base/observer.hpp"
#include "optimize/problem.hpp"

#include <string>
#include <vector>

namespace upright {

struct Certificate {
    std::string not_served; // why there is none; empty: there is one
    double bound = 0.0;     // no design on this mesh has a lower goal
    double relaxed = 0.0;   // goal of the relaxed problem where it ended
    double gap = 0.0;       // relaxed / bound - 1
    double distance = 0.0;  // goal of the design / bound - 1
    int iterations = 0;
};

// For the goal compliance (weighted, or of the worst case) under a max on material, and for least material
// under a max on compliance. Other bounds of the study are left out, which can only lower the bound.
// `goal` is that of the design. Throws Error (Numerics) when an analysis fails.
Certificate certify(StaticAnalysis& analysis, double goal, Observer& observer);

// A number below which no design brings a compliance under a max on material, from a few steps of the same
// relaxed problem; zero where there is none (loads or supports that depend on the design).
double least_compliance(StaticAnalysis& analysis, const ModelResponse& compliance,
                        const ModelResponse& material, Observer& observer);

} // namespace upright
