// The Delaunay triangulation, node by node, and the chains that it has to hold.
#include "mesh/flat/mesher.hpp"

namespace upright::flat {

std::int32_t FlatMesher::add_node(const Vec2& p, bool border) {
    if (nodes_.size() > 10000000)
        throw Error::numerics("the sizes asked for make more than ten million points", "Write larger sizes");
    Node n;
    n.p = p;
    n.x = std::llround((p.x() - box_.low.x()) * scale_);
    n.y = std::llround((p.y() - box_.low.y()) * scale_);
    n.border = border;
    nodes_.push_back(n);
    return static_cast<std::int32_t>(nodes_.size()) - 1;
}

// Whether d lies in the circle through the corners of a triangle.
bool FlatMesher::in_circle(const Triangle& t, const Node& d) const {
    std::array<std::int64_t, 3> x{};
    std::array<std::int64_t, 3> y{};
    std::array<Wide, 3> w{};
    for (std::size_t i = 0; i < 3; ++i) {
        x[i] = node(t.v[i]).x - d.x;
        y[i] = node(t.v[i]).y - d.y;
        w[i] = static_cast<Wide>(x[i]) * x[i] + static_cast<Wide>(y[i]) * y[i];
    }
    Wide det = 0;
    for (std::size_t i = 0; i < 3; ++i) {
        const std::size_t j = (i + 1) % 3;
        const std::size_t k = (i + 2) % 3;
        det += w[i] * (static_cast<Wide>(x[j]) * y[k] - static_cast<Wide>(x[k]) * y[j]);
    }
    return det > 0;
}

// Two triangles over a square that holds everything.
void FlatMesher::start() {
    const Vec3 c = box_.center();
    const double r = 2.0 * std::max(box_.size().x(), box_.size().y());
    for (const auto& [sx, sy] : {std::pair{-1, -1}, std::pair{1, -1}, std::pair{1, 1}, std::pair{-1, 1}})
        add_node(Vec2(c.x() + sx * r, c.y() + sy * r), false);
    triangles_.push_back({{0, 1, 2}, {-1, 1, -1}, -1, true});
    triangles_.push_back({{0, 2, 3}, {-1, -1, 0}, -1, true});
}

// The triangle that holds a node, by walking; stops before a border where `kept_in`.
std::int32_t FlatMesher::locate(const Node& p, std::int32_t from, bool kept_in,
                                std::uint64_t* stopped) const {
    std::int32_t t = from;
    for (std::size_t steps = 0; steps < triangles_.size() + 10; ++steps) {
        bool moved = false;
        for (std::size_t k = 0; k < 3 && !moved; ++k) {
            const std::size_t i = (k + steps) % 3;
            const std::int32_t a = tri(t).v[(i + 1) % 3];
            const std::int32_t b = tri(t).v[(i + 2) % 3];
            if (turn(node(a), node(b), p) >= 0) continue;
            if (kept_in && is_border(a, b)) {
                *stopped = edge_key(a, b);
                return -1;
            }
            if (tri(t).beyond[i] < 0) return -1;
            t = tri(t).beyond[i];
            moved = true;
        }
        if (!moved) return t;
    }
    return t;
}

// The triangles whose circle holds a node, spread from `first` without crossing borders.
std::vector<std::int32_t> FlatMesher::cavity(const Node& p, std::vector<std::int32_t> first) {
    std::vector<std::int32_t> out = std::move(first);
    ++stamp_;
    mark_.resize(triangles_.size(), 0);
    for (const std::int32_t t : out) mark_[static_cast<std::size_t>(t)] = stamp_;
    for (std::size_t i = 0; i < out.size(); ++i)
        for (std::size_t k = 0; k < 3; ++k) {
            const std::int32_t other = tri(out[i]).beyond[k];
            if (other < 0 || mark_[static_cast<std::size_t>(other)] == stamp_) continue;
            if (is_border(tri(out[i]).v[(k + 1) % 3], tri(out[i]).v[(k + 2) % 3])) continue;
            if (!in_circle(tri(other), p)) continue;
            mark_[static_cast<std::size_t>(other)] = stamp_;
            out.push_back(other);
        }
    return out;
}

// Replaces a cavity by the fan around a node. False, with nothing changed, where the fan would fold.
bool FlatMesher::fill(std::int32_t n, const std::vector<std::int32_t>& hole) {
    struct Rim {
        std::int32_t a, b, beyond, region;
    };
    std::vector<Rim> rim;
    for (const std::int32_t t : hole)
        for (std::size_t k = 0; k < 3; ++k) {
            const std::int32_t other = tri(t).beyond[k];
            if (other >= 0 && mark_[static_cast<std::size_t>(other)] == stamp_) continue;
            rim.push_back({tri(t).v[(k + 1) % 3], tri(t).v[(k + 2) % 3], other, tri(t).region});
            if (turn(node(rim.back().a), node(rim.back().b), node(n)) <= 0) return false;
        }
    std::unordered_map<std::int32_t, std::int32_t> from; // first corner of a rim edge -> triangle
    std::unordered_map<std::int32_t, std::int32_t> to;
    for (const std::int32_t t : hole) tri(t).alive = false;
    std::vector<std::int32_t> fresh;
    for (const Rim& r : rim) {
        std::int32_t t = 0;
        if (!free_.empty()) {
            t = free_.back();
            free_.pop_back();
        } else {
            t = static_cast<std::int32_t>(triangles_.size());
            triangles_.emplace_back();
        }
        tri(t) = {{n, r.a, r.b}, {r.beyond, -1, -1}, r.region, true};
        if (r.beyond >= 0)
            for (std::size_t k = 0; k < 3; ++k)
                if (const std::int32_t v = tri(r.beyond).v[k]; v != r.a && v != r.b)
                    tri(r.beyond).beyond[k] = t;
        from[r.a] = t;
        to[r.b] = t;
        fresh.push_back(t);
    }
    for (const std::int32_t t : fresh) {
        tri(t).beyond[1] = from.at(tri(t).v[2]); // across the edge n to b
        tri(t).beyond[2] = to.at(tri(t).v[1]);
    }
    for (const std::int32_t t : hole) free_.push_back(t);
    last_ = fresh.front();
    fresh_ = std::move(fresh);
    return true;
}

// Puts a node anywhere, before there are borders to be kept.
void FlatMesher::insert_free(std::int32_t n) {
    std::uint64_t none = 0;
    const std::int32_t t = locate(node(n), last_, false, &none);
    if (t < 0) throw Error::numerics("a point lies outside of the plane");
    if (!fill(n, cavity(node(n), touching(t, n))))
        throw Error::numerics(
            fmt::format("two borders meet too closely at ({:.6g}, {:.6g})", node(n).p.x(), node(n).p.y()),
            "Move them apart, or join them");
}

// The triangle, and the ones across an edge on which the node lies.
std::vector<std::int32_t> FlatMesher::touching(std::int32_t t, std::int32_t n) const {
    std::vector<std::int32_t> out{t};
    for (std::size_t k = 0; k < 3; ++k)
        if (turn(node(tri(t).v[(k + 1) % 3]), node(tri(t).v[(k + 2) % 3]), node(n)) == 0 &&
            tri(t).beyond[k] >= 0)
            out.push_back(tri(t).beyond[k]);
    return out;
}

// Nodes on the chains at equal shares of length over size.
void FlatMesher::sample() {
    std::map<std::pair<std::int64_t, std::int64_t>, std::int32_t> known;
    const auto node_at = [&](const Vec2& p) {
        const std::int32_t n = add_node(p, true);
        const auto [at, fresh] = known.emplace(std::pair{node(n).x, node(n).y}, n);
        if (!fresh) {
            nodes_.pop_back();
            return at->second;
        }
        insert_free(n);
        return n;
    };
    for (std::size_t c = 0; c < chains_.size(); ++c) {
        const Chain& chain = chains_[c];
        if (kept()) {
            std::int32_t before = node_at(chain.points.front());
            for (std::size_t i = 1; i < chain.points.size(); ++i) {
                const std::int32_t n = node_at(chain.points[i]);
                if (n != before)
                    segments_.push_back(
                        {before, n, static_cast<std::int32_t>(c), chain.along[i - 1], chain.along[i]});
                before = n;
            }
            continue;
        }
        constexpr int fine = 400;
        const int steps = std::max(fine, static_cast<int>(chain.length() / options_.size * 40.0));
        std::vector<double> sum{0.0};
        for (int i = 0; i < steps; ++i)
            sum.push_back(sum.back() +
                          chain.length() / steps / size(chain.at(chain.length() * (i + 0.5) / steps)));
        const int count = std::max(chain.closed ? 6 : 1, static_cast<int>(std::lround(sum.back())));
        std::int32_t before = -1;
        double s_before = 0.0;
        std::int32_t first = -1;
        for (int i = 0; i <= count; ++i) {
            const double want = sum.back() * i / count;
            const auto it = std::lower_bound(sum.begin(), sum.end(), want);
            const auto k = std::clamp<std::ptrdiff_t>(it - sum.begin(), 1, steps);
            const double t =
                (want - sum[static_cast<std::size_t>(k) - 1]) /
                std::max(sum[static_cast<std::size_t>(k)] - sum[static_cast<std::size_t>(k) - 1], 1e-300);
            const double s = i == 0       ? 0.0
                             : i == count ? chain.length()
                                          : chain.length() * (static_cast<double>(k) - 1 + t) / steps;
            const std::int32_t n = i == count && chain.closed ? first : node_at(chain.at(s));
            if (i == 0) first = n;
            if (before >= 0 && before != n)
                segments_.push_back({before, n, static_cast<std::int32_t>(c), s_before, s});
            before = n;
            s_before = s;
        }
    }
}

// Borders that the triangulation lacks are halved until they are there.
void FlatMesher::recover() {
    for (int pass = 0; pass < 30; ++pass) {
        std::unordered_map<std::uint64_t, bool> edges;
        for (const Triangle& t : triangles_)
            if (t.alive)
                for (std::size_t k = 0; k < 3; ++k) edges[edge_key(t.v[k], t.v[(k + 1) % 3])] = true;
        bool whole = true;
        const std::size_t count = segments_.size();
        for (std::size_t i = 0; i < count; ++i) {
            const Segment s = segments_[i];
            if (edges.count(edge_key(s.a, s.b)) > 0) continue;
            whole = false;
            if (kept()) {
                const Vec2 at = 0.5 * (node(s.a).p + node(s.b).p);
                throw Error::numerics(
                    fmt::format("the border at ({:.6g}, {:.6g}) could not be kept as it is", at.x(), at.y()),
                    "Write a smaller size");
            }
            const double middle = 0.5 * (s.s_a + s.s_b);
            const std::int32_t n = add_node(chains_[static_cast<std::size_t>(s.chain)].at(middle), true);
            insert_free(n);
            segments_[i] = {s.a, n, s.chain, s.s_a, middle};
            segments_.push_back({n, s.b, s.chain, middle, s.s_b});
        }
        if (whole) {
            for (std::size_t i = 0; i < segments_.size(); ++i)
                border_[edge_key(segments_[i].a, segments_[i].b)] = i;
            return;
        }
    }
    throw Error::numerics("a border could not be followed", "Write a smaller size, or move borders apart");
}

// Halves a border. False where it is short already or the halves would fold.
bool FlatMesher::split(std::uint64_t key, double least) {
    if (kept()) return false;
    const std::size_t i = border_.at(key);
    const Segment s = segments_[i];
    if ((node(s.a).p - node(s.b).p).norm() < least) return false;
    const double middle = 0.5 * (s.s_a + s.s_b);
    const std::int32_t n = add_node(chains_[static_cast<std::size_t>(s.chain)].at(middle), true);
    // The triangles on either side of it.
    std::vector<std::int32_t> first;
    const std::int32_t t = triangle_at(s.a, s.b);
    if (t >= 0) {
        first.push_back(t);
        for (std::size_t k = 0; k < 3; ++k)
            if (tri(t).v[k] != s.a && tri(t).v[k] != s.b && tri(t).beyond[k] >= 0)
                first.push_back(tri(t).beyond[k]);
    }
    border_.erase(key);
    // Each side spreads on its own; what lies beyond the old edge is in the list already.
    if (first.size() < 2 || !fill(n, cavity(node(n), first))) {
        border_[key] = i;
        nodes_.pop_back();
        return false;
    }
    segments_[i] = {s.a, n, s.chain, s.s_a, middle};
    border_[edge_key(s.a, n)] = i;
    border_[edge_key(n, s.b)] = segments_.size();
    segments_.push_back({n, s.b, s.chain, middle, s.s_b});
    return true;
}

} // namespace upright::flat
