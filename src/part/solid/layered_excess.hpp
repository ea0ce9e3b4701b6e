// By how much a field is larger than layers of a part let it be, on a lattice of such layers.
#pragma once

#include "geometry/bounds.hpp"

#include <array>
#include <functional>
#include <vector>

namespace upright {

// What a place is to a rule of layers: of the design, always there, never there.
enum class LayerPlace { Free, Solid, Nothing };

// Rows: two directions across `up`, and `up`.
Eigen::Matrix3d axes_along(const Vec3& up);
// What bounds a box after its corners were turned.
Bounds turned(const Eigen::Matrix3d& by, const Bounds& box);

// What every rule of layers is given.
struct LayerWish {
    Bounds box; // of what is there
    Vec3 up = Vec3::UnitZ();
    double step = 1.0; // of the lattice
    std::function<LayerPlace(const Vec3&)> place;
    std::function<double(const Vec3&)> field; // between 0 and 1, or a little beyond
};

// A lattice whose layers lie across `up`, the lowest where the box ends; across there is one row more on each
// side. Rules go through its layers and set what is too much; places beside the design get the mean of those
// next to them.
class LayeredExcess {
  public:
    // `side`, `rise`: from place to place across and up; larger, alike, where there would be too many places.
    LayeredExcess(const Bounds& box, const Vec3& up, double side, double rise);

    int count(int axis) const { return count_[static_cast<std::size_t>(axis)]; }
    std::size_t in_layer() const { return index(0, 0, 1); }
    std::size_t index(int i, int j, int k) const {
        return (static_cast<std::size_t>(k) * static_cast<std::size_t>(count_[1]) +
                static_cast<std::size_t>(j)) *
                   static_cast<std::size_t>(count_[0]) +
               static_cast<std::size_t>(i);
    }
    Vec3 place(int i, int j, int k) const {
        return axes_.transpose() * (low_ + step_.cwiseProduct(Vec3(i, j, k)));
    }
    double side() const { return step_.x(); }
    double rise() const { return step_.z(); }
    double bottom() const { return low_.z(); } // place of the lowest layer along `up`

    // Of a place of the design. Different places at once are fine.
    void set(std::size_t place, double excess) {
        excess_[place] = static_cast<float>(excess);
        known_[place] = 1;
    }
    void finish();

    // Between places: zero or more. With its slope.
    double at(const Vec3& p) const;
    double at(const Vec3& p, Vec3& slope) const;

  private:
    void spread();

    Eigen::Matrix3d axes_;    // rows: two across, and up
    Vec3 low_ = Vec3::Zero(); // of the lattice, in these axes
    Vec3 step_ = Vec3::Ones();
    std::array<int, 3> count_{};
    std::vector<float> excess_;
    std::vector<char> known_;
};

} // namespace upright
