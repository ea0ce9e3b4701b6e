// Optimality criteria for one bound (Bendsoe & Sigmund 2003, section 1.2): x <- x (B / lambda)^(1/2) within
// move limits, the multiplier found so that the bound is met.
#pragma once

#include <vector>

namespace upright {

struct CriteriaStep {
    std::vector<double> x;
    double multiplier = 1.0;
    bool met = true; // whether the bound could be met within the move limits
};

inline constexpr double least_variable = 1e-4;

// Where a step begins. What it refers to must live until the step is made.
struct CriteriaPoint {
    const std::vector<double>& x;
    const std::vector<double>& benefit; // -dC/dx
    const std::vector<double>& cost;    // dV/dx
    double move = 0.2;                  // the most that a variable may change
    double multiplier = 1.0;            // where the search begins: the last one found, or 1
};

// Least compliance under a bound on material, met to 1e-7 of the limit: `constant` + sum of cost_i x_i.
CriteriaStep criteria_step(const CriteriaPoint& at, double limit, double constant);

// Least material under a bound on compliance: the same step, its multiplier found so that the compliance,
// expanded in 1/x about its value now (Fleury 1989), meets the limit.
CriteriaStep least_material_step(const CriteriaPoint& at, double compliance, double limit);

} // namespace upright
