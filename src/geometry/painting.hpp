// Regions painted in order on the cells of a grid, and surfaces picked from the boundary that comes out.
#pragma once

#include "geometry/cell_grid.hpp"

#include <vector>

namespace upright {

// A side of a solid cell beyond which there is none: 0..5 are -x +x -y +y -z +z.
struct CellFace {
    std::size_t cell = 0;
    int side = 0;
};

// What became of the cells.
struct Painting {
    CellGrid grid;
    std::vector<RegionId> owner;            // who painted the cell last; None where nobody did
    std::vector<std::vector<bool>> covered; // [region][cell]: whether the region painted it at all
    std::vector<CellFace> boundary;         // every face between material and none, but for symmetry planes
    std::vector<std::vector<CellFace>> surfaces; // for each surface of the study

    bool solid(const Study& study, std::size_t cell) const {
        return owner[cell] != RegionId::None && study.regions[index(owner[cell])].role != Role::Void;
    }
};

// Paints every region: a cell belongs to a shape that holds its middle. A skin takes cells that have material
// already, whose middle lies within its depth, and at least one whole layer of them; it never fills a void.
// Throws Error (Input) when a surface picks nothing.
Painting paint(const Study& study, const CellGrid& grid);

Vec3 face_normal(int side);
Vec3 face_center(const CellGrid& grid, const CellFace& face);
double face_area(const CellGrid& grid, int side);

// Distance to a region as written (not as painted): negative inside. Skins of surfaces measure from the faces
// that their surfaces picked.
double region_distance(const Study& study, const Painting& painting, RegionId region, const Vec3& p);

} // namespace upright
