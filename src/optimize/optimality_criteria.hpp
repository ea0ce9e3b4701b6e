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

// Least compliance under a bound on material, met to 1e-7 of the limit where the material is linear, else to
// 1e-5. `benefit` is -dC/dx, `cost` dV/dx. `multiplier` is where the search begins (the last one found, or
// 1).
CriteriaStep criteria_step(const std::vector<double>& x, const std::vector<double>& benefit,
                           const std::vector<double>& cost, const MaterialBound& bound, double move,
                           double multiplier);

// Least material under a bound on compliance: the same step, its multiplier found so that the compliance,
// expanded in 1/x about its value now (Fleury 1989), meets the limit.
CriteriaStep least_material_step(const std::vector<double>& x, const std::vector<double>& benefit,
                                 const std::vector<double>& cost, double compliance, double limit,
                                 double move, double multiplier);

} // namespace upright
