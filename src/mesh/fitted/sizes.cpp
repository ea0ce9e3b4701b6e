// How large elements are where.
#include "mesh/fitted/mesher.hpp"

namespace upright::fitting {

namespace {
// What walls and short curves may cost: samples on the surface, or so many times those of a mesh that does
// not heed them.
constexpr double most_samples = 6000.0;
constexpr double most_times = 2.0;
} // namespace

// What the shape itself asks: where the surface bends, curves are short, walls thin.
void FittedMesher::find_asks() {
    const double h = options_.size;
    const auto ask = [&](const Vec3& p, double s, bool thin) {
        if (s < h) asks_.push_back({p, s, thin});
    };
    const double turn = options_.curvature * pi / 180.0;
    for (const Patch& patch : patches_) {
        if (patch.radius <= 0.0 || patch.radius * turn >= h) continue;
        // Small fillets and grooves are not turned as finely as asked, but still by two elements a quarter.
        const double asked = patch.radius * turn;
        const double coarse = std::max(asked, std::min(options_.smallest * h, 0.7 * patch.radius));
        each_place(patch, [&](const Vec3& p, std::size_t /*t*/) { ask(p, coarse, true); });
    }
    for (const Curve& c : curves_) {
        const double whole = c.closed ? c.length() / 5.0 : c.length();
        if (whole < h)
            for (double s = 0.0; s <= c.length(); s += 0.25 * h) ask(c.at(s), 0.9 * whole, true);
        // Its own bends.
        for (std::size_t i = 1; i + 1 < c.points.size(); ++i) {
            const Vec3 u = c.points[i] - c.points[i - 1];
            const Vec3 v = c.points[i + 1] - c.points[i];
            const double angle = std::acos(std::clamp(u.normalized().dot(v.normalized()), -1.0, 1.0));
            if (angle > 1e-6) ask(c.points[i], turn * 0.5 * (u.norm() + v.norm()) / angle, false);
        }
    }
    // Walls: a ray into the material on either side.
    std::vector<FacetTree::Hit> hits;
    for (const Patch& patch : patches_)
        each_place(patch, [&](const Vec3& p, std::size_t t) {
            const Vec3 n = normal(t);
            for (const int side : {0, 1}) {
                const bool material = patch.regions[static_cast<std::size_t>(side)] >= 0;
                const Vec3 way = side == 0 ? Vec3(-n) : n;
                all_.crossings(p + 1e-6 * h * way, way, hits);
                double d = 1e300;
                for (const FacetTree::Hit& hit : hits) d = std::min(d, hit.along);
                if (!material && d <= options_.gap * h) require_no_hair(p, way, hits, patch);
                if (d >= (material ? 1.0 : 0.5) * h || d <= 1e-3 * h) continue;
                // Towards an edge a wedge is thin without being a wall: there the ray meets the other side at
                // a slant. A gap that narrows to an edge is filled by no size at all.
                for (const FacetTree::Hit& hit : hits) {
                    if (hit.along != d || std::abs(normal(static_cast<std::size_t>(hit.triangle)).dot(n)) <=
                                              (material ? 0.8 : 0.98))
                        continue;
                    ask(p, (material ? 0.9 : 1.2) * d, true);
                    if (material && d < thinnest_) {
                        thinnest_ = d;
                        thinnest_at_ = p;
                    }
                }
            }
        });
}

// Two regions a hair apart would be meshed as two, and hold nothing together: that is never meant.
void FittedMesher::require_no_hair(const Vec3& p, const Vec3& way, const std::vector<FacetTree::Hit>& hits,
                                   const Patch& patch) const {
    // Faces that meet at a cusp do touch.
    for (const Wedge& w : wedges_)
        if ((p - w.place).norm() < 0.5 * w.length + options_.size) return;
    const std::int32_t region = std::max(patch.regions[0], patch.regions[1]);
    for (const FacetTree::Hit& hit : hits) {
        if (hit.along > options_.gap * options_.size) continue;
        const auto t = static_cast<std::size_t>(hit.triangle);
        const std::int32_t beyond = in_.regions[t][normal(t).dot(way) > 0.0 ? 1 : 0];
        if (beyond < 0 || beyond == region || std::abs(normal(t).dot(way)) < 0.8) continue;
        const auto name = [&](std::int32_t r) {
            const auto at = static_cast<std::size_t>(r);
            return at < options_.region_names.size() ? options_.region_names[at] : fmt::format("{}", r);
        };
        throw Error::numerics(
            fmt::format(
                "the regions \"{}\" and \"{}\" are {:.2g} apart at ({:.5g}, {:.5g}, {:.5g}), where they "
                "seem to be meant to touch",
                name(region), name(beyond), hit.along + 1e-6 * options_.size, p.x(), p.y(), p.z()),
            "Move one so that they touch, or leave a gap that elements can see");
    }
}

// About how many samples the surface takes with these sizes.
double FittedMesher::surface_samples() {
    double out = 0.0;
    for (const Patch& patch : patches_) {
        double sum = 0.0;
        double places = 0.0;
        each_place(patch, [&](const Vec3& p, std::size_t /*t*/) {
            const double s = size(p);
            sum += 1.0 / (s * s);
            places += 1.0;
        });
        out += 1.3 * patch.area * sum / std::max(places, 1.0);
    }
    return out;
}

void FittedMesher::fill_sizes(const std::vector<std::pair<Vec3, double>>& finer) {
    const double h = options_.size;
    const double least = options_.smallest * h;
    sizes_ = std::make_unique<SizeField>(box_, h, 0.5 * h);
    for (const auto& [distance, s] : options_.refine)
        sizes_->each([&, d = &distance, value = s](const Vec3& p) { return (*d)(p) <= 0.0 ? value : h; });
    for (const Ask& ask : asks_) sizes_->ask(ask.p, std::max(ask.size, ask.thin ? floor_ : least));
    for (const auto& [p, s] : finer) sizes_->ask(p, std::max(s, floor_));
    sizes_->limit(options_.gradient);
    least_size_ = sizes_->smallest();
}

void FittedMesher::make_sizes(const std::vector<std::pair<Vec3, double>>& finer) {
    const double h = options_.size;
    const double least = options_.smallest * h;
    if (sizes_ == nullptr) {
        find_asks();
        floor_ = least;
        double thin = least;
        for (const Ask& ask : asks_)
            if (ask.thin) thin = std::min(thin, ask.size);
        const double lowest = std::max(thin, options_.thinnest * h);
        if (lowest < least) {
            // Walls and short curves get elements of their size as far as that can be paid.
            fill_sizes({});
            const double most = std::max(most_samples, most_times * surface_samples());
            floor_ = lowest;
            fill_sizes({});
            while (floor_ < least && surface_samples() > most) {
                floor_ = std::min(least, 2.0 * floor_);
                fill_sizes({});
            }
            return; // the first attempt knows of no finer places
        }
    }
    fill_sizes(finer);
}

} // namespace upright::fitting
