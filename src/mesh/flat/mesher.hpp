// The mesher of the plane, over the files of this folder; mesh/flat_mesher.hpp is its public face.
#pragma once

#include "base/angles.hpp"
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

namespace upright::flat {

__extension__ using Wide = __int128;

inline double cross(const Vec2& a, const Vec2& b) {
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

    FlatTriangles run();

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
    void read_chains();

    void make_sizes();

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

    bool kept() const { return !in_.kept_borders.empty(); }
    double size(const Vec2& p) const { return sizes_->at(Vec3(p.x(), p.y(), 0.0)); }

    std::int32_t add_node(const Vec2& p, bool border);
    const Node& node(std::int32_t i) const { return nodes_[static_cast<std::size_t>(i)]; }
    Triangle& tri(std::int32_t t) { return triangles_[static_cast<std::size_t>(t)]; }
    const Triangle& tri(std::int32_t t) const { return triangles_[static_cast<std::size_t>(t)]; }

    // Twice the signed area; above zero where c lies to the left of a to b.
    static std::int64_t turn(const Node& a, const Node& b, const Node& c) {
        return (b.x - a.x) * (c.y - a.y) - (b.y - a.y) * (c.x - a.x);
    }

    // Whether d lies in the circle through the corners of a triangle.
    bool in_circle(const Triangle& t, const Node& d) const;

    // Two triangles over a square that holds everything.
    void start();

    // The triangle that holds a node, by walking; stops before a border where `kept_in`.
    std::int32_t locate(const Node& p, std::int32_t from, bool kept_in, std::uint64_t* stopped) const;

    bool is_border(std::int32_t a, std::int32_t b) const { return border_.count(edge_key(a, b)) > 0; }

    // The triangles whose circle holds a node, spread from `first` without crossing borders.
    std::vector<std::int32_t> cavity(const Node& p, std::vector<std::int32_t> first);

    // Replaces a cavity by the fan around a node. False, with nothing changed, where the fan would fold.
    bool fill(std::int32_t n, const std::vector<std::int32_t>& hole);

    // Puts a node anywhere, before there are borders to be kept.
    void insert_free(std::int32_t n);

    // The triangle, and the ones across an edge on which the node lies.
    std::vector<std::int32_t> touching(std::int32_t t, std::int32_t n) const;

    // Nodes on the chains at equal shares of length over size.
    void sample();

    // Borders that the triangulation lacks are halved until they are there.
    void recover();

    // The region of each stretch between borders: that of the input at the middle of its largest triangle.
    void label();

    std::int32_t region_at(const Vec2& p) const;

    // Halves a border. False where it is short already or the halves would fold.
    bool split(std::uint64_t key, double least);

    // A triangle with an edge, by walking around one of its ends.
    std::int32_t triangle_at(std::int32_t a, std::int32_t b) const;

    struct Shape {
        Vec2 center;
        double radius, shortest;
    };
    Shape shape(const Triangle& t) const;

    void refine();

    double least_angle(const std::array<std::int32_t, 3>& v) const;

    // Nodes inside move to the middle of their neighbours where the worst angle around them gains.
    void smooth();

    FlatTriangles collect() const;

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

} // namespace upright::flat
