// The space of a study whose mesh came from a file, as tetrahedra: those of its elements. What regions own is
// known of each, so nothing is asked of shapes; its faces are those of the mesh.
#pragma once

#include "part/solid/cut_space.hpp"

namespace upright {

// Tetrahedra stay as they are; of other solids every face makes one with the middle, or two, cut from its
// corner of the least number, so that neighbours agree; of a wedge with twisted sides there are three without
// a middle where that lies beyond one of them (Dompierre et al. 1999). Faces between edges sharper
// than 35 degrees are planes or cylinders where their nodes lie on one to a thousandth of the mesh's size,
// else what the elements have there. Throws Error (Input) for an element too bent to be divided so.
SpaceTets space_of_mesh(const Mesh& mesh, const Place& place);

} // namespace upright
