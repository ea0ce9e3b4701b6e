// Whether a carved part can be made as its study asks: measured on its surface, whatever the design was.
#pragma once

#include "part/thickness.hpp"

namespace upright {

struct MakingFinding {
    std::string rule; // "draw"
    std::string what; // "undercuts along (0, 0, 1)"
    double value = 0.0, limit = 0.0;
    bool at_least = false; // the limit
    std::string unit;      // "mm", "% of the free surface"
    bool holds() const { return at_least ? value >= limit : value <= limit; }
    std::string also;          // what else was measured
    Vec3 where = Vec3::Zero(); // the worst place; of the whole body
};

// Draw: lines along it, as close as a third of a cell, that miss kept and void shapes and gaps of the space
// (holes of a CAD body) meet one interval of material, which ends at the base or crosses the parting; where
// they do not stands an undercut, as wide as the lines that see it are across. At most one cell holds.
// Draft: the area of free faces that lean by half a degree less than asked, as a share of all free faces: at
// most three percent holds.
// Overhang: the area of free faces that are more than five degrees beyond the angle, as a share of all free
// faces: at most three percent holds.
// Patterns (mirror, sectors, repeat): the distance of the free surface from its images, where those lie in
// the design as well: at most one cell holds. Sizes: the thinnest and the thickest place of the design, by
// inscribed spheres, may miss what was asked by a cell. `parting`: of two dies, along the draw. Of solid
// models with such a rule; else nothing.
std::vector<MakingFinding> check_making(const Model& model, const Part& part, double parting,
                                        const Thickness& thickness);

} // namespace upright
