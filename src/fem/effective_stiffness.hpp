// What a cell that repeats in space is like from afar: elastic stiffness by periodic homogenisation.
#pragma once

#include "fem/elasticity.hpp"

#include <vector>

namespace upright {

// The effective elastic matrix (Voigt: xx, yy, zz, xy, yz, zx, shear strains twice the tensor's) of a cubic
// period of n x n x n equal cells (n at least 3), of an isotropic material of which each cell has a share
// between 0 and 1, x first. Mean strains are imposed, displacements differ from them by what repeats (Guedes
// & Kikuchi 1990); hex8 with incompatible modes, stiffness by share. Throws Error (Numerics) where material
// hangs together with nothing: cells that touch others in an edge or a point alone.
Elastic6 effective_stiffness(int n, const std::vector<double>& share, double E, double nu);

// As an orthotropic solid has them, along the axes.
struct EffectiveConstants {
    Vec3 E, nu, G; // nu and G: xy, yz, zx
};
EffectiveConstants constants_of(const Elastic6& stiffness);

} // namespace upright
