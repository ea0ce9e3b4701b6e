// The part as a finite element mesh, on which the cards of its study are found again.
#pragma once

#include "mesh/mesh_kind.hpp"
#include "model/model.hpp"
#include "part/solid/solid_carver.hpp"

namespace upright {

// How much of the faces of a surface is left.
struct SurfaceLeft {
    std::string name;
    double area = 0.0, of = 0.0; // on the part, and on the whole space
    double share() const { return of > 0.0 ? area / of : 0.0; }
};

// A model of the part: elements are its tetrahedra, of second order with middles of edges on the faces that
// the edges lie on (half way or straight where an element would suffer). Surfaces are picked by the study's
// rules from the exact faces alone, never from what the design drew. Throws Error (Input) for a surface of
// which nothing is left, a point away from the part, as build_model does. Of a run on a mesh from a file,
// which knows sets that a part has not: surfaces are what is left of the faces that they have in the run's
// model, of shells those that their sides have become; what holds the turning of a shell is left out, since
// it holds whole faces of the part (Error (Input) where it turns them).
Model build_part_model(const Study& study, const SolidPart& part, bool second_order, const Model& run);

// Of each surface, against that of the space: `whole` is the part of full density.
std::vector<SurfaceLeft> surfaces_left(const Model& part, const Model& whole);

} // namespace upright
