// Optimality criteria for one bound (Bendsoe & Sigmund 2003, section 1.2): x <- x (B / lambda)^(1/2) within
// move limits, the multiplier found so that the bound is met.
#pragma once

#include <functional>
#include <vector>

namespace upright {

// What linear material missed of the exact one at the last step, and how exact material grew with linear one:
// the next step is likely to be alike.
struct LinearCorrection {
    double missed = 0.0;
    double slope = 1.0;
};

struct CriteriaStep {
    std::vector<double> x;
    double multiplier = 1.0;
    LinearCorrection correction; // for the next step
    bool met = true;             // whether the bound could be met within the move limits
};

inline constexpr double least_variable = 1e-4;

// A bound on material. With cost dV/dx the material is `constant` + sum of cost_i x_i: exactly, or near the
// design in hand where `exact` gives the true value (which must not decrease with x).
struct MaterialBound {
    double limit = 0.0;
    double constant = 0.0;
    std::function<double(const std::vector<double>&)> exact; // may be empty
    LinearCorrection correction;
};

// Where a step begins. What it refers to must live until the step is made.
struct CriteriaPoint {
    const std::vector<double>& x;
    const std::vector<double>& benefit; // -dC/dx
    const std::vector<double>& cost;    // dV/dx
    double move = 0.2;                  // the most that a variable may change
    double multiplier = 1.0;            // where the search begins: the last one found, or 1
};

// Least compliance under a bound on material, met to 1e-7 of the limit where the material is linear, else to
// 1e-5.
CriteriaStep criteria_step(const CriteriaPoint& at, const MaterialBound& bound);

// Least material under a bound on compliance: the same step, its multiplier found so that the compliance,
// expanded in 1/x about its value now (Fleury 1989), meets the limit.
CriteriaStep least_material_step(const CriteriaPoint& at, double compliance, double limit);

} // namespace upright
