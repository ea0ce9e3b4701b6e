// How far the faces of a part lean back from the dies that leave it.
#pragma once

#include "model/model.hpp"
#include "part/triangles.hpp"

#include <optional>
#include <vector>

namespace upright {

struct Dies {
    Vec3 along = Vec3::UnitZ();    // the way of the die; of two the upper one's
    bool two = false;              // below the parting faces lean back downwards
    std::optional<double> parting; // its place along the draw; without one faces may lean to either side
    double near = 0.0;             // so close to the plane as well
};

// Those of the study, which part within a quarter of a cell of their plane; one die where it has no such
// rule. On a surface of its own, or along another way than the rule's, no plane tells the sides apart.
Dies dies_of(const Model& model, const Vec3& along);

// Degrees, of each triangle of `counts`; 0 of others. Below zero it leans over. A wall that bends is made of
// flat triangles, which lean to and fro by the more the fewer there are. So each takes the mean normal of
// those of `counts` whose middles lie within so far of its own, r, and which are turned from it by less than
// half a right angle, each by its area times (1 - (d / r)^2)^2 at a distance d. With zero each has its own.
// Of two dies what the lower one leaves counts as its mirror image; triangles that the plane runs through do
// not count for others, and have the mean of those about them.
std::vector<double> leans(const Triangles& surface, const std::vector<bool>& counts, const Dies& dies,
                          double within);

} // namespace upright
