// A grid model under its constraints, as the grid multigrid takes it.
#pragma once

#include "fem/class_matrices.hpp"
#include "fem/shape_classes.hpp"
#include "solve/grid_system.hpp"

#include <Eigen/Core>

#include <string>
#include <vector>

namespace upright {

// Why a model is not one for the grid multigrid; empty when it is.
std::string unfit_for_grid(const Model& model, const ShapeClasses& classes);

// The lattice, its constraints, and `matrices` (node by node, in the order of the mesh's nodes).
// `extra` is left for the caller.
GridSystem make_grid_system(const Model& model, const Transform& transform, const ShapeClasses& classes,
                            const ClassMatrices& matrices);

} // namespace upright
