// The projection of filtered densities towards black and white.
#pragma once

#include <vector>

namespace upright {

// Smoothed Heaviside (Wang, Lazarov & Sigmund 2011) with its threshold at 0.5, or another. `sharpness` 0
// leaves all as it is.
double project(double density, double sharpness, double threshold = 0.5);
double project_slope(double density, double sharpness, double threshold = 0.5);

// The same for many at once.
void project_all(const std::vector<double>& filtered, double sharpness, std::vector<double>& out,
                 double threshold = 0.5);
// The sum of weights[i] * project(filtered[i]).
double projected_sum(const std::vector<double>& filtered, double sharpness,
                     const std::vector<double>& weights);
// out[i] = values[i] * project_slope(filtered[i]); `out` may be `values` itself.
void multiply_by_slope(const std::vector<double>& filtered, double sharpness,
                       const std::vector<double>& values, std::vector<double>& out, double threshold = 0.5);

} // namespace upright
