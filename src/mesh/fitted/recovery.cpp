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

// Puts a sample on a segment, which becomes two.
void FittedMesher::split_segment_at(std::size_t segment, double along) {
    const Segment s = segments_[segment];
    const std::int32_t n =
        insert(curves_[static_cast<std::size_t>(s.curve)].at(along), On::Curve, s.curve, along, s.a);
    segments_at_.resize(samples_.size());
    segments_[segment] = {s.curve, s.a, n, s.s_a, along};
    std::vector<std::size_t>& at_end = segments_at_[static_cast<std::size_t>(s.b)];
    *std::find(at_end.begin(), at_end.end(), segment) = segments_.size();
    segments_at_[static_cast<std::size_t>(n)] = {segment, segments_.size()};
    segments_.push_back({s.curve, n, s.b, along, s.s_b});
}

// Splits segments that are no edges, until all are or are too short. Whether none was missing.
bool FittedMesher::split_segments() {
    bool clean = true;
    for (int inner = 0; inner < 10; ++inner) {
        bool split = false;
        const std::size_t count = segments_.size();
        for (std::size_t i = 0; i < count; ++i) {
            const Segment s = segments_[i];
            if (delaunay_->edge(node_of_[static_cast<std::size_t>(s.a)],
                                node_of_[static_cast<std::size_t>(s.b)]))
                continue;
            clean = false;
            const Curve& c = curves_[static_cast<std::size_t>(s.curve)];
            const double middle = 0.5 * (s.s_a + s.s_b);
            bad_places_.push_back(c.at(middle));
            if (s.s_b - s.s_a < std::max(0.05 * floor_, 0.12 * size(bad_places_.back()))) continue;
            split_segment_at(i, middle);
            split = true;
        }
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
    segments_at_.resize(samples_.size());
    std::size_t fewest = std::numeric_limits<std::size_t>::max();
    int idle = 0;
    for (int round = 0; round < refine_rounds; ++round) {
        bad_places_.clear();
        const bool whole = split_segments();
        label_all();
        const std::vector<std::pair<Vec3, std::int32_t>> wanted = loose_faces();
        if (whole && wanted.empty()) return true;
        idle = bad_places_.size() < fewest ? 0 : idle + 1;
        fewest = std::min(fewest, bad_places_.size());
        if (idle >= 4) return false;
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
    std::size_t found = segments_.size();
    double along = 0.0;
    near_->near(p, reach + 2.0 * size(p), [&](std::int32_t n) {
        if (static_cast<std::size_t>(n) >= segments_at_.size()) return true;
        for (const std::size_t i : segments_at_[static_cast<std::size_t>(n)]) {
            const Segment& s = segments_[i];
            const Vec3& a = samples_[static_cast<std::size_t>(s.a)].p;
            const Vec3& b = samples_[static_cast<std::size_t>(s.b)].p;
            const double t = std::clamp((p - a).dot(b - a) / (b - a).squaredNorm(), 0.0, 1.0);
            if (t < 0.2 || t > 0.8 || (p - a - t * (b - a)).norm() > reach) continue;
            found = i;
            along = s.s_a + t * (s.s_b - s.s_a);
            return false;
        }
        return true;
    });
    if (found == segments_.size()) return false;
    split_segment_at(found, along);
    return true;
}

// Takes what is not covered as it is, without scraps that hang on by an edge or not at all.
void FittedMesher::accept() {
    accepted_ = true;
    label_all();
    const auto& tets = delaunay_->tets();
    std::vector<std::int32_t> piece(tets.size(), -1);
    struct Piece {
        double volume = 0.0;
        double scrap = 0.0; // less than this is less than half a tetrahedron
        bool inner = false; // holds a sample inside
    };
    std::vector<Piece> pieces;
    std::vector<std::int32_t> stack;
    for (std::size_t seed = 0; seed < tets.size(); ++seed) {
        if (!tets[seed].alive || label_[seed] < 0 || piece[seed] >= 0) continue;
        const auto number = static_cast<std::int32_t>(pieces.size());
        pieces.emplace_back();
        piece[seed] = number;
        stack.push_back(static_cast<std::int32_t>(seed));
        while (!stack.empty()) {
            const auto t = static_cast<std::size_t>(stack.back());
            stack.pop_back();
            std::array<Vec3, 4> p;
            for (std::size_t i = 0; i < 4; ++i) {
                const Sample& s =
                    samples_[static_cast<std::size_t>(sample_of_[static_cast<std::size_t>(tets[t].node[i])])];
                p[i] = s.p;
                pieces.back().inner = pieces.back().inner || s.on == On::Inside;
            }
            pieces.back().scrap = 0.05 * std::pow(size(p[0]), 3);
            pieces.back().volume += (p[1] - p[0]).cross(p[2] - p[0]).dot(p[3] - p[0]) / 6.0;
            for (const std::int32_t next : tets[t].next) {
                if (next < 0 || label_[static_cast<std::size_t>(next)] < 0 ||
                    !tets[static_cast<std::size_t>(next)].alive || piece[static_cast<std::size_t>(next)] >= 0)
                    continue;
                piece[static_cast<std::size_t>(next)] = number;
                stack.push_back(next);
            }
        }
    }
    for (std::size_t t = 0; t < tets.size(); ++t) {
        if (piece[t] < 0) continue;
        const Piece& p = pieces[static_cast<std::size_t>(piece[t])];
        if (!p.inner && p.volume < p.scrap) label_[t] = -1;
    }
}

[[noreturn]] void FittedMesher::fail() const {
    const Vec3 p = bad_places_.empty() ? box_.center() : bad_places_.front();
    throw Error::numerics(
        fmt::format("the shape cannot be meshed around ({:.5g}, {:.5g}, {:.5g}), where faces "
                    "cross or touch, or walls are thinner than {:.3g}",
                    p.x(), p.y(), p.z(), floor_),
        "Look at the body there with \"upright inspect\", leave the feature out, or write a "
        "smaller size");
}

} // namespace upright::fitting
