// The design cut at a level: its tetrahedra become solid or void.
#pragma once

#include "part/solid/cut_tets.hpp"
#include "part/solid/sheet_set.hpp"

namespace upright {

struct LevelCut {
    std::vector<bool> solid; // of each tetrahedron; those that are not design are
    std::size_t filled = 0;  // tetrahedra made solid where the part would touch itself in an edge or a point
};

// `value`: of each point, below zero where material is; `level`: the sheet of the zero among `sheets`, which
// new points lie on. `design`: of each label. Where the cut touches itself in an edge or a point alone it is
// made anew without the moves that led to it, and filled where that does not help; with `sound` false, for
// surfaces to look at, it stays. `snap`: of an edge, points so near to a cut are moved onto it.
LevelCut cut_at_level(CutTets& tets, const SheetSet& sheets, std::vector<double> value, std::int32_t level,
                      const std::vector<bool>& design, bool sound = true, double snap = 0.25);

// The volume of the design where the (linear) value is below zero.
double volume_below(const CutTets& tets, const std::vector<double>& value, double level,
                    const std::vector<bool>& design);
// That of one tetrahedron.
double volume_below_in(std::size_t t, const CutTets& tets, const std::vector<double>& value, double level);

} // namespace upright
