// What layers that grow along `up` can bear of a field: what hangs over is taken off, at every level at once.
#pragma once

#include "geometry/bounds.hpp"

#include <functional>
#include <vector>

namespace upright {

// On a lattice of layers the field is at most as large as it is below, within a cone (Langelaar 2017, between
// places instead of elements). Minimum and maximum go with every level, so what lies above any level then
// stands on what lies above it; a face leans as much as the cone at most, but for the lattice's step.
class BuiltUp {
  public:
    enum class Place { Free, Solid, Nothing }; // of the design, always there, never there
    struct Wish {
        Bounds box; // of what is there
        Vec3 up = Vec3::UnitZ();
        double reach = 1.0; // tangent of the angle between `up` and the cone
        double step = 1.0;  // from layer to layer
        bool plate = true;  // the lowest layer stands
        std::function<Place(const Vec3&)> place;
        std::function<double(const Vec3&)> field; // between 0 and 1, or a little beyond
    };
    explicit BuiltUp(const Wish& wish);

    // By how much the field is larger at a place than it may be: zero or more. With its slope.
    double excess(const Vec3& p) const;
    double excess(const Vec3& p, Vec3& slope) const;

  private:
    std::size_t at(int i, int j, int k) const {
        return (static_cast<std::size_t>(k) * static_cast<std::size_t>(count_[1]) +
                static_cast<std::size_t>(j)) *
                   static_cast<std::size_t>(count_[0]) +
               static_cast<std::size_t>(i);
    }
    void build(const Wish& wish);
    void spread();

    Eigen::Matrix3d axes_;    // rows: two across, and up
    Vec3 low_ = Vec3::Zero(); // of the lattice, in these axes
    Vec3 step_ = Vec3::Ones();
    double rim_ = 1.0; // of the cone on the layer below, in steps
    std::array<int, 3> count_{};
    std::vector<float> excess_;
    std::vector<char> known_;
};

} // namespace upright
