// A solid part cut open by a plane, to look into it.
#pragma once

#include "part/part.hpp"

namespace upright {

struct PartSection {
    Triangles surface;      // what is left of the skin, and the section through the material
    std::vector<bool> kept; // of each triangle: of a kept region
    std::vector<bool> cut;  // of each: of the section
};

// What lies where normal . x <= at, of the whole part with its mirror images.
PartSection section_of(const Model& model, const Part& part, const Vec3& normal, double at);

} // namespace upright
