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

// Throws Error (Input) for regions that cannot be fitted (skins of files, skins of surfaces, half spaces that
// cut nothing) and Error (Numerics) where the shape cannot be meshed.
FittedMesh make_fitted_mesh(const Study& study, const RegionExtents& extents);

} // namespace upright
