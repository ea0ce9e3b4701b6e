// How long edges should be, over space.
#pragma once

#include "geometry/bounds.hpp"

#include <algorithm>
#include <array>
#include <vector>

namespace upright {

// Values on a lattice, linear between; `limit` then spreads small ones with a bounded gradient.
class SizeField {
  public:
    SizeField(const Bounds& box, double size, double spacing);
    // Asks for at most `size` at a place.
    void ask(const Vec3& p, double size);
    void limit(double gradient);
    double at(const Vec3& p) const;
    double smallest() const;
    double largest() const { return size_; }
    double spacing() const { return spacing_; }
    // Every lattice place, for sizes that are given as functions of place.
    template <class Visit> void each(const Visit& visit) {
        for (int k = 0; k < count_[2]; ++k)
            for (int j = 0; j < count_[1]; ++j)
                for (int i = 0; i < count_[0]; ++i) {
                    double& v = values_[index(i, j, k)];
                    v = std::min(v, visit(Vec3(low_ + spacing_ * Vec3(i, j, k))));
                }
    }

  private:
    std::size_t index(int i, int j, int k) const {
        return (static_cast<std::size_t>(k) * static_cast<std::size_t>(count_[1]) +
                static_cast<std::size_t>(j)) *
                   static_cast<std::size_t>(count_[0]) +
               static_cast<std::size_t>(i);
    }
    Vec3 low_;
    double size_, spacing_;
    std::array<int, 3> count_{};
    std::vector<double> values_;
};

} // namespace upright
