// Where tetrahedra of a part have small dihedral angles, and whether its shape makes them.
#pragma once

#include "part/solid/solid_carver.hpp"

namespace upright {

constexpr double fair_dihedral = 17.0; // degrees: what tetrahedra of a part have at least, as a rule

struct SharpPlace {
    double angle = 0.0; // dihedral, degrees
    Vec3 at = Vec3::Zero();
    // The sheets of the two faces that meet at the angle; -1: a face inside.
    std::array<std::int32_t, 2> sheets{-1, -1};
    // The shape's own: two unlike faces of the skin, or of the borders of regions, meet there at less than
    // the limit.
    bool own = false;
};

// A place for each tetrahedron that has an angle below `limit` degrees, the sharpest first.
std::vector<SharpPlace> sharp_places(const SolidPart& part, double limit = fair_dihedral);

} // namespace upright
