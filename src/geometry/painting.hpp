// Regions painted in order on cells, and surfaces picked from the boundary that comes out.
#pragma once

#include "geometry/cell_grid.hpp"
#include "geometry/space.hpp"

#include <functional>
#include <memory>
#include <vector>

namespace upright {

// A piece of a cell: its middle, and half its edges as columns (none in z in the plane).
struct CellPiece {
    Vec3 at = Vec3::Zero();
    Mat3 half = Mat3::Zero();
    double volume = 0.0; // in any unit, the same for all pieces of a cell
};
// The share of pieces where a function of place is below zero: in each piece the function is taken for
// linear, so that a plane that cuts a box is measured exactly.
double share_below(const std::vector<CellPiece>& pieces, const std::function<double(const Vec3&)>& value);

// What can be painted: cells with numbered sides. A grid, or any mesh (mesh/mesh_cells.hpp).
class Cells {
  public:
    Cells() = default;
    Cells(const Cells&) = delete;
    Cells& operator=(const Cells&) = delete;
    virtual ~Cells() = default;

    virtual std::size_t size() const = 0;
    virtual bool plane() const = 0;
    virtual int sides(std::size_t c) const = 0;
    // The cell across a side, or -1.
    virtual long neighbour(std::size_t c, int side) const = 0;
    virtual bool on_symmetry(std::size_t c, int side) const = 0;
    // Whether a side may be boundary though a cell lies beyond: the flat sides of shells.
    virtual bool always_free(std::size_t /*c*/, int /*side*/) const { return false; }
    virtual Vec3 center(std::size_t c) const = 0;
    virtual double volume(std::size_t c) const = 0;
    // The radius about the middle that holds the cell.
    virtual double reach(std::size_t c) const = 0;
    // The cell cut into boxes (parallelepipeds), or into pieces that are taken for such.
    virtual void pieces(std::size_t c, std::vector<CellPiece>& out) const = 0;
    virtual Vec3 face_center(std::size_t c, int side) const = 0;
    virtual Vec3 face_normal(std::size_t c, int side) const = 0;
    virtual double face_area(std::size_t c, int side) const = 0;
    virtual std::vector<Vec3> face_corners(std::size_t c, int side) const = 0;
    // Whether boundaries come as stairs: rules about places then allow for a cell.
    virtual bool stairs() const = 0;
    virtual double cell_size() const = 0;
    virtual Bounds box() const = 0;
    // Whether a cell is in a set of the mesh file; whether all nodes of a side are.
    virtual bool in_cell_set(const CellSet& /*set*/, std::size_t /*c*/) const { return false; }
    virtual bool in_point_set(const std::string& /*set*/, std::size_t /*c*/, int /*side*/) const {
        return false;
    }
};

class GridCells : public Cells {
  public:
    explicit GridCells(const CellGrid& grid) : grid_(grid) {}
    std::size_t size() const override { return grid_.size(); }
    bool plane() const override { return grid_.plane; }
    int sides(std::size_t /*c*/) const override { return 2 * grid_.axes(); }
    long neighbour(std::size_t c, int side) const override { return grid_.neighbour(c, side); }
    bool on_symmetry(std::size_t c, int side) const override;
    Vec3 center(std::size_t c) const override { return grid_.center(c); }
    double volume(std::size_t /*c*/) const override { return grid_.cell_volume(); }
    double reach(std::size_t /*c*/) const override { return 0.5 * grid_.cell.head(grid_.axes()).norm(); }
    void pieces(std::size_t c, std::vector<CellPiece>& out) const override;
    Vec3 face_center(std::size_t c, int side) const override;
    Vec3 face_normal(std::size_t c, int side) const override;
    double face_area(std::size_t c, int side) const override;
    std::vector<Vec3> face_corners(std::size_t c, int side) const override;
    bool stairs() const override { return true; }
    double cell_size() const override { return grid_.cell.head(grid_.axes()).maxCoeff(); }
    Bounds box() const override { return grid_.box(); }

  private:
    CellGrid grid_;
};

// A side of a solid cell beyond which there is none.
struct CellFace {
    std::size_t cell = 0;
    int side = 0;
};

// How a region fared while painting, in cells: how many it covered, how many of them later voids took, and,
// of a void, how many had material before.
struct PaintedCells {
    std::size_t painted = 0;
    std::size_t lost = 0;
    std::size_t taken = 0;
    double taken_volume = 0.0;
};

// What became of the cells.
struct Painting {
    CellGrid grid;                          // of a grid alone
    std::vector<RegionId> owner;            // who painted the cell last; None where nobody did
    std::vector<std::vector<bool>> covered; // [region][cell]: whether the region painted it at all
    std::vector<CellFace> boundary;         // every face between material and none, but for symmetry planes
    std::vector<std::vector<CellFace>> surfaces; // for each surface of the space
    RegionField regions;                         // with the faces that skins were laid under

    bool solid(std::size_t cell) const {
        return owner[cell] != RegionId::None && regions[owner[cell]].role != Role::Void;
    }
};

// Paints every region: a cell belongs to a shape that holds at least half of it. A skin takes cells that have
// material already, of whose material (what lies on its side of the surface it covers) at least half lies
// within its depth; it never fills a void. Throws Error (Input) when a surface picks nothing, or a skin or
// ring comes to no cell.
Painting paint(const Space& space, const CellGrid& grid);
Painting paint(const Space& space, const Cells& cells);

// The last step alone, for cells whose owners are known (`covered` too): boundary and surfaces.
void pick_surfaces(const Space& space, const Cells& cells, Painting& painting);

// The symmetry plane beyond which a part of the body lies wholly, as "y = 100"; empty where there is none.
std::string beyond_symmetry(const std::vector<SymmetryPlane>& planes, const Bounds& modelled,
                            const Bounds& part);

Vec3 face_normal(int side);
Vec3 face_center(const CellGrid& grid, const CellFace& face);
double face_area(const CellGrid& grid, int side);

} // namespace upright
