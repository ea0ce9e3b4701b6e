// Mesh kinds: how a space is divided. Each in one file of mesh/kinds; a new one is that file and
// a line in mesh_kinds.cpp.
#pragma once

#include "mesh/mesh.hpp"
#include "mesh/mesh_cells.hpp"
#include "study/mesh_word.hpp"

#include <memory>
#include <string>
#include <vector>

namespace upright {

// What a kind makes of a space: cells with regions, the faces that surfaces picked, remarks.
struct MadeMesh {
    Mesh mesh;                                   // finished; every element has its region
    std::vector<std::vector<MeshFace>> surfaces; // beside Space::surfaces
    std::vector<PaintedCells> painted;           // beside Space::regions
    RegionField regions;                         // with the faces that layers were laid under
    std::vector<std::string> remarks;            // what the mesher has to say
};

class MeshKind : public MeshWord {
  public:
    // Throws Error (Input) for what cannot be meshed, surfaces that pick nothing, layers that come to no
    // cell.
    virtual MadeMesh make(const Space& space) const = 0;
};

using MeshList = std::vector<std::shared_ptr<const MeshKind>>;

// Those that the program ships, the usual one first, and `more` behind them.
MeshList mesh_kinds(const MeshList& more = {});

std::shared_ptr<const MeshKind> grid_kind();
std::shared_ptr<const MeshKind> polar_kind();
std::shared_ptr<const MeshKind> fitted_kind();
std::shared_ptr<const MeshKind> file_kind();

// The mesh of a space, by its kind.
MadeMesh make_mesh(const Space& space);

// What painting did to the regions, for kinds to fill in.
std::vector<PaintedCells> count_cells(const Space& space, const Painting& painting, const Cells& cells);
// The picked faces by the new numbers of their elements.
std::vector<std::vector<MeshFace>> picked_faces(const Painting& painting,
                                                const std::vector<std::int32_t>& number);
// Regions painted on a mesh that is there; its solid part remains. `stairs`: its cells do not follow the
// shapes.
MadeMesh paint_mesh(const Space& space, Mesh raw, bool stairs, const MeshSets* sets = nullptr);

} // namespace upright
