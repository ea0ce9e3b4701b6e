// The lattice of box cells that a grid model is painted on.
#pragma once

#include "geometry/distance.hpp"
#include "geometry/space.hpp"

#include <array>

namespace upright {

// Cells count along x first, then y, then z. A plane model has one layer whose height is the thickness.
struct CellGrid {
    Vec3 origin = Vec3::Zero();
    Vec3 cell = Vec3::Ones(); // edge lengths
    std::array<int, 3> count{0, 0, 0};
    bool plane = false;
    // Which side of each axis lies on a symmetry plane: [axis][0] low, [axis][1] high.
    std::array<std::array<bool, 2>, 3> symmetric{};

    std::size_t size() const {
        return static_cast<std::size_t>(count[0]) * static_cast<std::size_t>(count[1]) *
               static_cast<std::size_t>(count[2]);
    }
    int axes() const { return plane ? 2 : 3; }
    std::size_t at(int i, int j, int k) const {
        return (static_cast<std::size_t>(k) * static_cast<std::size_t>(count[1]) +
                static_cast<std::size_t>(j)) *
                   static_cast<std::size_t>(count[0]) +
               static_cast<std::size_t>(i);
    }
    std::array<int, 3> indices(std::size_t c) const {
        const auto nx = static_cast<std::size_t>(count[0]);
        const auto ny = static_cast<std::size_t>(count[1]);
        return {static_cast<int>(c % nx), static_cast<int>(c / nx % ny), static_cast<int>(c / nx / ny)};
    }
    // The middle of a cell; z is zero in a plane model.
    Vec3 center(const std::array<int, 3>& ijk) const {
        Vec3 out = origin;
        for (int a = 0; a < axes(); ++a) out[a] += (ijk[static_cast<std::size_t>(a)] + 0.5) * cell[a];
        return out;
    }
    Vec3 center(std::size_t c) const { return center(indices(c)); }
    // The neighbour across side 0..5 (-x +x -y +y -z +z), or -1 outside.
    long neighbour(std::size_t c, int side) const {
        std::array<int, 3> ijk = indices(c);
        const auto axis = static_cast<std::size_t>(side / 2);
        ijk[axis] += side % 2 == 0 ? -1 : 1;
        if (ijk[axis] < 0 || ijk[axis] >= count[axis]) return -1;
        return static_cast<long>(at(ijk[0], ijk[1], ijk[2]));
    }
    double cell_volume() const { return cell.prod(); }
    Bounds box() const {
        Bounds out;
        out.include(origin);
        Vec3 far = origin;
        for (int a = 0; a < axes(); ++a) far[a] += count[static_cast<std::size_t>(a)] * cell[a];
        out.include(far);
        return out;
    }
    // How many copies of the modelled part make the whole body.
    int copies() const {
        int out = 1;
        for (const auto& axis : symmetric) out *= axis[0] || axis[1] ? 2 : 1;
        return out;
    }
};

// The lattice around all solid regions, cut at the symmetry planes (the larger side stays, of two equal ones
// the lower); the cell size is the asked one, stretched so that a whole number fits each side. Throws Error
// (Input) for absurd sizes and for planes that miss the body.
CellGrid make_cell_grid(const Space& space);

} // namespace upright
