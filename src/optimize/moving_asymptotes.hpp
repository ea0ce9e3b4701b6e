// The method of moving asymptotes (Svanberg 1987) and its globally convergent form (Svanberg 2002):
//   minimise f0(x) + a0 z + sum(c y + d y^2 / 2)   subject to   f_i(x) - a_i z - y_i <= 0,
//   low <= x <= high, y >= 0, z >= 0.
// Each step solves a separable convex approximation by a primal-dual interior point method (Svanberg 2007);
// of large problems without z by its dual (Svanberg 1987, section 5), which has a variable for each
// constraint alone.
#pragma once

#include <algorithm>
#include <cstddef>
#include <cstdint>
#include <vector>

namespace upright {

// Functions at a point. Their scale matters: f0 near 1 to 100, constraints near 1.
struct MmaValues {
    double goal = 0.0;
    std::vector<double> constraint;            // m
    std::vector<double> goal_gradient;         // n
    std::vector<std::vector<double>> gradient; // m rows of n
};

struct MmaSettings {
    std::vector<double> a;  // m: share of z in each constraint; empty: none
    double c = 1000.0;      // price of breaking a constraint: ten times the largest multiplier expected
    double d = 1.0;         // and of its square
    double first = 0.5;     // distance of the first asymptotes, as a share of the range
    double widen = 1.2;     // where a variable keeps its direction
    double narrow = 0.7;    // where it turns
    double nearest = 0.01;  // asymptotes stay that far off, as a share of the range
    double farthest = 10.0; // and no farther
    // With as many variables steps are found by the dual function, which takes a tenth of the time; designs
    // with fewer go the way that the tables of docs/performance.md were made with.
    std::int64_t dual_from = 20000;
    double conserve = 0.1; // no step comes nearer to an asymptote than that share
};

// What goes on from step to step.
struct MmaState {
    int steps = 0;
    std::vector<double> low, high;       // asymptotes
    std::vector<double> before, before2; // the last two points
    std::vector<double> extra;           // curvature added to goal and constraints: globally convergent form
    // Of the constraints of the last step: what the dual function is first looked at with.
    std::vector<double> multiplier;
};

struct MmaStep {
    std::vector<double> x;
    double z = 0.0;
    std::vector<double> y;          // what is left broken of each constraint
    std::vector<double> multiplier; // of the constraints
    // The approximations at the new point: goal first, then constraints.
    std::vector<double> expected;
    double distance = 0.0; // how far the step goes, as the added curvature counts it
    int newton_steps = 0;  // or looks at the dual function
};

// Where a step begins, and how far it may go: within `low` and `high` (empty: 0 and 1) and at most `move` of
// that range in any variable. What it refers to must live until the step is made.
struct MmaPoint {
    const std::vector<double>& x;
    const std::vector<double>& low;
    const std::vector<double>& high;
    double move = 0.2;
    const MmaValues& values;

    double least(std::size_t j) const { return low.empty() ? 0.0 : low[j]; }
    double most(std::size_t j) const { return high.empty() ? 1.0 : high[j]; }
    double range(std::size_t j) const { return std::max(most(j) - least(j), 1e-12); }
};

// One step. Updates the asymptotes.
MmaStep mma_step(const MmaPoint& at, const MmaSettings& settings, MmaState& state);

// Another step from the same point after the functions came out above their approximations at `step`: their
// curvature grows (Svanberg 2002, section 4). False where no function did, beyond a share `tolerance`.
bool mma_raise(const MmaStep& step, const std::vector<double>& found, double tolerance, MmaState& state);
// The same step once more, asymptotes as they are.
MmaStep mma_again(const MmaPoint& at, const MmaSettings& settings, const MmaState& state);
// Curvature to begin a step with: small, a share of the gradients.
void mma_start_conservative(const MmaValues& values, MmaState& state);

} // namespace upright
