// How large elements are where.
#include "mesh/fitted/mesher.hpp"

namespace upright::fitting {

// The asked size, and less where the surface bends, curves are short, walls thin, or the user asks.
void FittedMesher::make_sizes(const std::vector<std::pair<Vec3, double>>& finer) {
    const double h = options_.size;
    const double least = options_.smallest * h;
    sizes_ = std::make_unique<SizeField>(box_, h, 0.5 * h);
    const auto ask = [&](const Vec3& p, double s) {
        if (s < h) sizes_->ask(p, std::max(s, least));
    };
    for (const auto& [distance, s] : options_.refine)
        sizes_->each([&, d = &distance, value = s](const Vec3& p) { return (*d)(p) <= 0.0 ? value : h; });
    const double turn = options_.curvature * pi / 180.0;
    for (const Patch& patch : patches_) {
        if (patch.radius <= 0.0 || patch.radius * turn >= h) continue;
        each_place(patch, [&](const Vec3& p, std::size_t /*t*/) { ask(p, patch.radius * turn); });
    }
    for (const Curve& c : curves_) {
        const double whole = c.closed ? c.length() / 5.0 : c.length();
        if (whole < h)
            for (double s = 0.0; s <= c.length(); s += 0.25 * h) ask(c.at(s), 0.9 * whole);
        // Its own bends.
        for (std::size_t i = 1; i + 1 < c.points.size(); ++i) {
            const Vec3 u = c.points[i] - c.points[i - 1];
            const Vec3 v = c.points[i + 1] - c.points[i];
            const double angle = std::acos(std::clamp(u.normalized().dot(v.normalized()), -1.0, 1.0));
            if (angle > 1e-6) ask(c.points[i], turn * 0.5 * (u.norm() + v.norm()) / angle);
        }
    }
    // Walls: a ray into the material on either side.
    std::vector<FacetTree::Hit> hits;
    for (const Patch& patch : patches_)
        each_place(patch, [&](const Vec3& p, std::size_t t) {
            const Vec3 n = normal(t);
            for (const int side : {0, 1}) {
                if (patch.regions[static_cast<std::size_t>(side)] < 0) continue;
                const Vec3 way = side == 0 ? Vec3(-n) : n;
                all_.crossings(p + 1e-6 * h * way, way, hits);
                double d = 1e300;
                for (const FacetTree::Hit& hit : hits) d = std::min(d, hit.along);
                if (d < h && d > 1e-3 * h) {
                    // Towards an edge a wedge is thin without being a wall: there the ray meets the other
                    // side at a slant.
                    for (const FacetTree::Hit& hit : hits)
                        if (hit.along == d &&
                            std::abs(normal(static_cast<std::size_t>(hit.triangle)).dot(n)) > 0.8)
                            ask(p, 0.9 * d);
                    thinnest_ = std::min(thinnest_, d);
                }
            }
        });
    for (const auto& [p, s] : finer) sizes_->ask(p, s);
    sizes_->limit(options_.gradient);
}

} // namespace upright::fitting
