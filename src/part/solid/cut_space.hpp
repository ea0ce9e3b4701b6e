// The space of a study as tetrahedra: a body-centred lattice cut by the exact faces of regions. Edges, rims
// and corners are where they are written; where faces are curved, nodes lie on them.
#pragma once

#include "mesh/mesh.hpp"
#include "part/solid/cut_tets.hpp"
#include "part/solid/sheet_set.hpp"

namespace upright {

struct SpaceTets {
    CutTets tets;          // those with material; labels are regions
    SheetSet sheets;       // that points lie on
    double doubtful = 0.0; // share of the volume whose region only the middles of tetrahedra tell
};

// Of the modelled part: `symmetry` cuts it. The lattice has the cells of the mesh's grid, or its size.
// Throws Error (Input) where nothing is left.
SpaceTets cut_space(const Mesh& mesh, const RegionField& regions);

} // namespace upright
