#include "mesh/locator.hpp"

#include <algorithm>
#include <cmath>

namespace upright {

ElementLocator::ElementLocator(const Mesh& mesh, double width) : mesh_(mesh), width_(width) {
    for (const Vec3& c : mesh.element_centers()) box_.include(c);
    const double most = std::max(8.0, 2.0 * static_cast<double>(mesh.elements()));
    const auto buckets = [&](int a) { return std::floor(box_.size()[a] / width_) + 1.0; };
    while (buckets(0) * buckets(1) * buckets(2) > most) width_ *= 1.3;
    for (int a = 0; a < 3; ++a) count_[static_cast<std::size_t>(a)] = static_cast<int>(buckets(a));
    lists_.resize(bucket(0, 0, count_[2]));
    for (std::size_t e = 0; e < mesh.elements(); ++e) {
        const auto at = place(mesh.center(e));
        lists_[bucket(at[0], at[1], at[2])].push_back(static_cast<ElementId>(e));
    }
}

std::array<int, 3> ElementLocator::place(const Vec3& p) const {
    std::array<int, 3> out{};
    for (std::size_t a = 0; a < 3; ++a) {
        const auto i = static_cast<Eigen::Index>(a);
        out[a] = static_cast<int>(
            std::clamp(std::floor((p[i] - box_.low[i]) / width_), 0.0, static_cast<double>(count_[a] - 1)));
    }
    return out;
}

std::size_t ElementLocator::bucket(int i, int j, int k) const {
    return (static_cast<std::size_t>(k) * static_cast<std::size_t>(count_[1]) + static_cast<std::size_t>(j)) *
               static_cast<std::size_t>(count_[0]) +
           static_cast<std::size_t>(i);
}

void ElementLocator::near(const Vec3& p, double radius,
                          const std::function<void(ElementId, double)>& visit) const {
    const auto low = place(p - Vec3::Constant(radius));
    const auto high = place(p + Vec3::Constant(radius));
    for (int k = low[2]; k <= high[2]; ++k)
        for (int j = low[1]; j <= high[1]; ++j)
            for (int i = low[0]; i <= high[0]; ++i)
                for (const ElementId e : lists_[bucket(i, j, k)])
                    if (const double d = (mesh_.center(e) - p).norm(); d <= radius) visit(e, d);
}

ElementId ElementLocator::nearest(const Vec3& p) const {
    ElementId out{0};
    for (double radius = width_;; radius *= 2.0) {
        double best = 1e300;
        near(p, radius, [&](ElementId e, double d) {
            if (d < best) {
                best = d;
                out = e;
            }
        });
        if (best < 1e300 || radius > 4.0 * (box_.diagonal() + (p - box_.center()).norm() + width_))
            return out;
    }
}

} // namespace upright
