#include "part/solid/layered_excess.hpp"

#include "geometry/distance.hpp"

#include <algorithm>
#include <cmath>

namespace upright {

namespace {

constexpr double most_places = 3e7; // of the lattice: coarser where there would be more
constexpr int spreads = 2;          // layers around the design to which its values go on

} // namespace

Eigen::Matrix3d axes_along(const Vec3& up) {
    const auto [u, v] = across(up);
    Eigen::Matrix3d out;
    out.row(0) = u;
    out.row(1) = v;
    out.row(2) = up;
    return out;
}

Bounds turned(const Eigen::Matrix3d& by, const Bounds& box) {
    Bounds out;
    for (int k = 0; k < 8; ++k)
        out.include(by * Vec3((k & 1) != 0 ? box.high.x() : box.low.x(),
                              (k & 2) != 0 ? box.high.y() : box.low.y(),
                              (k & 4) != 0 ? box.high.z() : box.low.z()));
    return out;
}

LayeredExcess::LayeredExcess(const Bounds& box, const Vec3& up, double side, double rise)
    : axes_(axes_along(up)) {
    const Bounds around = turned(axes_, box);
    const Vec3 size = around.size();
    const double places = size.x() * size.y() * size.z() / (side * side * rise);
    const double coarser = std::cbrt(std::max(1.0, places / most_places));
    step_ = coarser * Vec3(side, side, rise);
    low_ = around.low - Vec3(step_.x(), step_.y(), 0.0);
    for (std::size_t a = 0; a < 3; ++a) {
        const auto axis = static_cast<Eigen::Index>(a);
        count_[a] = static_cast<int>(std::ceil(size[axis] / step_[axis])) + (a < 2 ? 3 : 1);
    }
    excess_.assign(index(0, 0, count_[2]), 0.0F);
    known_.assign(excess_.size(), 0);
}

void LayeredExcess::finish() {
    for (int i = 0; i < spreads; ++i) spread();
}

// To places beside the design: the mean of those next to them.
void LayeredExcess::spread() {
    std::vector<std::pair<std::size_t, float>> fresh;
    for (int k = 0; k < count_[2]; ++k)
        for (int j = 0; j < count_[1]; ++j)
            for (int i = 0; i < count_[0]; ++i) {
                if (known_[index(i, j, k)] != 0) continue;
                float sum = 0.0F;
                int many = 0;
                for (int c = std::max(k - 1, 0); c <= std::min(k + 1, count_[2] - 1); ++c)
                    for (int b = std::max(j - 1, 0); b <= std::min(j + 1, count_[1] - 1); ++b)
                        for (int a = std::max(i - 1, 0); a <= std::min(i + 1, count_[0] - 1); ++a)
                            if (known_[index(a, b, c)] != 0) {
                                sum += excess_[index(a, b, c)];
                                ++many;
                            }
                if (many > 0) fresh.emplace_back(index(i, j, k), sum / static_cast<float>(many));
            }
    for (const auto& [n, value] : fresh) {
        excess_[n] = value;
        known_[n] = 1;
    }
}

double LayeredExcess::at(const Vec3& p, Vec3& slope) const {
    const Vec3 place = (axes_ * p - low_).cwiseQuotient(step_);
    std::array<int, 3> cell{};
    Vec3 t;
    for (std::size_t a = 0; a < 3; ++a) {
        const auto axis = static_cast<Eigen::Index>(a);
        cell[a] = std::clamp(static_cast<int>(std::floor(place[axis])), 0, std::max(0, count_[a] - 2));
        t[axis] = std::clamp(place[axis] - cell[a], 0.0, 1.0);
    }
    double out = 0.0;
    Vec3 by = Vec3::Zero();
    for (int corner = 0; corner < 8; ++corner) {
        std::array<int, 3> n = cell;
        Vec3 w;
        Vec3 sign;
        for (std::size_t a = 0; a < 3; ++a) {
            const auto axis = static_cast<Eigen::Index>(a);
            const bool high = (corner >> a & 1) != 0;
            n[a] = std::min(n[a] + (high ? 1 : 0), count_[a] - 1);
            w[axis] = high ? t[axis] : 1.0 - t[axis];
            sign[axis] = high ? 1.0 : -1.0;
        }
        const double value = excess_[index(n[0], n[1], n[2])];
        if (value == 0.0) continue;
        out += w.prod() * value;
        by += value * Vec3(sign.x() * w.y() * w.z(), w.x() * sign.y() * w.z(), w.x() * w.y() * sign.z());
    }
    slope = axes_.transpose() * by.cwiseQuotient(step_);
    return out;
}

double LayeredExcess::at(const Vec3& p) const {
    Vec3 slope;
    return at(p, slope);
}

} // namespace upright
