// What makes box cells cheap: sums and differences of their nodes' displacements part their matrices.
#pragma once

#include <Eigen/Core>

namespace upright::grid {

// The matrix of a cell of 8 nodes (x first, then y, z; three components a node) in the basis of the Hadamard
// transform of its nodes: B = H K H' / 64, so that u' K u = (H u)' B (H u). Row p of H takes the difference
// of the nodes along the axes of p's bits (1: x, 2: y, 4: z) and their sum along the others. Where the
// material is symmetric about the planes of the cell, component c at p meets component d at q only where p
// and q without c's and d's own bit are the same: eight blocks of 3 x 3.
inline Eigen::MatrixXd hadamard_of_cell(const Eigen::MatrixXd& K) {
    Eigen::MatrixXd H = Eigen::MatrixXd::Zero(24, 24);
    for (int p = 0; p < 8; ++p)
        for (int a = 0; a < 8; ++a)
            for (int c = 0; c < 3; ++c) {
                double sign = 1.0;
                for (int axis = 0; axis < 3; ++axis)
                    if (((p >> axis) & 1) != 0 && ((a >> axis) & 1) == 0) sign = -sign;
                H(p * 3 + c, a * 3 + c) = sign;
            }
    return H * K * H.transpose() / 64.0;
}

} // namespace upright::grid
