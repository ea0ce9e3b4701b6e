// Optimality criteria for one bound (Bendsoe & Sigmund 2003, section 1.2): x <- x (B / lambda)^(1/2) within
// move limits, the multiplier found so that the bound is met.
#pragma once

#include <functional>
#include <vector>

namespace upright {

struct CriteriaStep {
    std::vector<double> x;
    double multiplier = 1.0;
    bool met = true; // whether the bound could be met within the move limits
};

inline constexpr double least_variable = 1e-4;

// Least compliance under a bound on material. `benefit` is -dC/dx, `cost` dV/dx; `material(x)` gives the
// exact value, which must not decrease with x. `multiplier` is where the search begins (the last one found,
// or 1).
CriteriaStep criteria_step(const std::vector<double>& x, const std::vector<double>& benefit,
                           const std::vector<double>& cost,
                           const std::function<double(const std::vector<double>&)>& material, double limit,
                           double move, double multiplier);

// Least material under a bound on compliance: the same step, its multiplier found so that the compliance,
// expanded in 1/x about its value now (Fleury 1989), meets the limit.
CriteriaStep least_material_step(const std::vector<double>& x, const std::vector<double>& benefit,
                                 const std::vector<double>& cost, double compliance, double limit,
                                 double move, double multiplier);

} // namespace upright
