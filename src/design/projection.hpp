// The projection of filtered densities towards black and white.
#pragma once

#include <vector>

namespace upright {

// Smoothed Heaviside (Wang, Lazarov & Sigmund 2011) with its threshold at 0.5. `sharpness` 0 leaves all as it
// is.
double project(double density, double sharpness);
double project_slope(double density, double sharpness);

// The same for many at once.
void project_all(std::vector<double>& densities, double sharpness);
// slopes[i] *= project_slope(densities[i])
void multiply_by_slope(const std::vector<double>& densities, double sharpness, std::vector<double>& values);

} // namespace upright
