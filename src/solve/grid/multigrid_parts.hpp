// What the files of the grid multigrid share: its levels and what is factorised.
#pragma once

#include "solve/grid/multigrid.hpp"

#include <deque>

namespace upright::grid {

inline constexpr double void_scale = 1e-7; // cells of less scale do not count as material

inline SweepFactors factors_of(double c0, double c1) {
    return {static_cast<float>(c0), static_cast<float>(c1)};
}

struct Multigrid::Level {
    std::array<int, 3> cells{};
    std::array<int, 3> nodes{};
    bool ring = false; // along the last axis
    std::size_t stride = 0;
    std::size_t rows = 0; // of nodes
    bool box = false;     // cells without stencils
    // Of box cells: their scales by row and kind, and the inverse of the diagonal beside the vectors.
    Strip<float> cell_scale;              // rows of cells
    std::vector<Strip<float>> more_scale; // more rows, where kinds meet in one row
    std::vector<std::uint32_t> row_starts;
    std::vector<CellRow> cell_rows;
    Strip<float> inverse_diagonal;
    // Cells with matrices of their own, by layers: those that touch held directions below the fine level.
    std::vector<std::int32_t> special_of; // for each cell, -1: none
    std::vector<std::size_t> special_starts;
    std::vector<std::uint32_t> special_cells;
    std::vector<std::size_t> special_places; // of each of their nodes
    std::vector<float> special;
    // Of stencils.
    Strip<char> beside;
    Strip<float> scale, diagonal, inverse;
    double bound = 2.0; // of the spectrum that the smoother sees
    struct Work {
        Strip<float> b, x, r;
    };
    std::vector<Work> work;      // one a right-hand side
    bool fine = false;           // right-hand sides share r
    std::vector<float> matrices; // of every cell, where they are kept while building

    // A plane of nodes by its number, which may be one beyond the ends of a ring; -1: there is none.
    int plane(int k) const {
        if (k >= 0 && k < nodes[2]) return k;
        return ring ? (k + nodes[2]) % nodes[2] : -1;
    }
    Strip<float>& residual(int slot) { return work[fine ? 0 : static_cast<std::size_t>(slot)].r; }
    std::size_t cell_count() const {
        return static_cast<std::size_t>(cells[0]) * static_cast<std::size_t>(cells[1]) *
               static_cast<std::size_t>(cells[2]);
    }
    std::size_t cell(int i, int j, int k) const {
        return (static_cast<std::size_t>(k) * static_cast<std::size_t>(cells[1]) +
                static_cast<std::size_t>(j)) *
                   static_cast<std::size_t>(cells[0]) +
               static_cast<std::size_t>(i);
    }
    // Where a component of a node stands in the level's vectors, and their length without the tail.
    std::size_t place(std::size_t node, std::size_t component, int dimension) const {
        const auto nx = static_cast<std::size_t>(nodes[0]);
        return (node / nx * static_cast<std::size_t>(dimension) + component) * stride + node % nx;
    }
    std::size_t length(int dimension) const { return rows * static_cast<std::size_t>(dimension) * stride; }
    std::size_t node_count() const { return rows * static_cast<std::size_t>(nodes[0]); }
    std::size_t layer_cells() const {
        return static_cast<std::size_t>(cells[0]) * static_cast<std::size_t>(cells[1]);
    }
};

struct Multigrid::Coarsest {
    ElementSystem system;
    std::deque<Eigen::MatrixXd> matrices;
    std::vector<std::int32_t> unknown_of; // by node * dimension + component
    std::vector<double> jacobi;           // 1 / diagonal where too little is there to factorise
    std::vector<std::uint8_t> pattern;    // what the symbolic analysis was made for
    std::unique_ptr<LinearSolver> solver;
    Eigen::MatrixXd loads;
};

// The material of the fine level, factorised with the voids around it taken away; and a multigrid for the
// voids with the material held, so that its coarse levels end at the members.
struct Multigrid::Exact {
    std::vector<std::size_t> places; // of the unknowns in fine vectors
    std::unique_ptr<LinearSolver> solver;
    GridSystem void_system;
    std::unique_ptr<Multigrid> voids;
    double void_stiffness = 1.0; // the unit of the voids' scales
};

} // namespace upright::grid
