// Places on curves, on patches and inside.
#include "mesh/fitted/mesher.hpp"

namespace upright::fitting {

namespace {
constexpr double leaf = 1.1;      // edge of a leaf whose elements are of size one
constexpr double most_leaf = 1.4; // sizes that a leaf may have
} // namespace

void FittedMesher::sample_curves() {
    near_ = std::make_unique<SampleTree>(options_.size);
    for (std::size_t c = 0; c < corners_.size(); ++c)
        add(corners_[c], On::Corner, static_cast<std::int32_t>(c));
    for (std::size_t k = 0; k < curves_.size(); ++k) {
        const Curve& c = curves_[k];
        // Equal steps of the integral of ds / h.
        double least = options_.size;
        const int looks = std::clamp(static_cast<int>(c.length() / options_.size * 8.0), 32, 4000);
        for (int i = 0; i <= looks; ++i) least = std::min(least, size(c.at(c.length() * i / looks)));
        const int fine = std::clamp(static_cast<int>(8.0 * c.length() / least), 16, 20000);
        std::vector<double> sum{0.0};
        for (int i = 0; i < fine; ++i)
            sum.push_back(sum.back() + c.length() / fine / size(c.at(c.length() * (i + 0.5) / fine)));
        const int n = std::max(c.closed ? 4 : 1, static_cast<int>(std::lround(sum.back())));
        std::int32_t previous =
            c.closed ? add(c.at(0.0), On::Curve, static_cast<std::int32_t>(k), 0.0) : c.ends[0];
        const std::int32_t first = previous;
        double s_previous = 0.0;
        std::size_t at = 0;
        for (int i = 1; i <= n; ++i) {
            const double wanted = sum.back() * i / n;
            while (at + 2 < sum.size() && sum[at + 1] < wanted) ++at;
            const double t =
                std::clamp((wanted - sum[at]) / std::max(sum[at + 1] - sum[at], 1e-300), 0.0, 1.0);
            const double s = i == n ? c.length() : c.length() * (static_cast<double>(at) + t) / fine;
            const std::int32_t next = i < n      ? add(c.at(s), On::Curve, static_cast<std::int32_t>(k), s)
                                      : c.closed ? first
                                                 : c.ends[1];
            segments_.push_back({static_cast<std::int32_t>(k), previous, next, s_previous, s});
            previous = next;
            s_previous = s;
        }
    }
    // No other sample inside a segment's diametral ball: then every segment is a Delaunay edge.
    for (int round = 0; round < 8; ++round) {
        std::vector<Segment> next;
        bool split = false;
        for (const Segment& s : segments_) {
            if (encroached(s) && split_segment(s, next))
                split = true;
            else
                next.push_back(s);
        }
        segments_ = std::move(next);
        if (!split) break;
    }
}

bool FittedMesher::encroached(const Segment& s) const {
    const Vec3& a = samples_[static_cast<std::size_t>(s.a)].p;
    const Vec3& b = samples_[static_cast<std::size_t>(s.b)].p;
    const Vec3 middle = 0.5 * (a + b);
    const double r2 = 0.25 * (b - a).squaredNorm();
    bool out = false;
    near_->near(middle, std::sqrt(r2), [&](std::int32_t n) {
        if (n != s.a && n != s.b &&
            (samples_[static_cast<std::size_t>(n)].p - middle).squaredNorm() < r2 * (1 - 1e-9))
            out = true;
        return !out;
    });
    return out;
}

bool FittedMesher::split_segment(const Segment& s, std::vector<Segment>& out) {
    const Curve& c = curves_[static_cast<std::size_t>(s.curve)];
    const double middle = 0.5 * (s.s_a + s.s_b);
    if (s.s_b - s.s_a < std::max(0.2 * floor_, 0.25 * size(c.at(middle)))) return false;
    const std::int32_t n = add(c.at(middle), On::Curve, s.curve, middle);
    out.push_back({s.curve, s.a, n, s.s_a, middle});
    out.push_back({s.curve, n, s.b, middle, s.s_b});
    return true;
}

bool FittedMesher::free_place(const Vec3& p, double radius) const {
    bool free = true;
    near_->near(p, radius, [&](std::int32_t n) {
        free = (samples_[static_cast<std::size_t>(n)].p - p).squaredNorm() >= radius * radius;
        return free;
    });
    return free;
}

// Darts at 0.78 of the size, then a few steps of mutual repulsion on each patch.
void FittedMesher::sample_patches() {
    const double spacing = 0.78;
    const std::size_t fixed = samples_.size();
    segments_at_.assign(samples_.size(), {});
    for (std::size_t s = 0; s < segments_.size(); ++s)
        for (const std::int32_t end : {segments_[s].a, segments_[s].b})
            segments_at_[static_cast<std::size_t>(end)].push_back(s);
    for (std::size_t k = 0; k < patches_.size(); ++k) {
        const Patch& patch = patches_[k];
        std::vector<double> sum{0.0};
        for (const std::size_t t : patch.triangles) {
            const double h = size((corner(t, 0) + corner(t, 1) + corner(t, 2)) / 3.0);
            sum.push_back(sum.back() + area(t) / (h * h));
        }
        mirror(static_cast<std::int32_t>(k));
        std::uniform_real_distribution<double> uniform(0.0, 1.0);
        const auto tries = static_cast<std::size_t>(30.0 * sum.back()) + 20;
        for (std::size_t i = 0; i < tries; ++i) {
            const double wanted = uniform(random_) * sum.back();
            const auto at =
                static_cast<std::size_t>(std::upper_bound(sum.begin(), sum.end(), wanted) - sum.begin());
            const std::size_t t = patch.triangles[std::min(at, patch.triangles.size()) - 1];
            double u = uniform(random_);
            double v = uniform(random_);
            if (u + v > 1) {
                u = 1 - u;
                v = 1 - v;
            }
            const Vec3 p =
                corner(t, 0) + u * (corner(t, 1) - corner(t, 0)) + v * (corner(t, 2) - corner(t, 0));
            if (free_place(p, spacing * size(p)) && clear_of_curves(p))
                add(p, On::Patch, static_cast<std::int32_t>(k));
        }
    }
    repel(fixed);
}

// Not so near to a curve's segment that the face between would be flat.
bool FittedMesher::clear_of_curves(const Vec3& p) const {
    bool clear = true;
    const double h = size(p);
    near_->near(p, 1.2 * h, [&](std::int32_t n) {
        if (static_cast<std::size_t>(n) >= segments_at_.size()) return true; // of a patch
        for (const std::size_t s : segments_at_[static_cast<std::size_t>(n)]) {
            const Vec3& a = samples_[static_cast<std::size_t>(segments_[s].a)].p;
            const Vec3& b = samples_[static_cast<std::size_t>(segments_[s].b)].p;
            const double t = std::clamp((p - a).dot(b - a) / (b - a).squaredNorm(), 0.0, 1.0);
            if ((p - a - t * (b - a)).norm() < 0.5 * std::min(h, (b - a).norm())) clear = false;
        }
        return clear;
    });
    return clear;
}

// Copies samples of an opposite patch that lies nearer than 0.6 of the size, so that thin walls match.
void FittedMesher::mirror(std::int32_t k) {
    const Patch& patch = patches_[static_cast<std::size_t>(k)];
    Bounds box;
    for (const std::size_t t : patch.triangles)
        for (std::size_t i = 0; i < 3; ++i) box.include(corner(t, i));
    std::vector<std::int32_t> opposite;
    const Vec3 reach = Vec3::Constant(0.7 * options_.size);
    near_->in(box.low - reach, box.high + reach, [&](std::int32_t n) {
        const Sample& s = samples_[static_cast<std::size_t>(n)];
        if (s.on == On::Patch && s.entity != k && box.holds(s.p, 0.7 * size(s.p))) opposite.push_back(n);
        return true;
    });
    std::sort(opposite.begin(), opposite.end());
    for (const std::int32_t n : opposite) {
        const Sample s = samples_[static_cast<std::size_t>(n)];
        const double h = size(s.p);
        const FacetTree::Nearest near = patch.tree.nearest(s.p, 0.7 * h);
        if (near.triangle < 0 || near.distance < 1e-3 * h) continue;
        const auto& c = patch.tree.corners()[static_cast<std::size_t>(near.triangle)];
        const Vec3 facing = (c[1] - c[0]).cross(c[2] - c[0]).normalized();
        if (std::abs(facing.dot((s.p - near.place).normalized())) < 0.95) continue;
        if (free_place(near.place, 0.6 * std::min(h, near.distance)) && clear_of_curves(near.place))
            samples_[static_cast<std::size_t>(add(near.place, On::Patch, k))].partner = n;
    }
}

// Samples push each other apart on their patches; images go where what they are the images of goes.
void FittedMesher::repel(std::size_t fixed) {
    for (int step = 0; step < 8; ++step) {
        std::vector<Vec3> moved(samples_.size());
        for (std::size_t n = fixed; n < samples_.size(); ++n) {
            const Sample& s = samples_[n];
            Vec3 to = s.p;
            if (s.partner >= 0) {
                to = moved[static_cast<std::size_t>(s.partner)];
            } else {
                const double h = size(s.p);
                Vec3 push = Vec3::Zero();
                near_->near(s.p, 1.1 * h, [&](std::int32_t o) {
                    const Sample& other = samples_[static_cast<std::size_t>(o)];
                    if (static_cast<std::size_t>(o) == n || other.partner == static_cast<std::int32_t>(n))
                        return true;
                    const Vec3 d = s.p - other.p;
                    const double r = d.norm() / h;
                    if (r < 1.05 && r > 1e-9) push += d / (r * h) * (1.05 - r) * h;
                    return true;
                });
                to += 0.25 * push;
                if ((to - s.p).norm() > 0.2 * h) to = s.p + 0.2 * h * (to - s.p).normalized();
            }
            const Vec3 onto = on_patch(s.entity, to);
            moved[n] = clear_of_curves(onto) ? onto : s.p;
        }
        near_ = std::make_unique<SampleTree>(options_.size);
        for (std::size_t n = 0; n < samples_.size(); ++n) {
            if (n >= fixed) samples_[n].p = moved[n];
            near_->add(static_cast<std::int32_t>(n), samples_[n].p, size(samples_[n].p));
        }
    }
}

// The region at a place, by the first crossing of a ray.
std::int32_t FittedMesher::region_at(const Vec3& p) const {
    static const std::array<Vec3, 6> ways{Vec3(0.5773, 0.4127, 0.7045),   Vec3(-0.3317, 0.8713, -0.3619),
                                          Vec3(0.7919, -0.2533, -0.5557), Vec3(-0.6151, -0.5021, 0.6079),
                                          Vec3(0.1237, 0.9231, 0.3643),   Vec3(-0.4111, 0.1733, 0.8951)};
    thread_local std::vector<FacetTree::Hit> hits;
    std::int32_t last = -1;
    for (const Vec3& way : ways) {
        all_.crossings(p, way, hits);
        const FacetTree::Hit* first = nullptr;
        for (const FacetTree::Hit& h : hits)
            if (first == nullptr || h.along < first->along) first = &h;
        if (first == nullptr) return -1;
        const auto t = static_cast<std::size_t>(first->triangle);
        last = in_.regions[t][normal(t).dot(way) > 0 ? 0 : 1];
        bool doubtful = first->doubtful;
        // Two crossings in the same place: an edge between faces.
        for (const FacetTree::Hit& h : hits)
            doubtful = doubtful || (&h != first && std::abs(h.along - first->along) < 1e-9 * options_.size);
        if (!doubtful) return last;
    }
    return last;
}

// A body-centred lattice on the leaves of an octree graded by the size field. Leaves are 0.7 to 1.4 of the
// size asked: their elements have it on the mean (halved from 1.2 on they took twice as many).
void FittedMesher::sample_inside() {
    const double root = 1.001 * box_.size().maxCoeff() + 2.0 * options_.size * shift_.cwiseAbs().maxCoeff();
    const Vec3 low = box_.center() - Vec3::Constant(0.5 * root) + options_.size * shift_;
    // The root is a whole number of leaves of the largest size.
    int top = 0;
    double edge = leaf * options_.size;
    while (edge * (1 << top) < root) ++top;
    edge *= 1 << top;
    std::unordered_set<std::uint64_t> done;
    std::uniform_real_distribution<double> jitter(-0.02, 0.02);
    const auto place = [&](const Vec3& p, double h) {
        const std::array<std::int64_t, 3> q{std::llround((p.x() - low.x()) / edge * (1 << 20)),
                                            std::llround((p.y() - low.y()) / edge * (1 << 20)),
                                            std::llround((p.z() - low.z()) / edge * (1 << 20))};
        const std::uint64_t key = (static_cast<std::uint64_t>(q[0]) << 42U) ^
                                  (static_cast<std::uint64_t>(q[1]) << 21U) ^
                                  static_cast<std::uint64_t>(q[2]);
        if (!done.insert(key).second) return;
        if (!box_.holds(p, 0.0)) return;
        if (all_.nearest(p, 0.55 * h).triangle >= 0) return;
        const std::int32_t region = region_at(p);
        if (region < 0) return;
        samples_.push_back(
            {p + h * Vec3(jitter(random_), jitter(random_), jitter(random_)), On::Inside, region, 0.0, -1});
    };
    const std::function<void(const Vec3&, double)> visit = [&](const Vec3& at, double w) {
        if ((at.array() > box_.high.array()).any() ||
            ((at + Vec3::Constant(w)).array() < box_.low.array()).any())
            return;
        const Vec3 middle = at + Vec3::Constant(0.5 * w);
        // The least size in it, as far as nine looks tell; too large whatever the field says above 1.3 sizes.
        double h = w > 1.3 * options_.size ? 0.0 : size(middle);
        for (int c = 0; c < 8 && h > 0.0 && least_size_ < 0.999 * options_.smallest * options_.size &&
                        w > leaf * most_leaf * least_size_;
             ++c)
            h = std::min(h,
                         size(middle + 0.45 * w * Vec3((c & 1) - 0.5, ((c >> 1) & 1) - 0.5, (c >> 2) - 0.5)));
        if (w > leaf * most_leaf * h) {
            for (int c = 0; c < 8; ++c) visit(at + 0.5 * w * Vec3(c & 1, (c >> 1) & 1, c >> 2), 0.5 * w);
            return;
        }
        const double local = w / leaf;
        for (int c = 0; c < 8; ++c) place(at + w * Vec3(c & 1, (c >> 1) & 1, c >> 2), local);
        place(middle, local);
    };
    visit(low, edge);
}

} // namespace upright::fitting
