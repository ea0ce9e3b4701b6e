// What a carved part came to, for people.
#pragma once

#include "part/extract.hpp"
#include "part/making_check.hpp"
#include "part/solid/sharp_places.hpp"

#include <string>
#include <vector>

namespace upright {

// Pieces that were not left out.
std::size_t pieces_left(const Part& part);
// Whether the part is one piece that reaches every support and load; else its pieces and what they touch.
std::string pieces_text(const Model& model, const Part& part);

// The two faces that meet at a place: "the free surface and a plane of seat".
std::string faces_text(const Model& model, const SolidPart& part, const SharpPlace& place);
// How many tetrahedra have sharper angles than is fair, and the sharpest with its place; empty where none
// has.
std::string sharp_text(const Model& model, const SolidPart& part, const std::vector<SharpPlace>& places);

// What infill the part has, and what it saved; empty where it has none.
std::string infill_text(const Model& model, const Part& part);
// What fillets of a radius added to it.
std::string fillets_text(const Model& model, const Part& part, double radius);
// Voids that are closed in: pieces of the surface that look inward.
std::size_t closed_voids(const Triangles& surface);

// How thick the design is and how narrow its gaps are.
std::string thickness_text(const Model& model, const Thickness& found);

// Whether the making rules are kept, as measured; empty where there is none to measure.
std::string making_text(const std::vector<MakingFinding>& findings);

} // namespace upright
