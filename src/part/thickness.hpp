// How thick a part is and how narrow its gaps are, by inscribed spheres: at a place as much as the largest
// sphere that holds it is across (Hildebrand & Rüegsegger 1997), or comes as near to it as a cell.
#pragma once

#include "part/part.hpp"

#include <optional>

namespace upright {

// The largest spheres inside a closed surface, or outside of it near to it: their middles on a lattice and
// moved from there to where they are largest, so each is one (within rounding), but a larger one may be there
// by less than a tenth of a step.
struct InscribedSpheres {
    std::vector<Vec3> centers;
    std::vector<double> radii; // descending

    // Of each place the number of the first (largest) sphere that comes within `slack` of it; -1 for none.
    std::vector<std::int32_t> largest_near(const std::vector<Vec3>& places, double slack) const;
};

struct Thickness {
    struct Place {
        double across = 0.0;
        Vec3 at = Vec3::Zero(); // the middle of the sphere
    };
    // Of the design: where material or a gap ends on faces of the space alone, the design has no say. Of
    // members: what tapers to an edge wider than 30 degrees is as thin as nothing, and no thin place; nor is
    // one of less material than a cell.
    std::optional<Place> thinnest, narrowest; // nothing: no design, no gap
    std::optional<Place> thickest;            // of design regions alone, whatever it ends on
    double step = 0.0;                        // of the lattice: what is thinner is not seen
    // Of each point of the part's surface; below zero where no sphere is near.
    std::vector<double> at_points;
    // Design material thinner, or thicker, than so much, as a share.
    double thinner_than(double across) const;
    double thicker_than(double across) const; // whatever it ends on
    // Across, at the lattice's points in the design; below zero where it ends on faces of the space alone.
    std::vector<double> material;
};

// Of a solid model's part. Gaps up to `widest` across are seen as wide as they are; 0: gaps are not measured.
Thickness measure_thickness(const Model& model, const Part& part, double widest);

} // namespace upright
