// A mesh as cells that can be painted, and from painted cells to the mesh of what is solid.
#pragma once

#include "mesh/mesh.hpp"

#include <map>

namespace upright {

// Sets that come with a mesh file.
struct MeshSets {
    std::map<std::string, std::vector<double>> cells;  // a value for each element
    std::map<std::string, std::vector<double>> points; // a value for each node
    // Arrays of several numbers each, which are no sets: "name" and how many.
    std::map<std::string, int> cell_vectors, point_vectors;
};

class MeshCells : public Cells {
  public:
    // `stairs`: the cells do not follow the shapes. The mesh must be finished and stay.
    MeshCells(const Mesh& mesh, bool stairs, const MeshSets* sets = nullptr);
    std::size_t size() const override { return mesh_.elements(); }
    bool plane() const override { return mesh_.dimension() == 2; }
    int sides(std::size_t c) const override { return mesh_.sides(id(c)); }
    long neighbour(std::size_t c, int side) const override { return neighbours_.at(id(c), side); }
    bool on_symmetry(std::size_t c, int side) const override;
    bool always_free(std::size_t c, int side) const override {
        return mesh_.shell() && side < 2 && !mesh_.is_edge({id(c), side});
    }
    Vec3 center(std::size_t c) const override { return mesh_.center(id(c)); }
    double volume(std::size_t c) const override { return mesh_.volume(id(c)); }
    double reach(std::size_t c) const override { return reach_[c]; }
    void pieces(std::size_t c, std::vector<CellPiece>& out) const override;
    Vec3 face_center(std::size_t c, int side) const override { return mesh_.face_center({id(c), side}); }
    Vec3 face_normal(std::size_t c, int side) const override;
    double face_area(std::size_t c, int side) const override { return mesh_.face_area({id(c), side}); }
    std::vector<Vec3> face_corners(std::size_t c, int side) const override;
    bool stairs() const override { return stairs_; }
    double cell_size() const override { return mesh_.size; }
    Bounds box() const override { return mesh_.bounds; }
    bool in_cell_set(const CellSet& set, std::size_t c) const override;
    bool in_point_set(const std::string& set, std::size_t c, int side) const override;

  private:
    static ElementId id(std::size_t c) { return static_cast<ElementId>(c); }
    const Mesh& mesh_;
    bool stairs_;
    const MeshSets* sets_;
    Neighbours neighbours_;
    std::vector<double> reach_;
};

// Drops the elements that are not solid and gives the rest their regions and thicknesses; the number of each
// old element among the new ones, or -1. Throws Error (Input) when nothing is left.
std::vector<std::int32_t> keep_solid(Mesh& mesh, const Space& space, const Painting& painting);

} // namespace upright
