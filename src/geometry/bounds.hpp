// An axis-parallel box around something.
#pragma once

#include "base/vectors.hpp"

namespace upright {

// Empty while low > high.
struct Bounds {
    Vec3 low = Vec3::Constant(1e300);
    Vec3 high = Vec3::Constant(-1e300);

    bool empty() const { return low.x() > high.x(); }
    void include(const Vec3& p) {
        low = low.cwiseMin(p);
        high = high.cwiseMax(p);
    }
    void include(const Bounds& other) {
        if (other.empty()) return;
        include(other.low);
        include(other.high);
    }
    bool holds(const Vec3& p, double slack) const {
        return ((p - low).array() >= -slack).all() && ((high - p).array() >= -slack).all();
    }
    Vec3 size() const { return high - low; }
    Vec3 center() const { return 0.5 * (low + high); }
    double diagonal() const { return size().norm(); }
};

} // namespace upright
