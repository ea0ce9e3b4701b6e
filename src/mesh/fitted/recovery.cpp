// From places to tetrahedra whose faces cover the boundary.
#include "mesh/fitted/mesher.hpp"

namespace upright::fitting {

void FittedMesher::triangulate() {
    if (samples_.size() > 8000000)
        throw Error::numerics(fmt::format("the sizes asked for make {} points", samples_.size()),
                              "Write larger sizes");
    const Vec3 margin = Vec3::Constant(0.05 * box_.diagonal());
    delaunay_ = std::make_unique<Delaunay>(box_.low - margin, box_.high + margin);
    std::vector<Vec3> places;
    for (const Sample& s : samples_) places.push_back(s.p);
    const std::vector<std::int32_t> number = delaunay_->insert_all(places);
    sample_of_.assign(delaunay_->points(), -1);
    node_of_.assign(samples_.size(), -1);
    for (std::size_t i = 0; i < number.size(); ++i) {
        node_of_[i] = number[i];
        if (sample_of_[static_cast<std::size_t>(number[i])] < 0)
            sample_of_[static_cast<std::size_t>(number[i])] = static_cast<std::int32_t>(i);
    }
}

// Adds one more sample to samples, hash and triangulation.
std::int32_t FittedMesher::insert(const Vec3& p, On on, std::int32_t entity, double along,
                                  std::int32_t near) {
    const std::int32_t n = add(p, on, entity, along);
    const std::int32_t node = delaunay_->insert(p, near >= 0 ? node_of_[static_cast<std::size_t>(near)] : -1);
    node_of_.push_back(node);
    if (static_cast<std::size_t>(node) >= sample_of_.size())
        sample_of_.resize(static_cast<std::size_t>(node) + 1, -1);
    if (sample_of_[static_cast<std::size_t>(node)] < 0) sample_of_[static_cast<std::size_t>(node)] = n;
    return n;
}

void FittedMesher::patches_of(std::int32_t sample, std::vector<std::int32_t>& out) const {
    const Sample& s = samples_[static_cast<std::size_t>(sample)];
    out.clear();
    if (s.on == On::Patch) out.push_back(s.entity);
    if (s.on == On::Curve) out = curves_[static_cast<std::size_t>(s.entity)].patches;
    if (s.on == On::Corner) out = corner_patches_[static_cast<std::size_t>(s.entity)];
}

std::int32_t FittedMesher::label(const Delaunay::Tet& tet) const {
    std::array<std::int32_t, 4> s{};
    for (std::size_t i = 0; i < 4; ++i) {
        if (tet.node[i] < Delaunay::hull) return -1;
        s[i] = sample_of_[static_cast<std::size_t>(tet.node[i])];
    }
    for (const std::int32_t n : s)
        if (samples_[static_cast<std::size_t>(n)].on == On::Inside)
            return samples_[static_cast<std::size_t>(n)].entity;
    std::array<Vec3, 4> p;
    for (std::size_t i = 0; i < 4; ++i) p[i] = samples_[static_cast<std::size_t>(s[i])].p;
    const Vec3 center = 0.25 * (p[0] + p[1] + p[2] + p[3]);
    // A flat sliver on one patch goes to the lower region: random labels would make ragged skins.
    const std::vector<std::int32_t> common = common_patches(s);
    if (!common.empty()) {
        const double volume = (p[1] - p[0]).cross(p[2] - p[0]).dot(p[3] - p[0]) / 6.0;
        double longest = 0.0;
        for (std::size_t i = 0; i < 4; ++i)
            for (std::size_t j = 0; j < i; ++j) longest = std::max(longest, (p[i] - p[j]).norm());
        if (volume < 0.02 * longest * longest * longest) {
            const auto& r = patches_[static_cast<std::size_t>(common.front())].regions;
            return std::min(r[0], r[1]);
        }
    }
    return region_at(center);
}

// Splits segments that are no edges, until all are or are too short. Whether none was missing.
bool FittedMesher::split_segments() {
    bool clean = true;
    for (int inner = 0; inner < 10; ++inner) {
        std::vector<Segment> next;
        bool split = false;
        for (const Segment& s : segments_) {
            if (delaunay_->edge(node_of_[static_cast<std::size_t>(s.a)],
                                node_of_[static_cast<std::size_t>(s.b)])) {
                next.push_back(s);
                continue;
            }
            clean = false;
            const Curve& c = curves_[static_cast<std::size_t>(s.curve)];
            const double middle = 0.5 * (s.s_a + s.s_b);
            bad_places_.push_back(c.at(middle));
            if (s.s_b - s.s_a < 0.05 * options_.smallest * options_.size) {
                next.push_back(s);
                continue;
            }
            const std::int32_t n = insert(c.at(middle), On::Curve, s.curve, middle, s.a);
            next.push_back({s.curve, s.a, n, s.s_a, middle});
            next.push_back({s.curve, n, s.b, middle, s.s_b});
            split = true;
        }
        segments_ = std::move(next);
        if (!split) break;
    }
    return clean;
}

// Whether a face between two regions, of samples, lies on a patch between them.
bool FittedMesher::lies_on_patch(const std::array<std::int32_t, 3>& s, std::int32_t one,
                                 std::int32_t other) const {
    const auto at = [&](std::size_t j) -> const Vec3& { return samples_[static_cast<std::size_t>(s[j])].p; };
    const Vec3 center = (at(0) + at(1) + at(2)) / 3.0;
    const double longest = std::max({(at(0) - at(1)).norm(), (at(1) - at(2)).norm(), (at(2) - at(0)).norm()});
    for (const std::int32_t p : common_patches(s)) {
        const auto& r = patches_[static_cast<std::size_t>(p)].regions;
        if (!((r[0] == one && r[1] == other) || (r[1] == one && r[0] == other))) continue;
        if ((on_patch(p, center) - center).norm() < 0.25 * longest) return true;
    }
    return false;
}

// Faces between regions that lie on no patch: their middles, and a sample near by.
std::vector<std::pair<Vec3, std::int32_t>> FittedMesher::loose_faces() {
    std::vector<std::pair<Vec3, std::int32_t>> out;
    const auto& tets = delaunay_->tets();
    for (std::size_t t = 0; t < tets.size(); ++t) {
        if (!tets[t].alive || label_[t] < 0) continue;
        for (std::size_t i = 0; i < 4; ++i) {
            const std::int32_t next = tets[t].next[i];
            if (next < 0 || label_[static_cast<std::size_t>(next)] == label_[t]) continue;
            if (label_[static_cast<std::size_t>(next)] >= 0 && static_cast<std::size_t>(next) < t) continue;
            std::array<std::int32_t, 3> s{};
            std::size_t k = 0;
            for (std::size_t j = 0; j < 4; ++j)
                if (j != i)
                    s[k++] = tets[t].node[j] < Delaunay::hull
                                 ? -1
                                 : sample_of_[static_cast<std::size_t>(tets[t].node[j])];
            if (s[0] < 0 || s[1] < 0 || s[2] < 0) continue;
            if (lies_on_patch(s, label_[t], label_[static_cast<std::size_t>(next)])) continue;
            const auto at = [&](std::size_t n) -> const Vec3& {
                return samples_[static_cast<std::size_t>(s[n])].p;
            };
            const Vec3 center = (at(0) + at(1) + at(2)) / 3.0;
            bad_places_.push_back(center);
            out.emplace_back(center, s[0]);
        }
    }
    return out;
}

// Splits missing segments and mends faces between regions that lie on no patch. False where it gives up.
bool FittedMesher::refine() {
    for (int round = 0; round < refine_rounds; ++round) {
        bad_places_.clear();
        const bool whole = split_segments();
        label_all();
        const std::vector<std::pair<Vec3, std::int32_t>> wanted = loose_faces();
        if (whole && wanted.empty()) return true;
        std::size_t added = 0;
        for (const auto& [center, near] : wanted) {
            const FacetTree::Nearest hit = all_.nearest(center);
            const double h = size(center);
            const std::int32_t patch = patch_of_[static_cast<std::size_t>(hit.triangle)];
            // Where the place is next to a curve, the curve's segment there is split instead.
            if (!free_place(hit.place, 0.22 * h)) continue;
            if (split_near(hit.place, 0.25 * h)) {
                ++added;
                continue;
            }
            insert(hit.place, On::Patch, patch, 0.0, near);
            ++added;
        }
        if (added == 0) {
            // Everything wanted is too near to what is there: closer, once.
            for (const auto& [center, near] : wanted) {
                const FacetTree::Nearest hit = all_.nearest(center);
                if (!free_place(hit.place, 0.05 * size(center))) continue;
                insert(hit.place, On::Patch, patch_of_[static_cast<std::size_t>(hit.triangle)], 0.0, near);
                ++added;
            }
            if (added == 0 && wanted.empty() && round + 1 < refine_rounds) continue;
            if (added == 0) return false;
        }
    }
    return false;
}

bool FittedMesher::split_near(const Vec3& p, double reach) {
    for (std::size_t i = 0; i < segments_.size(); ++i) {
        const Segment s = segments_[i];
        const Vec3& a = samples_[static_cast<std::size_t>(s.a)].p;
        const Vec3& b = samples_[static_cast<std::size_t>(s.b)].p;
        if ((p - a).norm() > (b - a).norm() + reach) continue;
        const double t = std::clamp((p - a).dot(b - a) / (b - a).squaredNorm(), 0.0, 1.0);
        if (t < 0.2 || t > 0.8 || (p - a - t * (b - a)).norm() > reach) continue;
        const double along = s.s_a + t * (s.s_b - s.s_a);
        const std::int32_t n =
            insert(curves_[static_cast<std::size_t>(s.curve)].at(along), On::Curve, s.curve, along, s.a);
        segments_[i] = {s.curve, s.a, n, s.s_a, along};
        segments_.push_back({s.curve, n, s.b, along, s.s_b});
        return true;
    }
    return false;
}

[[noreturn]] void FittedMesher::fail() const {
    const Vec3 p = bad_places_.empty() ? box_.center() : bad_places_.front();
    throw Error::numerics(fmt::format("the shape cannot be meshed around ({:.5g}, {:.5g}, {:.5g}): {} "
                                      "places are left where faces touch at a cusp "
                                      "or walls are thinner than {:.3g} of the element size",
                                      p.x(), p.y(), p.z(), bad_places_.size(), options_.smallest),
                          "Blunt or fill the cusp, leave the feature out, or write a smaller size");
}

} // namespace upright::fitting
