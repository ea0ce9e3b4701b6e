// Fillets where the free surface of a part meets kept shapes: what a ball of their radius, rolling along both
// from outside, cannot reach (the closing of mathematical morphology: Serra, Image Analysis and Mathematical
// Morphology, 1982).
#pragma once

#include "geometry/facets.hpp"
#include "part/solid/solid_carver.hpp"

#include <functional>
#include <mutex>
#include <optional>
#include <unordered_map>

namespace upright {

class Blend {
  public:
    // `part`: cut already, its tetrahedra made better, with its sheets. The radius is a length of the model.
    // `in_space`: whether a place lies in the space; balls beyond its end do not come round it.
    Blend(const Model& model, const SolidPart& part, double radius,
          std::function<bool(const Vec3&)> in_space);

    // Fillets are made so many radii about the curves where both surfaces meet, and fade out from `full` on:
    // wedges sharper than some 60 degrees are not filled to their end.
    static constexpr double reach = 2.5, full = 1.75;

    bool empty() const { return rim_.corners().empty(); }
    // Below zero where the fillet is, of about the distance to its face; nothing where there is none near.
    // `slope`: its derivative. Of places outside of the part; within it the values mean nothing.
    std::optional<double> exact(const Vec3& p, Vec3& slope) const;
    // The same to a percent of the radius, for many places: interpolated between points of a grid, which are
    // kept.
    std::optional<double> value(const Vec3& p, Vec3& slope) const;

  private:
    struct Skin { // of kept shapes, free, or another
        FacetTree tree;
        std::vector<std::int32_t> sheet; // of each triangle
    };
    struct Touch { // the nearest place of a skin, and which way is out there
        Vec3 place, out;
        double distance = 1e300;
        bool within = false; // behind that skin
        double square = 0.0; // cosine between the way there and across the triangle
    };
    using Point = std::array<std::int64_t, 3>; // of the grid
    struct Known {
        std::optional<double> value;
        Vec3 slope = Vec3::Zero();
    };

    Vec3 modelled(const Vec3& p, std::vector<SymmetryCut>& turned) const;
    Touch touch(const Skin& skin, const Vec3& p) const;
    Touch nearest(const Vec3& p) const;
    double distance(const Vec3& p) const; // negative within the part
    bool stands(const Vec3& ball) const;
    Vec3 at(const Point& point) const;
    std::vector<Point> blocks_near_rim() const;
    void places_in(const Point& block, std::vector<Vec3>& out) const;
    std::optional<Vec3> in_the_corner(const Vec3& p) const;
    Known known(const Point& point) const;

    std::vector<SymmetryCut> symmetry_;
    std::shared_ptr<const SheetSet> sheets_;
    std::function<bool(const Vec3&)> in_space_;
    double radius_, size_, step_; // the last of the grid
    Vec3 origin_;                 // of the grid
    Skin kept_, free_, other_;
    FacetTree rim_,
        balls_; // edges as triangles without width; middles of balls that touch the part, as points
    mutable std::mutex asking_;
    mutable std::unordered_map<std::uint64_t, Known> known_;
};

} // namespace upright
