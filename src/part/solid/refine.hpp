// The cut part with smaller tetrahedra where they are wished for, before it is made better.
#pragma once

#include "part/solid/cut_tets.hpp"
#include "part/solid/sheet_set.hpp"

#include <functional>

namespace upright {

// The length that edges should have at a place.
using SizeWish = std::function<double(const Vec3&)>;

// Splits edges of solid tetrahedra that are much longer than wished for at their middle, the longest first;
// new points on walls (of the skin, and between labels) lie on the walls' sheets. Tetrahedra about them are
// divided with them; `solid` grows with them. `grown` hears of the number of tetrahedra after each round.
void split_long_edges(CutTets& tets, std::vector<bool>& solid, const SheetSet& sheets, const SizeWish& size,
                      const std::function<void(std::size_t)>& grown = {});

} // namespace upright
