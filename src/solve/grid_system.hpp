// A system on a lattice of cells, as the grid multigrid takes it: nothing is assembled.
#pragma once

#include "solve/linear_solver.hpp"

#include <Eigen/Core>

#include <array>
#include <cstdint>
#include <vector>

namespace upright {

// K = T' (sum over cells of scale_e * matrix_of_kind(e)) T + the elements of `extra`, on the unknowns of T.
//
// Nodes of the lattice count along x first, then y, then z; (cells + 1) of them along each axis (one along z
// in the plane). Corners of a cell count the same way. A lattice freedom is node * dimension + component.
struct GridSystem {
    int dimension = 3;                    // 2: cells of 4 nodes in the plane; 3: of 8 nodes
    std::array<int, 3> cells{};           // in the plane the last is 1
    std::vector<std::int32_t> element_of; // by cell, x first; -1 where there is none
    std::vector<Eigen::MatrixXd> kinds;   // the matrix of full scale, corner by corner
    std::vector<std::uint16_t> kind_of;   // for each element
    // The last axis closes on itself: as many nodes as cells along it. Solid lattices only.
    bool ring = false;
    // How the matrix of its kind is turned at each element, corner by corner: R M R'. Empty: not at all.
    std::vector<Eigen::Matrix3d> turns;
    std::vector<std::uint16_t> turn_of; // for each element
    std::size_t unknowns = 0;
    // For each lattice freedom: its unknown, or `held` (unused nodes as well), or `dependent`.
    static constexpr std::int32_t held = -1;
    static constexpr std::int32_t dependent = -2;
    std::vector<std::int32_t> unknown_of;
    // Dependent freedoms as combinations of unknowns, in ascending order of the freedom.
    struct Share {
        std::int32_t unknown = 0;
        double factor = 0.0;
    };
    std::vector<std::size_t> dependents;
    std::vector<std::size_t> starts{0}; // beside `dependents`: where the shares begin, and the end
    std::vector<Share> shares;
    ElementSystem extra; // joints and the like, of scale one
    // For each unknown beyond the lattice (reference points of couplings), ascending.
    std::vector<std::int32_t> beyond;

    std::size_t elements() const { return kind_of.size(); }
    int nodes(int axis) const {
        if (axis == 2 && dimension == 2) return 1;
        return cells[static_cast<std::size_t>(axis)] + (axis == 2 && ring ? 0 : 1);
    }
    std::size_t lattice_nodes() const {
        return static_cast<std::size_t>(nodes(0)) * static_cast<std::size_t>(nodes(1)) *
               static_cast<std::size_t>(nodes(2));
    }
};

} // namespace upright
