// From chains to triangles: sizes, refinement, what is handed over.
#include "mesh/flat/mesher.hpp"

namespace upright::flat {

// Of a triangle on a border that is kept, against its length or the size.
constexpr double least_height = 0.35;

FlatTriangles FlatMesher::run() {
    read_chains();
    make_sizes();
    start();
    sample();
    recover();
    label();
    refine();
    smooth();
    return collect();
}

// Borders: edges of the input with unlike regions on their sides, chained from corner to corner.
void FlatMesher::read_chains() {
    for (const std::vector<Vec2>& points : in_.kept_borders) {
        Chain chain;
        chain.points = points;
        chain.closed = points.front() == points.back();
        chain.along = {0.0};
        for (std::size_t i = 1; i < points.size(); ++i)
            chain.along.push_back(chain.along.back() + (points[i] - points[i - 1]).norm());
        chains_.push_back(std::move(chain));
    }
    if (!chains_.empty()) return;
    struct Sides {
        std::array<std::int32_t, 2> ends{};
        std::int32_t left = -1, right = -1;
    };
    std::map<std::uint64_t, Sides> sides;
    for (std::size_t t = 0; t < in_.triangles.size(); ++t)
        for (std::size_t i = 0; i < 3; ++i) {
            const std::int32_t a = in_.triangles[t][i];
            const std::int32_t b = in_.triangles[t][(i + 1) % 3];
            Sides& s = sides[edge_key(a, b)];
            s.ends = {std::min(a, b), std::max(a, b)};
            (a < b ? s.left : s.right) = in_.region[t];
        }
    std::map<std::int32_t, std::vector<std::int32_t>> next;
    for (const auto& [key, s] : sides) {
        if (s.left == s.right) continue;
        next[s.ends[0]].push_back(s.ends[1]);
        next[s.ends[1]].push_back(s.ends[0]);
    }
    const auto point = [&](std::int32_t i) -> const Vec2& { return in_.points[static_cast<std::size_t>(i)]; };
    const auto corner = [&](std::int32_t i) {
        const auto& list = next.at(i);
        if (list.size() != 2) return true;
        const Vec2 u = (point(i) - point(list[0])).normalized();
        const Vec2 v = (point(list[1]) - point(i)).normalized();
        return u.dot(v) < std::cos(20.0 * pi / 180.0);
    };
    std::map<std::uint64_t, bool> used;
    const auto walk = [&](std::int32_t from, std::int32_t to, bool closed) {
        Chain chain;
        chain.closed = closed;
        chain.points = {point(from)};
        chain.along = {0.0};
        std::int32_t before = from;
        std::int32_t here = to;
        for (;;) {
            used[edge_key(before, here)] = true;
            chain.along.push_back(chain.along.back() + (point(here) - point(before)).norm());
            chain.points.push_back(point(here));
            if (here == from || (!closed && corner(here))) break;
            const auto& list = next.at(here);
            const std::int32_t onward = list[0] == before ? list[1] : list[0];
            before = here;
            here = onward;
        }
        chains_.push_back(std::move(chain));
    };
    for (const auto& [i, list] : next)
        if (corner(i))
            for (const std::int32_t to : list)
                if (!used[edge_key(i, to)]) walk(i, to, false);
    for (const auto& [i, list] : next)
        for (const std::int32_t to : list)
            if (!used[edge_key(i, to)]) walk(i, to, true);
    if (chains_.empty()) throw Error::numerics("nothing has a border to mesh");
}

void FlatMesher::make_sizes() {
    const double h = options_.size;
    const double least = options_.smallest * h;
    sizes_ = std::make_unique<SizeField>(box_, h, 0.5 * h);
    const auto ask = [&](const Vec2& p, double s) {
        if (s < h) sizes_->ask(Vec3(p.x(), p.y(), 0.0), std::max(s, least));
    };
    for (const auto& [distance, s] : options_.refine)
        sizes_->each([&, d = &distance, value = s](const Vec3& p) { return (*d)(p) <= 0.0 ? value : h; });
    const double turn = options_.curvature * pi / 180.0;
    for (const Chain& c : chains_) {
        if (kept()) {
            for (std::size_t i = 1; i < c.points.size(); ++i)
                ask(0.5 * (c.points[i - 1] + c.points[i]), c.along[i] - c.along[i - 1]);
            continue;
        }
        const double whole = c.closed ? c.length() / 6.0 : c.length();
        if (whole < h) {
            const int n = static_cast<int>(std::ceil(c.length() / (0.25 * h))) + 1;
            for (int i = 0; i <= n; ++i) ask(c.at(c.length() * i / n), whole);
        }
        for (std::size_t i = 1; i + 1 < c.points.size(); ++i) {
            const Vec2 u = c.points[i] - c.points[i - 1];
            const Vec2 v = c.points[i + 1] - c.points[i];
            const double angle = std::abs(std::atan2(cross(u, v), u.dot(v)));
            if (angle > 1e-6) ask(c.points[i], turn * 0.5 * (u.norm() + v.norm()) / angle);
        }
    }
    if (!kept()) thin_places(ask);
    sizes_->limit(options_.gradient);
}

// The region of each stretch between borders: that of the input at the middle of its largest triangle.
void FlatMesher::label() {
    std::vector<int> part(triangles_.size(), -1);
    for (std::size_t seed = 0; seed < triangles_.size(); ++seed) {
        if (!triangles_[seed].alive || part[seed] >= 0) continue;
        std::vector<std::int32_t> list{static_cast<std::int32_t>(seed)};
        part[seed] = static_cast<int>(seed);
        std::int32_t largest = list.front();
        std::int64_t most = 0;
        for (std::size_t i = 0; i < list.size(); ++i) {
            const Triangle& t = tri(list[i]);
            if (const std::int64_t area = turn(node(t.v[0]), node(t.v[1]), node(t.v[2])); area > most) {
                most = area;
                largest = list[i];
            }
            for (std::size_t k = 0; k < 3; ++k) {
                const std::int32_t other = t.beyond[k];
                if (other < 0 || part[static_cast<std::size_t>(other)] >= 0) continue;
                if (is_border(t.v[(k + 1) % 3], t.v[(k + 2) % 3])) continue;
                part[static_cast<std::size_t>(other)] = static_cast<int>(seed);
                list.push_back(other);
            }
        }
        const Triangle& big = tri(largest);
        const std::int32_t region = region_at((node(big.v[0]).p + node(big.v[1]).p + node(big.v[2]).p) / 3.0);
        for (const std::int32_t t : list) tri(t).region = region;
    }
}

std::int32_t FlatMesher::region_at(const Vec2& p) const {
    for (std::size_t t = 0; t < in_.triangles.size(); ++t) {
        bool in = true;
        for (std::size_t i = 0; i < 3 && in; ++i) {
            const Vec2& a = in_.points[static_cast<std::size_t>(in_.triangles[t][i])];
            const Vec2& b = in_.points[static_cast<std::size_t>(in_.triangles[t][(i + 1) % 3])];
            in = cross(b - a, p - a) >= 0.0;
        }
        if (in) return in_.region[t];
    }
    return -1;
}

// A triangle with an edge, by walking around one of its ends.
std::int32_t FlatMesher::triangle_at(std::int32_t a, std::int32_t b) const {
    std::uint64_t none = 0;
    Node middle;
    middle.x = (node(a).x + node(b).x) / 2;
    middle.y = (node(a).y + node(b).y) / 2;
    const std::int32_t t = locate(middle, last_, false, &none);
    const auto has = [&](std::int32_t c) {
        const auto& v = tri(c).v;
        return std::find(v.begin(), v.end(), a) != v.end() && std::find(v.begin(), v.end(), b) != v.end();
    };
    if (t < 0) return -1;
    if (has(t)) return t;
    for (const std::int32_t other : tri(t).beyond)
        if (other >= 0 && has(other)) return other;
    return -1;
}

FlatMesher::Shape FlatMesher::shape(const Triangle& t) const {
    const Vec2& a = node(t.v[0]).p;
    const Vec2 u = node(t.v[1]).p - a;
    const Vec2 v = node(t.v[2]).p - a;
    const double d = 2.0 * cross(u, v);
    const Vec2 c((v.y() * u.squaredNorm() - u.y() * v.squaredNorm()) / d,
                 (u.x() * v.squaredNorm() - v.x() * u.squaredNorm()) / d);
    return {a + c, c.norm(), std::min({u.norm(), v.norm(), (v - u).norm()})};
}

void FlatMesher::refine() {
    std::deque<std::int32_t> queue;
    for (std::size_t t = 0; t < triangles_.size(); ++t)
        if (triangles_[t].alive) queue.push_back(static_cast<std::int32_t>(t));
    const auto again = [&] {
        for (const std::int32_t t : fresh_) queue.push_back(t);
    };
    while (!queue.empty()) {
        const std::int32_t t = queue.front();
        queue.pop_front();
        if (!tri(t).alive || tri(t).region < 0) continue;
        const Shape s = shape(tri(t));
        const double wanted = size(s.center);
        const Vec2 middle = (node(tri(t).v[0]).p + node(tri(t).v[1]).p + node(tri(t).v[2]).p) / 3.0;
        const double here = std::min(wanted, size(middle));
        const bool large = s.radius > 0.72 * here;
        const bool thin = s.radius > 1.05 * s.shortest && s.shortest > 0.3 * here;
        if (!large && !thin) continue;
        Node c;
        c.p = s.center;
        c.x = std::llround((c.p.x() - box_.low.x()) * scale_);
        c.y = std::llround((c.p.y() - box_.low.y()) * scale_);
        std::uint64_t stopped = 0;
        const std::int32_t home = locate(c, t, true, &stopped);
        if (home < 0) {
            if (stopped != 0 && split(stopped, 0.5 * here)) again();
            continue;
        }
        // A border whose circle holds the place is halved instead.
        const std::vector<std::int32_t> hole = cavity(c, {home});
        std::uint64_t near = 0;
        bool taken = false;
        for (const std::int32_t h : hole)
            for (std::size_t k = 0; k < 3; ++k) {
                const std::int32_t a = tri(h).v[(k + 1) % 3];
                const std::int32_t b = tri(h).v[(k + 2) % 3];
                taken = taken || (node(a).x == c.x && node(a).y == c.y);
                if (!is_border(a, b)) continue;
                const Vec2 from_a = c.p - node(a).p;
                const Vec2 along = node(b).p - node(a).p;
                if (near == 0 && (node(a).p - c.p).dot(node(b).p - c.p) < 0.0) near = edge_key(a, b);
                // One that stays as it is: no flatter triangles than there must be.
                if (kept() && from_a.dot(along) > 0.0 && from_a.dot(along) < along.squaredNorm())
                    taken = taken || std::abs(cross(along, from_a)) <
                                         least_height * std::min(along.norm(), here) * along.norm();
            }
        if (taken) continue;
        if (near != 0 && !kept()) {
            if (split(near, 0.5 * here)) {
                again();
                queue.push_back(t);
            }
            continue;
        }
        const std::int32_t n = add_node(c.p, false);
        if (fill(n, cavity(node(n), {home})))
            again();
        else
            nodes_.pop_back();
    }
}

double FlatMesher::least_angle(const std::array<std::int32_t, 3>& v) const {
    double out = pi;
    for (std::size_t i = 0; i < 3; ++i) {
        const Vec2 a = node(v[(i + 1) % 3]).p - node(v[i]).p;
        const Vec2 b = node(v[(i + 2) % 3]).p - node(v[i]).p;
        out = std::min(out, std::atan2(cross(a, b), a.dot(b)));
    }
    return out;
}

// Nodes inside move to the middle of their neighbours where the worst angle around them gains.
void FlatMesher::smooth() {
    std::vector<std::vector<std::int32_t>> around(nodes_.size());
    for (std::size_t t = 0; t < triangles_.size(); ++t)
        if (triangles_[t].alive && triangles_[t].region >= 0)
            for (const std::int32_t v : triangles_[t].v)
                around[static_cast<std::size_t>(v)].push_back(static_cast<std::int32_t>(t));
    for (int pass = 0; pass < 6; ++pass)
        for (std::size_t n = 4; n < nodes_.size(); ++n) {
            if (nodes_[n].border || around[n].empty()) continue;
            const auto worst = [&] {
                double out = pi;
                for (const std::int32_t t : around[n]) out = std::min(out, least_angle(tri(t).v));
                return out;
            };
            Vec2 sum = Vec2::Zero();
            double count = 0.0;
            for (const std::int32_t t : around[n])
                for (const std::int32_t v : tri(t).v)
                    if (static_cast<std::size_t>(v) != n) {
                        sum += node(v).p;
                        count += 1.0;
                    }
            const double before = worst();
            const Vec2 old = nodes_[n].p;
            nodes_[n].p = sum / count;
            if (worst() <= before) nodes_[n].p = old;
        }
}

FlatTriangles FlatMesher::collect() const {
    FlatTriangles out;
    std::vector<std::int32_t> number(nodes_.size(), -1);
    double worst = pi;
    for (const Triangle& t : triangles_) {
        if (!t.alive || t.region < 0) continue;
        std::array<std::int32_t, 3> ids{};
        for (std::size_t i = 0; i < 3; ++i) {
            auto& n = number[static_cast<std::size_t>(t.v[i])];
            if (n < 0) {
                n = static_cast<std::int32_t>(out.points.size());
                out.points.push_back(node(t.v[i]).p);
            }
            ids[i] = n;
        }
        out.triangles.push_back(ids);
        out.region.push_back(t.region);
        if (const double angle = least_angle(t.v); angle < worst) {
            worst = angle;
            out.worst = (node(t.v[0]).p + node(t.v[1]).p + node(t.v[2]).p) / 3.0;
        }
    }
    if (!(worst > 0.0))
        throw Error::numerics(
            fmt::format("a triangle around ({:.6g}, {:.6g}) folds over", out.worst.x(), out.worst.y()),
            "Write a smaller size");
    for (const Segment& s : segments_) {
        const std::int32_t a = number[static_cast<std::size_t>(s.a)];
        const std::int32_t b = number[static_cast<std::size_t>(s.b)];
        if (a >= 0 && b >= 0)
            out.border.push_back(
                {{a, b}, chains_[static_cast<std::size_t>(s.chain)].at(0.5 * (s.s_a + s.s_b))});
    }
    out.smallest_angle = worst * 180.0 / pi;
    return out;
}

} // namespace upright::flat

namespace upright {

FlatTriangles make_flat_triangles(const FlatInput& input, const FlatOptions& options) {
    return flat::FlatMesher(input, options).run();
}

} // namespace upright
