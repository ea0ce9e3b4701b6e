// A carved part: what is made, written and analysed again.
#pragma once

#include "part/solid/infill.hpp"
#include "part/solid/solid_carver.hpp"
#include "part/triangles.hpp"

#include <memory>
#include <string>
#include <vector>

namespace upright {

struct PartOptions {
    double threshold = 0.5;   // physical density
    bool improve = true;      // of solid models: good tetrahedra; without it a surface to look at
    bool drop_islands = true; // leave out pieces that touch neither a support nor a load
    SizeWish size;            // of solid models: of edges that are to be shorter than the cut leaves them
    bool infill = true;       // of solid models whose study has some
    double blend = 0.0;       // of solid models: radius of fillets where the free surface meets kept shapes
};

// A piece of material that hangs together.
struct PartPiece {
    double volume = 0.0; // of flat models from lattice points, to about a percent
    Vec3 center = Vec3::Zero();
    std::vector<std::string> touches; // supports, joints, masses and loads, "support bolted" or "load thrust"
    std::vector<std::string> regions; // kept ones that it holds
    bool dropped = false;
};

struct RegionShare {
    std::string region, material;
    double volume = 0.0, mass = 0.0; // of the whole body
};

// The tetrahedra of the whole body: the modelled part and its mirror images, which share the points on the
// planes. `image_of`: of each point that of the modelled part.
struct WholeTets {
    std::vector<Vec3> points;
    std::vector<std::array<std::int32_t, 4>> tets;
    std::vector<RegionId> region;
    std::vector<std::size_t> image_of;
};
WholeTets whole_tets(const Model& model, const SolidPart& part);
// The closed border of a region of it; empty where it has none.
Triangles border_of(const WholeTets& whole, RegionId region);

// With the mirror images of a symmetric model, but for `solid`.
struct Part {
    Triangles surface;
    std::vector<bool> kept; // of each triangle: of a kept region
    std::vector<bool> free; // of each, of solid models: where the design ends, not the space
    double volume = 0.0;    // enclosed by the surface
    double mass = 0.0;
    bool closed = false;
    std::vector<PartPiece> pieces;   // largest first
    std::vector<std::string> missed; // places of supports and loads that no piece touches
    std::vector<RegionShare> regions;
    double level = 0.0;     // of the field that was cut
    double fillets = 0.0;   // mass that blending added, a part of the mass
    double stock = 0.0;     // mass that is left for machining, a part of the mass
    double taken_off = 0.0; // volume that nothing would bear, gone before the level was cut (of `overhang`)
    // The mesh, of solid models: of the modelled part.
    std::shared_ptr<const SolidPart> solid;
    // The same part before infill was cut out of it, where there is some: what a design is measured by.
    std::shared_ptr<const Part> unfilled;
    std::vector<InfillMade> infills;
    const Part& outside() const { return unfilled ? *unfilled : *this; }

    // One piece that reaches every support and load.
    bool one_piece() const;
};

} // namespace upright
