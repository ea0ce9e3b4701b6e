#include "mesh/flat_mesher.hpp"

#include "base/edge_key.hpp"
#include "base/error.hpp"
#include "mesh/size_field.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <deque>
#include <fmt/format.h>
#include <map>
#include <memory>
#include <unordered_map>

namespace upright {

namespace {

constexpr double pi = 3.14159265358979323846;
__extension__ using Wide = __int128;

double cross(const Vec2& a, const Vec2& b) {
    return a.x() * b.y() - a.y() * b.x();
}

// A border between two regions from corner to corner, or a closed one.
struct Chain {
    std::vector<Vec2> points;
    std::vector<double> along; // arc length at each point
    bool closed = false;

    double length() const { return along.back(); }
    Vec2 at(double s) const {
        const auto it = std::upper_bound(along.begin(), along.end(), s);
        const auto i =
            std::clamp<std::size_t>(static_cast<std::size_t>(it - along.begin()), 1, along.size() - 1);
        const double t = (s - along[i - 1]) / std::max(along[i] - along[i - 1], 1e-300);
        return points[i - 1] + std::clamp(t, 0.0, 1.0) * (points[i] - points[i - 1]);
    }
};

// A stretch of a chain between two nodes.
struct Segment {
    std::int32_t a = 0, b = 0;
    std::int32_t chain = 0;
    double s_a = 0.0, s_b = 0.0;
};

class FlatMesher {
  public:
    FlatMesher(const FlatInput& input, const FlatOptions& options) : in_(input), options_(options) {
        for (const Vec2& p : input.points) box_.include(Vec3(p.x(), p.y(), 0.0));
        const double extent = std::max(box_.size().x(), box_.size().y());
        scale_ = static_cast<double>(1 << 25) / extent;
    }

