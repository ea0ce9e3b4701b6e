// Edges split where they cross a sheet.
#pragma once

#include "part/solid/cut_tets.hpp"
#include "part/solid/sheet_set.hpp"

namespace upright {

// An edge that crosses a sheet, and where.
struct Crossing {
    std::int32_t a = 0, b = 0;
    Vec3 at = Vec3::Zero();
    double length = 0.0; // of the edge
};

// By their lengths; of equal ones those with smaller points first.
void longest_first(std::vector<Crossing>& crossings);

// What a point lies on, and one sheet more.
std::vector<std::int32_t> with_sheet(std::vector<std::int32_t> on, std::int32_t sheet);

// Whether all tetrahedra at the edge stay the right way round with a point put into it at p.
bool fits(const CutTets& tets, const Crossing& crossing, const Vec3& p);

// Puts a point into the edge, on the sheet and on those that the edge lies on: onto curved ones it is moved
// where no tetrahedron turns inside out by it.
// `sheet` -1: on those alone.
void split_on(CutTets& tets, const SheetSet& sheets, const Crossing& crossing, std::int32_t sheet);

// Splits edges on cylinders, cones and spheres that bend off them by more than `sagitta` of the radius, as
// long as they are longer than `shortest`.
void refine_curved(CutTets& tets, const SheetSet& sheets, double sagitta, double shortest);

} // namespace upright
