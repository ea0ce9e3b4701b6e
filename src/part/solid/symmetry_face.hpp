// Faces of a solid part that lie on planes of symmetry: the whole part has none there.
#pragma once

#include "part/solid/solid_carver.hpp"

#include <algorithm>
#include <cmath>

namespace upright {

// `size`: of the mesh, what lengths are measured by.
inline bool on_plane(const Vec3& p, const SymmetryCut& cut, double size) {
    return std::abs(p[cut.axis] - cut.at) <= 1e-9 * size;
}

inline bool on_symmetry(const Model& model, const SolidPart& part, const Improved::Face& face) {
    return std::any_of(model.mesh.symmetry.begin(), model.mesh.symmetry.end(), [&](const SymmetryCut& cut) {
        return std::all_of(face.nodes.begin(), face.nodes.end(), [&](std::int32_t n) {
            return on_plane(part.points[static_cast<std::size_t>(n)], cut, model.mesh.size);
        });
    });
}

} // namespace upright
