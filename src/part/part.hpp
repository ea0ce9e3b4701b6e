// A carved part: what is made, written and analysed again.
#pragma once

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

// With the mirror images of a symmetric model, but for `solid`.
struct Part {
    Triangles surface;
    std::vector<bool> kept; // of each triangle: of a kept region
    double volume = 0.0;    // enclosed by the surface
    double mass = 0.0;
    bool closed = false;
    std::vector<PartPiece> pieces;   // largest first
    std::vector<std::string> missed; // places of supports and loads that no piece touches
    std::vector<RegionShare> regions;
    double level = 0.0; // of the field that was cut
    // The mesh, of solid models: of the modelled part.
    std::shared_ptr<const SolidPart> solid;

    // One piece that reaches every support and load.
    bool one_piece() const;
};

} // namespace upright
