// The element and the natural coordinates of a place.
#pragma once

#include "mesh/locator.hpp"

#include <Eigen/Core>

#include <optional>

namespace upright {

struct Probe {
    ElementId element{};
    Vec3 natural = Vec3::Zero();
    Eigen::VectorXd values;    // the interpolation there, for each node of the element
    Vec3 place = Vec3::Zero(); // where that is: the asked place, or the nearest in the body
    double off = 0.0;          // the distance between the two
};

// The element that holds a place; of places outside the one whose point is nearest. Inversion of the map by
// Newton's method.
Probe find_probe(const Mesh& mesh, const Vec3& place);

} // namespace upright