    FlatTriangles run() {
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

  private:
    struct Node {
        Vec2 p;
        std::int64_t x = 0, y = 0;
        bool border = false;
    };
    struct Triangle {
        std::array<std::int32_t, 3> v{};
        std::array<std::int32_t, 3> beyond{-1, -1, -1}; // across the edge that faces each corner
        std::int32_t region = -1;
        bool alive = true;
    };

    // Borders: edges of the input with unlike regions on their sides, chained from corner to corner.
    void read_chains() {
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
        const auto point = [&](std::int32_t i) -> const Vec2& {
            return in_.points[static_cast<std::size_t>(i)];
        };
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

    void make_sizes() {
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
        thin_places(ask);
        sizes_->limit(options_.gradient);
    }

    // Where another border lies across within the size, edges are no longer than the gap.
    template <class Ask> void thin_places(const Ask& ask) {
        const double h = options_.size;
        struct Place {
            Vec2 p, along;
            const Chain* chain;
            double s;
        };
        std::map<std::pair<long, long>, std::vector<Place>> buckets;
        const auto cell = [&](const Vec2& p) {
            return std::pair{std::lround(std::floor(p.x() / h)), std::lround(std::floor(p.y() / h))};
        };
        std::vector<Place> places;
        for (const Chain& c : chains_) {
            const int n = std::max(2, static_cast<int>(std::ceil(c.length() / (0.3 * h))));
            for (int i = 0; i < n; ++i) {
                const double s = c.length() * (i + 0.5) / n;
                const Vec2 along = (c.at(s + 1e-3 * h) - c.at(s - 1e-3 * h)).normalized();
                places.push_back({c.at(s), along, &c, s});
                buckets[cell(c.at(s))].push_back(places.back());
            }
        }
        for (const Place& here : places) {
            const auto [ci, cj] = cell(here.p);
            for (long i = ci - 1; i <= ci + 1; ++i)
                for (long j = cj - 1; j <= cj + 1; ++j) {
                    const auto found = buckets.find({i, j});
                    if (found == buckets.end()) continue;
                    for (const Place& there : found->second) {
                        const Vec2 d = there.p - here.p;
                        const double gap = std::abs(cross(here.along, d));
                        // Not the next place of the same border round a bend.
                        if (here.chain == there.chain && std::abs(here.s - there.s) < 0.7 * h) continue;
                        if (std::abs(here.along.dot(d)) < std::max(0.5 * gap, 0.16 * h) && gap < h &&
                            gap > 1e-3 * h && std::abs(here.along.dot(there.along)) > 0.8)
                            ask(here.p, gap);
                    }
                }
        }
    }

    double size(const Vec2& p) const { return sizes_->at(Vec3(p.x(), p.y(), 0.0)); }

    std::int32_t add_node(const Vec2& p, bool border) {
        if (nodes_.size() > 10000000)
            throw Error::numerics("the sizes asked for make more than ten million points",
                                  "Write larger sizes");
        Node n;
        n.p = p;
        n.x = std::llround((p.x() - box_.low.x()) * scale_);
        n.y = std::llround((p.y() - box_.low.y()) * scale_);
        n.border = border;
        nodes_.push_back(n);
        return static_cast<std::int32_t>(nodes_.size()) - 1;
    }
    const Node& node(std::int32_t i) const { return nodes_[static_cast<std::size_t>(i)]; }
    Triangle& tri(std::int32_t t) { return triangles_[static_cast<std::size_t>(t)]; }
    const Triangle& tri(std::int32_t t) const { return triangles_[static_cast<std::size_t>(t)]; }

    // Twice the signed area; above zero where c lies to the left of a to b.
    static std::int64_t turn(const Node& a, const Node& b, const Node& c) {
        return (b.x - a.x) * (c.y - a.y) - (b.y - a.y) * (c.x - a.x);
    }

    // Whether d lies in the circle through the corners of a triangle.
    bool in_circle(const Triangle& t, const Node& d) const {
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
    void start() {
        const Vec3 c = box_.center();
        const double r = 2.0 * std::max(box_.size().x(), box_.size().y());
        for (const auto& [sx, sy] : {std::pair{-1, -1}, std::pair{1, -1}, std::pair{1, 1}, std::pair{-1, 1}})
            add_node(Vec2(c.x() + sx * r, c.y() + sy * r), false);
        triangles_.push_back({{0, 1, 2}, {-1, 1, -1}, -1, true});
        triangles_.push_back({{0, 2, 3}, {-1, -1, 0}, -1, true});
    }

    // The triangle that holds a node, by walking; stops before a border where `kept_in`.
    std::int32_t locate(const Node& p, std::int32_t from, bool kept_in, std::uint64_t* stopped) const {
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

    bool is_border(std::int32_t a, std::int32_t b) const { return border_.count(edge_key(a, b)) > 0; }

    // The triangles whose circle holds a node, spread from `first` without crossing borders.
    std::vector<std::int32_t> cavity(const Node& p, std::vector<std::int32_t> first) {
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
    bool fill(std::int32_t n, const std::vector<std::int32_t>& hole) {
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
    void insert_free(std::int32_t n) {
        std::uint64_t none = 0;
        const std::int32_t t = locate(node(n), last_, false, &none);
        if (t < 0) throw Error::numerics("a point lies outside of the plane");
        if (!fill(n, cavity(node(n), touching(t, n))))
            throw Error::numerics(
                fmt::format("two borders meet too closely at ({:.6g}, {:.6g})", node(n).p.x(), node(n).p.y()),
                "Move them apart, or join them");
    }

    // The triangle, and the ones across an edge on which the node lies.
    std::vector<std::int32_t> touching(std::int32_t t, std::int32_t n) const {
        std::vector<std::int32_t> out{t};
        for (std::size_t k = 0; k < 3; ++k)
            if (turn(node(tri(t).v[(k + 1) % 3]), node(tri(t).v[(k + 2) % 3]), node(n)) == 0 &&
                tri(t).beyond[k] >= 0)
                out.push_back(tri(t).beyond[k]);
        return out;
    }

    // Nodes on the chains at equal shares of length over size.
    void sample() {
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
    void recover() {
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
        throw Error::numerics("a border could not be followed",
                              "Write a smaller size, or move borders apart");
    }

    // The region of each stretch between borders: that of the input at the middle of its largest triangle.
    void label() {
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
            const std::int32_t region =
                region_at((node(big.v[0]).p + node(big.v[1]).p + node(big.v[2]).p) / 3.0);
            for (const std::int32_t t : list) tri(t).region = region;
        }
    }

    std::int32_t region_at(const Vec2& p) const {
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

    // Halves a border. False where it is short already or the halves would fold.
    bool split(std::uint64_t key, double least) {
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

    // A triangle with an edge, by walking around one of its ends.
    std::int32_t triangle_at(std::int32_t a, std::int32_t b) const {
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

    struct Shape {
        Vec2 center;
        double radius, shortest;
    };
    Shape shape(const Triangle& t) const {
        const Vec2& a = node(t.v[0]).p;
        const Vec2 u = node(t.v[1]).p - a;
        const Vec2 v = node(t.v[2]).p - a;
        const double d = 2.0 * cross(u, v);
        const Vec2 c((v.y() * u.squaredNorm() - u.y() * v.squaredNorm()) / d,
                     (u.x() * v.squaredNorm() - v.x() * u.squaredNorm()) / d);
        return {a + c, c.norm(), std::min({u.norm(), v.norm(), (v - u).norm()})};
    }

    void refine() {
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
                    if (near == 0 && is_border(a, b) && (node(a).p - c.p).dot(node(b).p - c.p) < 0.0)
                        near = edge_key(a, b);
                }
            if (taken) continue;
            if (near != 0) {
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

    double least_angle(const std::array<std::int32_t, 3>& v) const {
        double out = pi;
        for (std::size_t i = 0; i < 3; ++i) {
            const Vec2 a = node(v[(i + 1) % 3]).p - node(v[i]).p;
            const Vec2 b = node(v[(i + 2) % 3]).p - node(v[i]).p;
            out = std::min(out, std::atan2(cross(a, b), a.dot(b)));
        }
        return out;
    }

    // Nodes inside move to the middle of their neighbours where the worst angle around them gains.
    void smooth() {
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

    FlatTriangles collect() const {
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

    const FlatInput& in_;
    const FlatOptions& options_;
    Bounds box_;
    double scale_ = 1.0;
    std::vector<Chain> chains_;
    std::unique_ptr<SizeField> sizes_;
    std::vector<Node> nodes_;
    std::vector<Triangle> triangles_;
    std::vector<std::int32_t> free_, fresh_;
    std::vector<unsigned> mark_;
    unsigned stamp_ = 0;
    std::int32_t last_ = 0;
    std::vector<Segment> segments_;
    std::unordered_map<std::uint64_t, std::size_t> border_; // edge -> segment
};

} // namespace

FlatTriangles make_flat_triangles(const FlatInput& input, const FlatOptions& options) {
    return FlatMesher(input, options).run();
}

} // namespace upright
