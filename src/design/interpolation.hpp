// From density to stiffness: modified SIMP (Sigmund 2007), E = Emin + rho^p (E0 - Emin).
#pragma once

#include <vector>

namespace upright {

inline constexpr double least_stiffness = 1e-9; // Emin / E0

// The share of the full stiffness of each element.
std::vector<double> stiffness_share(const std::vector<double>& density, double penalty);

// The same and its derivative by the density, in one pass into memory that is there already.
void interpolate_stiffness(const std::vector<double>& density, double penalty, std::vector<double>& share,
                           std::vector<double>& slope);

// The share of the full mass in modes: the density itself, and much less below 0.1, where soft cells would
// ring by themselves (Du & Olhoff 2007).
std::vector<double> modal_mass_share(const std::vector<double>& density);
std::vector<double> modal_mass_slope(const std::vector<double>& density);

// The share of the full stress in geometric stiffness: rho^(p-1) times that mass, so that soft cells, whose
// stiffness has a floor, do not buckle by themselves (Neves, Rodrigues & Guedes 1995; Gao & Ma 2015).
void interpolate_buckling_stress(const std::vector<double>& density, double penalty,
                                 std::vector<double>& share, std::vector<double>& slope);

// Grayness 4 mean(rho (1 - rho)) over the elements that `counted` marks: 0 black and white, 1 all at one
// half.
double grayness(const std::vector<double>& density, const std::vector<bool>& counted);

} // namespace upright
