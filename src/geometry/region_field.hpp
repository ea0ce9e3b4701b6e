// Regions as fields: the one place where they are composed of shapes, skins and rings. Meshing and painting
// ask it what a place belongs to, carving and cutting where a region ends.
#pragma once

#include "geometry/facets.hpp"
#include "study/study.hpp"

#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace upright {

// A ring around the end of a hole.
struct Ring {
    Vec3 from = Vec3::Zero(), to = Vec3::Zero(); // the axis over the ring's depth
    double inner = 0.0, outer = 0.0;
};
// Distance to it: negative inside.
double ring_distance(const Ring& ring, const Vec3& p);

// A cylindrical hole: from a void cylinder, or from CAD.
struct Hole {
    Vec3 from, to;
    double radius = 0.0;
};

// What regions need beside their cards to be measured, and what takes a CAD file or a mesh to find: faces
// under skins, rings around holes. Beside the regions.
struct RegionExtents {
    std::vector<std::shared_ptr<const FacetTree>> skins; // null where the region is no skin of surfaces
    std::vector<std::vector<Ring>> rings;
};

// A region, and what its names mean.
struct FieldRegion : RegionCard {
    std::vector<std::size_t> inside_of;   // regions before it that `within` names
    std::vector<std::size_t> covers;      // regions before it that a skin covers
    std::vector<std::size_t> on_surfaces; // surfaces that a skin lies under
    double deep = 1.0;                    // thickness of its elements where the mesh is flat
    bool finish = false;                  // of the part alone: the mesh knows nothing of it
};

class RegionField {
  public:
    RegionField() = default;
    // From a study; finds the rings. Throws Error (Input) when one finds no hole, or only outside of the
    // body.
    explicit RegionField(const Study& study);
    // With rings and skins found before.
    RegionField(const Study& study, RegionExtents extents);
    // These alone, of a model that was read from its file.
    explicit RegionField(RegionExtents extents) : extents_(std::move(extents)) {}

    // With shapes painted behind them, of the part alone; `within` of theirs is not served.
    RegionField with(const std::vector<RegionCard>& finishes) const;
    // With bodies for regions that are sets of cells (null: as it was): what owns a place can then be told.
    RegionField with_bodies(const std::vector<std::shared_ptr<const FacetBody>>& of_cells) const;

    std::size_t size() const { return regions_.size(); }
    const std::vector<FieldRegion>& regions() const { return regions_; }
    const FieldRegion& operator[](std::size_t r) const { return regions_[r]; }
    const FieldRegion& operator[](RegionId r) const { return regions_[index(r)]; }
    const RegionExtents& extents() const { return extents_; }
    // The faces that the surfaces under a skin picked: it is measured from them.
    void lay(std::size_t region, std::shared_ptr<const FacetTree> faces) {
        extents_.skins[region] = std::move(faces);
    }

    // Distance to a region as written (not as painted): negative inside.
    double distance(std::size_t region, const Vec3& p) const;
    // Distance to the body that the first `count` regions leave, or all: negative inside.
    double body_distance(std::size_t count, const Vec3& p) const;
    double body_distance(const Vec3& p) const { return body_distance(regions_.size(), p); }
    // Distances to the body and to what is kept of it whatever the design, layers and rings with it.
    struct Parts {
        double body = 1e300;
        double kept = 1e300;
    };
    Parts parts(const Vec3& p) const;
    // Who would paint a place last.
    RegionId owner(const Vec3& p) const;
    // The holes of some regions (none named: of all), and of a radius where one is given.
    std::vector<Hole> holes(const std::vector<std::string>& of, std::optional<double> radius) const;

  private:
    void resolve(const Study& study);
    void find_rings();
    void find_ring_ends(std::size_t region, const HoleRing& ring, const Hole& hole);

    std::vector<FieldRegion> regions_;
    RegionExtents extents_;
};

// The body of a file that a shape is, and how it was placed; nullptr for other shapes.
const FacetBody* body_of(const Shape& shape, const Placed*& placed);
// From the axes of a placed body to those of the study, and back.
Vec3 out_of(const Placed* placed, const Vec3& p);
Vec3 into(const Placed* placed, const Vec3& p);

} // namespace upright
