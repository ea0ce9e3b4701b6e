// What is meshed: the regions as fields, the surfaces to pick, where the body is cut for symmetry, and how
// fine. Mesh kinds and painting know no study.
#pragma once

#include "geometry/region_field.hpp"

#include <optional>
#include <vector>

namespace upright {

struct Space {
    UnitSystem units;
    MeshCard mesh;
    RegionField regions;
    std::vector<SurfaceCard> surfaces;
    std::vector<SymmetryPlane> symmetry;
    std::optional<Frame> axis; // of a polar mesh
    int sectors = 0;           // of the design about it, which cells have to repeat; 0: none

    // The place of what is wrong when there is nothing to mesh.
    Place where() const { return regions.size() > 0 ? regions[std::size_t{0}].place : mesh.place; }
};

// Throws Error (Input) as RegionField does.
Space make_space(const Study& study);

} // namespace upright
