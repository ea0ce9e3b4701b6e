// Bodies of triangles that were made elsewhere, as what a part is cut from: how far a place lies from those
// of their faces that are not faces of the space itself.
#pragma once

#include "geometry/region_field.hpp"
#include "part/solid/sheet_set.hpp"

#include <memory>

namespace upright {

class MadeElsewhere {
  public:
    // `outside`: whether a place lies beyond the space. A triangle is a face of the space where it lies on a
    // sheet to a twentieth of its size (chords of bent faces do) and the space ends there. Such ones count
    // neither for distances nor for what is inside: the body goes on to the face as it was written.
    MadeElsewhere(std::vector<std::shared_ptr<const FacetBody>> bodies, const SheetSet& sheets,
                  const std::function<bool(const Vec3&)>& outside);

    // Negative inside; the distance to the nearest face that is no face of the space.
    double signed_distance(const Vec3& p) const;

  private:
    bool inside(Vec3 p) const;

    std::vector<std::shared_ptr<const FacetBody>> bodies_;
    double size_;
    FacetTree free_, bound_;
};

} // namespace upright
