// The block of the solver benchmarks: 2n x n x n unit cells, clamped at x = 0, a line load along y on the
// upper edge at the far end; three kinds of densities.
#pragma once

#include "solve/grid_system.hpp"

#include <string>
#include <vector>

namespace upright::bench {

struct Block {
    GridSystem system;
    ElementSystem elements; // the same for solvers that take elements; matrices in `system.kinds`
    Eigen::VectorXd load;   // on the unknowns
    std::vector<double> density;
    std::vector<Eigen::Vector3d> places; // of the nodes that move; three unknowns each
};

// `kind`: "uniform", "random" (densities cubed at random), "struts" (thin binary ones, radius 1.5 cells) or
// "gray" (struts of radius 2.5 with a rim).
Block make_block(int n, const std::string& kind, bool with_elements);

// The six rigid-body motions on the unknowns.
Eigen::MatrixXd rigid_motions(const Block& block);

// rho^p with void at 1e-9.
std::vector<double> scales(const std::vector<double>& density, double penalty);

} // namespace upright::bench
