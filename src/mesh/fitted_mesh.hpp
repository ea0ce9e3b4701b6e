// From the regions of a space to a body-fitted mesh: exact solids cut against each other, cells labelled by
// their regions, tetrahedra.
#pragma once

#include "mesh/fitted.hpp"
#include "mesh/mesh.hpp"

namespace upright {

struct FittedMesh {
    Mesh mesh; // finished, with regions
    std::vector<std::string> remarks;
};

// Layers under surfaces are not cut into the mesh: which elements they take is found on it
// (kinds/fitted.cpp). Throws Error (Input) for regions that cannot be fitted (bodies of triangles that others
// cut, skins of skins) and Error (Numerics) where the shape cannot be meshed.
FittedMesh make_fitted_mesh(const Space& space);

} // namespace upright
