// Places of the whole body in the modelled part of it.
#pragma once

#include "mesh/mesh.hpp"

namespace upright {

// A place that lies beyond a plane of symmetry stands for its image in the modelled part.
inline Vec3 into_model(const Mesh& mesh, Vec3 p) {
    for (const SymmetryCut& cut : mesh.symmetry)
        if (cut.high ? p[cut.axis] > cut.at : p[cut.axis] < cut.at) p[cut.axis] = 2 * cut.at - p[cut.axis];
    return p;
}

} // namespace upright
