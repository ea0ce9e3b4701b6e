// Meshes whose elements come with their regions.
#pragma once

#include "mesh/mesh_kind.hpp"

namespace upright {

// What painting would have told of such a mesh: an element lies in the region that owns it, and in every
// other that holds its middle. Picks the surfaces and fills `painted`; mesh (with symmetry) and regions
// stand.
void pick_on_owned(const Space& space, MadeMesh& made);

} // namespace upright
