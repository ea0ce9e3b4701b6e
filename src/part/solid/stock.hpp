// Stock on faces of a part, left for machining: prisms on the triangles of its skin, so that the mesh goes
// on.
#pragma once

#include "part/solid/solid_carver.hpp"

namespace upright {

struct StockWish {
    std::string name;
    RegionId region{};                              // of the finished model
    double depth = 0.0;                             // across the faces
    std::vector<std::array<std::int32_t, 3>> faces; // by points of the part, in any order of their corners
};

// Planes and cylinders stay such, further out (or in: of bores); where two of the faces meet the stock is
// mitred. Faces that are not of the skin are left out. Throws Error (Input) where the stock would turn itself
// inside out, with the place. The dihedral angles told of the part are those without it.
SolidPart with_stock(const Model& model, const SolidPart& part, const StockWish& wish);

} // namespace upright
