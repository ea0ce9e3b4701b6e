// From the regions of a study to a body-fitted mesh: exact solids cut against each other, cells labelled by
// their regions, tetrahedra.
#pragma once

#include "mesh/fitted.hpp"
#include "mesh/mesh.hpp"

namespace upright {

struct FittedMesh {
    Mesh mesh; // finished, with regions
    std::vector<std::string> remarks;
};

// Whether a region is a layer under surfaces. Those are not cut into the mesh: which elements they take is
// found on it.
bool is_surface_layer(const Study& study, const RegionCard& card);

// Throws Error (Input) for regions that cannot be fitted (bodies of triangles that others cut, skins of
// skins) and Error (Numerics) where the shape cannot be meshed.
FittedMesh make_fitted_mesh(const Study& study, const RegionExtents& extents);

} // namespace upright
