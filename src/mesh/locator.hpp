// Elements near a place, by their middles.
#pragma once

#include "mesh/mesh.hpp"

#include <functional>

namespace upright {

class ElementLocator {
  public:
    // Buckets of about `width`.
    ElementLocator(const Mesh& mesh, double width);
    // Calls `visit` for every element whose middle lies within `radius` (at most the width) of the place.
    void near(const Vec3& p, double radius,
              const std::function<void(ElementId, double distance)>& visit) const;
    // The element with the nearest middle.
    ElementId nearest(const Vec3& p) const;

  private:
    std::array<int, 3> place(const Vec3& p) const;
    std::size_t bucket(int i, int j, int k) const;
    const Mesh& mesh_;
    double width_;
    Bounds box_;
    std::array<int, 3> count_{};
    std::vector<std::vector<ElementId>> lists_;
};

} // namespace upright
