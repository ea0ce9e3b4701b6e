// A carved part with struts or sheets instead of solid material deep below its skin.
#pragma once

#include "model/model.hpp"
#include "part/solid/solid_carver.hpp"

namespace upright {

// What came of one card.
struct InfillMade {
    std::string name;
    double zone = 0.0;  // volume, of the modelled part, where the lattice is: below the skin, in its regions
                        // and its shape
    double solid = 0.0; // of it, what struts or sheets fill in the mesh
    double written = 0.0;      // the same by the struts and sheets as they are written
    Bounds box;                // of the zone
    std::vector<double> voids; // of zones as solid material: of each region of the model, what is void of it
    std::size_t loose = 0;     // pieces of struts that touched nothing and were left out
};

// Tetrahedra that a part with infill may have before the voids are taken out: beyond it memory runs out.
inline constexpr std::size_t most_infill_tets = 4000000;

// The tetrahedra below the skin are divided until edges are half a thickness long at struts and sheets, and
// cut at these; their walls lie as far from where they are written, all by the same and by a tenth of the
// thickness at most, as gives the volume that is written: chords are short of it. `made` gets a line for each
// card. Throws Error (Input) where a card's zone is empty or its lattice takes more tetrahedra than
// most_infill_tets.
SolidPart with_infill(const Model& model, SolidPart part, std::vector<InfillMade>& made);

// A zone as solid material that is from afar what its lattice is.
struct InfillZone {
    std::size_t card = 0;
    MaterialId of = MaterialId::None; // what its struts or sheets are made of
};
// The same zones as regions of their own, uncut: tetrahedra of `zones[z]` have the region
// model.regions.size() + z.
SolidPart with_infill_zones(const Model& model, SolidPart part, std::vector<InfillMade>& made,
                            std::vector<InfillZone>& zones);

} // namespace upright
