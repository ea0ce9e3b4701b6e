#include "mesh/fitted.hpp"

#include "base/edge_key.hpp"
#include "mesh/delaunay.hpp"
#include "mesh/size_field.hpp"
#include "mesh/tet_optimizer.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <random>
#include <set>
#include <unordered_map>
#include <unordered_set>

#include "base/error.hpp"

namespace upright {

namespace {

constexpr double pi = 3.14159265358979323846;
constexpr int refine_rounds = 16;
constexpr int attempts = 4;

// What a sample lies on.
enum class On : std::int32_t { Corner = 0, Curve = 1, Patch = 2, Inside = 3 };

struct Sample {
    Vec3 p = Vec3::Zero();
    On on = On::Inside;
    std::int32_t entity = -1; // corner, curve or patch; of an inner sample its region
    double along = 0.0;       // arc length on its curve
};

// A chain of feature edges between two corners, or closed.
struct Curve {
    std::vector<Vec3> points;
    std::vector<double> arc;                  // length up to each point
    std::array<std::int32_t, 2> ends{-1, -1}; // corners
    bool closed = false;
    std::vector<std::int32_t> patches;
    double length() const { return arc.back(); }
    Vec3 at(double s) const {
        s = std::clamp(s, 0.0, length());
        const auto it = std::upper_bound(arc.begin(), arc.end(), s);
        const std::size_t i =
            std::min(static_cast<std::size_t>(std::max<std::ptrdiff_t>(1, it - arc.begin())), arc.size() - 1);
        const double t = (s - arc[i - 1]) / std::max(arc[i] - arc[i - 1], 1e-300);
        return (1 - t) * points[i - 1] + t * points[i];
    }
};

struct Segment {
    std::int32_t curve = 0;
    std::int32_t a = 0, b = 0; // samples
    double s_a = 0.0, s_b = 0.0;
};

struct Patch {
    std::array<std::int32_t, 2> regions{-1, -1}; // behind, before
    double radius = 0.0;
    double area = 0.0;
    std::vector<std::size_t> triangles;
    FacetTree tree;
};

// Samples by place, in buckets of their spacing's octave.
class SampleHash {
  public:
    explicit SampleHash(double unit) : unit_(unit) {}
    void add(std::int32_t sample, const Vec3& p, double spacing) {
        const int level = level_of(spacing);
        levels_.insert(level);
        cells_[key(p, level)].push_back(sample);
    }
    // Calls `visit` for samples that may lie within `radius`.
    template <class Visit> void near(const Vec3& p, double radius, const Visit& visit) const {
        for (const int level : levels_) {
            const double w = width(level);
            const int reach = static_cast<int>(std::ceil(radius / w));
            const std::array<long, 3> c = cell(p, level);
            for (long i = -reach; i <= reach; ++i)
                for (long j = -reach; j <= reach; ++j)
                    for (long k = -reach; k <= reach; ++k) {
                        const auto found = cells_.find(hash({c[0] + i, c[1] + j, c[2] + k}, level));
                        if (found == cells_.end()) continue;
                        for (const std::int32_t s : found->second) visit(s);
                    }
        }
    }

  private:
    int level_of(double spacing) const { return static_cast<int>(std::floor(std::log2(spacing / unit_))); }
    double width(int level) const { return unit_ * std::exp2(level + 1); }
    std::array<long, 3> cell(const Vec3& p, int level) const {
        const double w = width(level);
        return {static_cast<long>(std::floor(p.x() / w)), static_cast<long>(std::floor(p.y() / w)),
                static_cast<long>(std::floor(p.z() / w))};
    }
    static std::uint64_t hash(const std::array<long, 3>& c, int level) {
        std::uint64_t h = static_cast<std::uint64_t>(level + 64) * 0x9e3779b97f4a7c15ULL;
        for (const long v : c) {
            h ^= static_cast<std::uint64_t>(v) + 0x9e3779b97f4a7c15ULL + (h << 6U) + (h >> 2U);
            h *= 0xff51afd7ed558ccdULL;
        }
        return h;
    }
    std::uint64_t key(const Vec3& p, int level) const { return hash(cell(p, level), level); }
    double unit_;
    std::set<int> levels_;
    std::unordered_map<std::uint64_t, std::vector<std::int32_t>> cells_;
};

class FittedMesher : public SurfaceGeometry {
  public:
    FittedMesher(const FittedInput& input, const FittedOptions& options, unsigned seed)
        : in_(input), options_(options), all_(input.points, input.triangles), random_(12345 + seed),
          shift_(0.0137 * Vec3(1, 0.7, 0.4) + 0.31 * seed * Vec3(0.9, -0.6, 0.4)) {
        for (const Vec3& p : input.points) box_.include(p);
        read_patches();
        read_curves();
    }

    FittedTets run() {
        std::vector<std::pair<Vec3, double>> finer; // places where the last attempt failed
        for (int attempt = 0;; ++attempt) {
            make_sizes(finer);
            samples_.clear();
            segments_.clear();
            bad_places_.clear();
            sample_curves();
            sample_patches();
            sample_inside();
            triangulate();
            const bool fine = refine();
            if (fine || attempt + 1 >= attempts) {
                if (!fine) fail();
                break;
            }
            for (const Vec3& p : bad_places_) finer.emplace_back(p, 0.6 * std::min(size(p), options_.size));
        }
        return optimised();
    }

    // SurfaceGeometry, for the optimiser.
    Vec3 on_curve(std::int32_t curve, const Vec3& p) const override {
        const Curve& c = curves_[static_cast<std::size_t>(curve)];
        Vec3 best = c.points.front();
        double nearest = 1e300;
        for (std::size_t i = 1; i < c.points.size(); ++i) {
            const Vec3 edge = c.points[i] - c.points[i - 1];
            const double t =
                std::clamp((p - c.points[i - 1]).dot(edge) / std::max(edge.squaredNorm(), 1e-300), 0.0, 1.0);
            const Vec3 q = c.points[i - 1] + t * edge;
            if ((q - p).squaredNorm() < nearest) {
                nearest = (q - p).squaredNorm();
                best = q;
            }
        }
        return best;
    }
    Vec3 on_patch(std::int32_t patch, const Vec3& p) const override {
        const FacetTree::Nearest near = patches_[static_cast<std::size_t>(patch)].tree.nearest(p);
        return near.triangle >= 0 ? near.place : p;
    }
    Vec3 patch_normal(std::int32_t patch, const Vec3& p) const override {
        const FacetTree& tree = patches_[static_cast<std::size_t>(patch)].tree;
        const FacetTree::Nearest near = tree.nearest(p);
        const auto& c = tree.corners()[static_cast<std::size_t>(std::max(near.triangle, 0))];
        return (c[1] - c[0]).cross(c[2] - c[0]).normalized();
    }

  private:
    double size(const Vec3& p) const { return sizes_->at(p); }

    // Patches: connected triangles of one exact face.
    void read_patches() {
        std::unordered_map<std::uint64_t, std::vector<std::int32_t>> edges;
        for (std::size_t t = 0; t < in_.triangles.size(); ++t)
            for (std::size_t i = 0; i < 3; ++i)
                edges[edge_key(in_.triangles[t][i], in_.triangles[t][(i + 1) % 3])].push_back(
                    static_cast<std::int32_t>(t));
        patch_of_.assign(in_.triangles.size(), -1);
        std::vector<std::size_t> stack;
        for (std::size_t seed = 0; seed < in_.triangles.size(); ++seed) {
            if (patch_of_[seed] >= 0) continue;
            Patch patch;
            patch.regions = in_.regions[seed];
            const auto face = static_cast<std::size_t>(in_.face_of[seed]);
            patch.radius = face < in_.face_radius.size() ? in_.face_radius[face] : 0.0;
            patch_of_[seed] = static_cast<std::int32_t>(patches_.size());
            face_of_patch_.push_back(in_.face_of[seed]);
            stack.push_back(seed);
            while (!stack.empty()) {
                const std::size_t t = stack.back();
                stack.pop_back();
                patch.triangles.push_back(t);
                patch.area += area(t);
                for (std::size_t i = 0; i < 3; ++i)
                    for (const std::int32_t o :
                         edges[edge_key(in_.triangles[t][i], in_.triangles[t][(i + 1) % 3])]) {
                        const auto other = static_cast<std::size_t>(o);
                        if (patch_of_[other] >= 0 || in_.face_of[other] != in_.face_of[seed] ||
                            in_.regions[other] != in_.regions[seed])
                            continue;
                        patch_of_[other] = patch_of_[seed];
                        stack.push_back(other);
                    }
            }
            std::vector<std::array<std::int32_t, 3>> list;
            for (const std::size_t t : patch.triangles) list.push_back(in_.triangles[t]);
            patch.tree = FacetTree(in_.points, list);
            patches_.push_back(std::move(patch));
        }
        for (const auto& [key, list] : edges) {
            if (list.size() == 1) {
                const Vec3& p = in_.points[static_cast<std::size_t>(key >> 32U)];
                throw Error::numerics(
                    fmt::format("the boundary to be meshed is not closed at ({:.5g}, {:.5g}, {:.5g})", p.x(),
                                p.y(), p.z()),
                    "Look at the body with \"upright inspect\"");
            }
            bool feature = list.size() != 2;
            for (const std::int32_t t : list)
                feature = feature || patch_of_[static_cast<std::size_t>(t)] !=
                                         patch_of_[static_cast<std::size_t>(list[0])];
            if (list.size() == 2 && !feature)
                feature =
                    normal(static_cast<std::size_t>(list[0])).dot(normal(static_cast<std::size_t>(list[1]))) <
                    std::cos(30.0 * pi / 180);
            if (feature) features_[key] = list;
        }
        for (const auto& [key, list] : features_) require_no_cusp(key, list);
    }

    // Sectors between the faces about an edge that are sharper than tetrahedra can fill, or leave free.
    void require_no_cusp(std::uint64_t key, const std::vector<std::int32_t>& list) const {
        constexpr double sharpest = 15.0;
        const Vec3& a = in_.points[static_cast<std::size_t>(key >> 32U)];
        const Vec3& b = in_.points[static_cast<std::size_t>(key & 0xffffffffU)];
        const Vec3 along = (b - a).normalized();
        std::vector<std::pair<double, std::int32_t>> around;
        Vec3 u = Vec3::Zero();
        for (const std::int32_t t : list) {
            Vec3 out = Vec3::Zero();
            for (std::size_t i = 0; i < 3; ++i) {
                const Vec3 d = corner(static_cast<std::size_t>(t), i) - a;
                const Vec3 side = d - along * d.dot(along);
                if (side.norm() > out.norm()) out = side;
            }
            if (out.norm() <= 0.0) return;
            out.normalize();
            if (u.norm() == 0.0) u = out;
            around.emplace_back(std::atan2(out.dot(along.cross(u)), out.dot(u)) * 180.0 / pi, t);
        }
        std::sort(around.begin(), around.end());
        for (std::size_t i = 0; i < around.size(); ++i) {
            const double next = i + 1 < around.size() ? around[i + 1].first : around[0].first + 360.0;
            const double angle = next - around[i].first;
            if (angle >= sharpest || around.size() < 2) continue;
            const Vec3 p = 0.5 * (a + b);
            throw Error::numerics(
                fmt::format("faces meet at a cusp of {:.3g} deg at ({:.5g}, {:.5g}, {:.5g}), which no "
                            "tetrahedron of a fair shape fills",
                            angle, p.x(), p.y(), p.z()),
                "Blunt it or fill it, make the touching regions one, or use kind = \"grid\"");
        }
    }

    const Vec3& corner(std::size_t t, std::size_t i) const {
        return in_.points[static_cast<std::size_t>(in_.triangles[t][i])];
    }
    double area(std::size_t t) const {
        return 0.5 * (corner(t, 1) - corner(t, 0)).cross(corner(t, 2) - corner(t, 0)).norm();
    }
    Vec3 normal(std::size_t t) const {
        return (corner(t, 1) - corner(t, 0)).cross(corner(t, 2) - corner(t, 0)).normalized();
    }

    // Chains feature edges into curves between corners.
    void read_curves() {
        std::unordered_map<std::int32_t, std::vector<std::int32_t>> at;
        for (const auto& [key, list] : features_) {
            const auto a = static_cast<std::int32_t>(key >> 32U);
            const auto b = static_cast<std::int32_t>(key & 0xffffffffU);
            at[a].push_back(b);
            at[b].push_back(a);
        }
        const auto point = [&](std::int32_t n) -> const Vec3& {
            return in_.points[static_cast<std::size_t>(n)];
        };
        const auto patches_at = [&](std::int32_t a, std::int32_t b) {
            std::vector<std::int32_t> out;
            for (const std::int32_t t : features_.at(edge_key(a, b)))
                out.push_back(patch_of_[static_cast<std::size_t>(t)]);
            std::sort(out.begin(), out.end());
            out.erase(std::unique(out.begin(), out.end()), out.end());
            return out;
        };
        std::map<std::int32_t, std::int32_t> corner_number;
        for (const auto& [n, ends] : at) {
            bool is_corner = ends.size() != 2;
            if (!is_corner) {
                const Vec3 u = (point(n) - point(ends[0])).normalized();
                const Vec3 v = (point(ends[1]) - point(n)).normalized();
                is_corner =
                    u.dot(v) < std::cos(40.0 * pi / 180) || patches_at(n, ends[0]) != patches_at(n, ends[1]);
            }
            if (is_corner) corner_number[n] = 0;
        }
        for (auto& [n, number] : corner_number) {
            number = static_cast<std::int32_t>(corners_.size());
            corners_.push_back(point(n));
        }
        corner_patches_.resize(corners_.size());
        std::unordered_set<std::uint64_t> used;
        const auto walk = [&](std::int32_t from, std::int32_t to, bool loop) {
            Curve c;
            c.patches = patches_at(from, to);
            c.points = {point(from), point(to)};
            used.insert(edge_key(from, to));
            const std::int32_t first = from;
            std::int32_t previous = from;
            std::int32_t here = to;
            while (corner_number.count(here) == 0 && here != first) {
                const auto& ends = at[here];
                const std::int32_t next = ends[0] == previous ? ends[1] : ends[0];
                used.insert(edge_key(here, next));
                c.points.push_back(point(next));
                previous = here;
                here = next;
            }
            c.closed = loop;
            if (!loop) {
                c.ends = {corner_number.at(first), corner_number.at(here)};
                for (const std::int32_t e : c.ends)
                    corner_patches_[static_cast<std::size_t>(e)].insert(
                        corner_patches_[static_cast<std::size_t>(e)].end(), c.patches.begin(),
                        c.patches.end());
            }
            c.arc = {0.0};
            for (std::size_t i = 1; i < c.points.size(); ++i)
                c.arc.push_back(c.arc.back() + (c.points[i] - c.points[i - 1]).norm());
            curves_.push_back(std::move(c));
        };
        for (const auto& [n, number] : corner_number)
            for (const std::int32_t to : at[n])
                if (used.count(edge_key(n, to)) == 0) walk(n, to, false);
        std::vector<std::int32_t> rest;
        for (const auto& [n, ends] : at) rest.push_back(n);
        std::sort(rest.begin(), rest.end());
        for (const std::int32_t n : rest)
            if (corner_number.count(n) == 0)
                for (const std::int32_t to : at[n])
                    if (used.count(edge_key(n, to)) == 0) walk(n, to, true);
        for (auto& list : corner_patches_) {
            std::sort(list.begin(), list.end());
            list.erase(std::unique(list.begin(), list.end()), list.end());
        }
    }

    // The asked size, and less where the surface bends, curves are short, walls thin, or the user asks.
    void make_sizes(const std::vector<std::pair<Vec3, double>>& finer) {
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

    // Places over a patch, no farther apart than a third of the size.
    template <class Visit> void each_place(const Patch& patch, const Visit& visit) {
        for (const std::size_t t : patch.triangles) {
            const double longest =
                std::max({(corner(t, 1) - corner(t, 0)).norm(), (corner(t, 2) - corner(t, 1)).norm(),
                          (corner(t, 0) - corner(t, 2)).norm()});
            const int n = std::clamp(static_cast<int>(std::ceil(longest / (0.4 * options_.size))), 1, 200);
            for (int i = 0; i < n; ++i)
                for (int j = 0; i + j < n; ++j) {
                    const double u = (i + 1.0 / 3) / n;
                    const double v = (j + 1.0 / 3) / n;
                    visit(Vec3(corner(t, 0) + u * (corner(t, 1) - corner(t, 0)) +
                               v * (corner(t, 2) - corner(t, 0))),
                          t);
                }
        }
    }

    std::int32_t add(const Vec3& p, On on, std::int32_t entity, double along = 0.0) {
        samples_.push_back({p, on, entity, along});
        const auto n = static_cast<std::int32_t>(samples_.size()) - 1;
        if (on != On::Inside) hash_->add(n, p, size(p));
        return n;
    }

    void sample_curves() {
        hash_ = std::make_unique<SampleHash>(options_.size);
        for (std::size_t c = 0; c < corners_.size(); ++c)
            add(corners_[c], On::Corner, static_cast<std::int32_t>(c));
        for (std::size_t k = 0; k < curves_.size(); ++k) {
            const Curve& c = curves_[k];
            // Equal steps of the integral of ds / h.
            const int fine = std::clamp(static_cast<int>(8.0 * c.length() / sizes_->smallest()), 16, 20000);
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
                const std::int32_t next = i < n ? add(c.at(s), On::Curve, static_cast<std::int32_t>(k), s)
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

    bool encroached(const Segment& s) const {
        const Vec3& a = samples_[static_cast<std::size_t>(s.a)].p;
        const Vec3& b = samples_[static_cast<std::size_t>(s.b)].p;
        const Vec3 middle = 0.5 * (a + b);
        const double r2 = 0.25 * (b - a).squaredNorm();
        bool out = false;
        hash_->near(middle, std::sqrt(r2), [&](std::int32_t n) {
            if (n != s.a && n != s.b &&
                (samples_[static_cast<std::size_t>(n)].p - middle).squaredNorm() < r2 * (1 - 1e-9))
                out = true;
        });
        return out;
    }

    bool split_segment(const Segment& s, std::vector<Segment>& out) {
        const Curve& c = curves_[static_cast<std::size_t>(s.curve)];
        const double middle = 0.5 * (s.s_a + s.s_b);
        if (s.s_b - s.s_a < 0.2 * options_.smallest * options_.size) return false;
        const std::int32_t n = add(c.at(middle), On::Curve, s.curve, middle);
        out.push_back({s.curve, s.a, n, s.s_a, middle});
        out.push_back({s.curve, n, s.b, middle, s.s_b});
        return true;
    }

    bool free_place(const Vec3& p, double radius) const {
        bool free = true;
        hash_->near(p, radius, [&](std::int32_t n) {
            free = free && (samples_[static_cast<std::size_t>(n)].p - p).squaredNorm() >= radius * radius;
        });
        return free;
    }

    // Darts at 0.78 of the size, then a few steps of mutual repulsion on each patch.
    void sample_patches() {
        const double spacing = 0.78;
        const std::size_t fixed = samples_.size();
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
    bool clear_of_curves(const Vec3& p) const {
        bool clear = true;
        const double h = size(p);
        hash_->near(p, 1.2 * h, [&](std::int32_t n) {
            if (!clear || samples_[static_cast<std::size_t>(n)].on == On::Patch) return;
            const auto at = segments_at_.find(n);
            if (at == segments_at_.end()) return;
            for (const std::size_t s : at->second) {
                const Vec3& a = samples_[static_cast<std::size_t>(segments_[s].a)].p;
                const Vec3& b = samples_[static_cast<std::size_t>(segments_[s].b)].p;
                const double t = std::clamp((p - a).dot(b - a) / (b - a).squaredNorm(), 0.0, 1.0);
                if ((p - a - t * (b - a)).norm() < 0.5 * std::min(h, (b - a).norm())) clear = false;
            }
        });
        return clear;
    }

    // Copies samples of an opposite patch that lies nearer than 0.6 of the size, so that thin walls match.
    void mirror(std::int32_t k) {
        segments_at_.clear();
        for (std::size_t s = 0; s < segments_.size(); ++s) {
            segments_at_[segments_[s].a].push_back(s);
            segments_at_[segments_[s].b].push_back(s);
        }
        const Patch& patch = patches_[static_cast<std::size_t>(k)];
        const std::size_t count = samples_.size();
        for (std::size_t n = 0; n < count; ++n) {
            const Sample s = samples_[n];
            if (s.on != On::Patch || s.entity == k) continue;
            const double h = size(s.p);
            const FacetTree::Nearest near = patch.tree.nearest(s.p, 0.7 * h);
            if (near.triangle < 0 || near.distance < 1e-3 * h) continue;
            const auto& c = patch.tree.corners()[static_cast<std::size_t>(near.triangle)];
            const Vec3 facing = (c[1] - c[0]).cross(c[2] - c[0]).normalized();
            if (std::abs(facing.dot((s.p - near.place).normalized())) < 0.95) continue;
            if (free_place(near.place, 0.6 * std::min(h, near.distance)) && clear_of_curves(near.place))
                add(near.place, On::Patch, k);
        }
    }

    void repel(std::size_t fixed) {
        for (int step = 0; step < 8; ++step) {
            std::vector<Vec3> moved(samples_.size());
            for (std::size_t n = fixed; n < samples_.size(); ++n) {
                const Sample& s = samples_[n];
                const double h = size(s.p);
                Vec3 push = Vec3::Zero();
                hash_->near(s.p, 1.1 * h, [&](std::int32_t o) {
                    if (static_cast<std::size_t>(o) == n) return;
                    const Vec3 d = s.p - samples_[static_cast<std::size_t>(o)].p;
                    const double r = d.norm() / h;
                    if (r < 1.05 && r > 1e-9) push += d / (r * h) * (1.05 - r) * h;
                });
                Vec3 to = s.p + 0.25 * push;
                if ((to - s.p).norm() > 0.2 * h) to = s.p + 0.2 * h * (to - s.p).normalized();
                const Vec3 onto = on_patch(s.entity, to);
                moved[n] = clear_of_curves(onto) ? onto : s.p;
            }
            hash_ = std::make_unique<SampleHash>(options_.size);
            for (std::size_t n = 0; n < samples_.size(); ++n) {
                if (n >= fixed) samples_[n].p = moved[n];
                hash_->add(static_cast<std::int32_t>(n), samples_[n].p, size(samples_[n].p));
            }
        }
    }

    // The region at a place, by the first crossing of a ray.
    std::int32_t region_at(const Vec3& p) const {
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
                doubtful =
                    doubtful || (&h != first && std::abs(h.along - first->along) < 1e-9 * options_.size);
            if (!doubtful) return last;
        }
        return last;
    }

    // A body-centred lattice on the leaves of an octree graded by the size field.
    void sample_inside() {
        const double root =
            1.001 * box_.size().maxCoeff() + 2.0 * options_.size * shift_.cwiseAbs().maxCoeff();
        const Vec3 low = box_.center() - Vec3::Constant(0.5 * root) + options_.size * shift_;
        // The root is a whole number of leaves of 1.1 h.
        int top = 0;
        double edge = 1.1 * options_.size;
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
                {p + h * Vec3(jitter(random_), jitter(random_), jitter(random_)), On::Inside, region, 0.0});
        };
        const std::function<void(const Vec3&, double)> visit = [&](const Vec3& at, double w) {
            if ((at.array() > box_.high.array()).any() ||
                ((at + Vec3::Constant(w)).array() < box_.low.array()).any())
                return;
            const Vec3 middle = at + Vec3::Constant(0.5 * w);
            double h = size(middle);
            if (w > 1.3 * options_.size) h = 0.0; // too large whatever the field says
            if (w > 1.1 * h * 1.2) {
                for (int c = 0; c < 8; ++c) visit(at + 0.5 * w * Vec3(c & 1, (c >> 1) & 1, c >> 2), 0.5 * w);
                return;
            }
            const double local = w / 1.1;
            for (int c = 0; c < 8; ++c) place(at + w * Vec3(c & 1, (c >> 1) & 1, c >> 2), local);
            place(middle, local);
        };
        visit(low, edge);
    }

    void triangulate() {
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
    std::int32_t insert(const Vec3& p, On on, std::int32_t entity, double along, std::int32_t near) {
        const std::int32_t n = add(p, on, entity, along);
        const std::int32_t node =
            delaunay_->insert(p, near >= 0 ? node_of_[static_cast<std::size_t>(near)] : -1);
        node_of_.push_back(node);
        if (static_cast<std::size_t>(node) >= sample_of_.size())
            sample_of_.resize(static_cast<std::size_t>(node) + 1, -1);
        if (sample_of_[static_cast<std::size_t>(node)] < 0) sample_of_[static_cast<std::size_t>(node)] = n;
        return n;
    }

    void patches_of(std::int32_t sample, std::vector<std::int32_t>& out) const {
        const Sample& s = samples_[static_cast<std::size_t>(sample)];
        out.clear();
        if (s.on == On::Patch) out.push_back(s.entity);
        if (s.on == On::Curve) out = curves_[static_cast<std::size_t>(s.entity)].patches;
        if (s.on == On::Corner) out = corner_patches_[static_cast<std::size_t>(s.entity)];
    }

    // The patches that all samples lie on.
    template <std::size_t N>
    std::vector<std::int32_t> common_patches(const std::array<std::int32_t, N>& samples) const {
        std::vector<std::int32_t> out;
        std::vector<std::int32_t> other;
        patches_of(samples[0], out);
        for (std::size_t i = 1; i < N && !out.empty(); ++i) {
            patches_of(samples[i], other);
            out.erase(std::remove_if(out.begin(), out.end(),
                                     [&](std::int32_t p) {
                                         return std::find(other.begin(), other.end(), p) == other.end();
                                     }),
                      out.end());
        }
        return out;
    }

    std::int32_t label(const Delaunay::Tet& tet) const {
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

    void label_all() {
        const auto& tets = delaunay_->tets();
        label_.assign(tets.size(), -1);
        for (std::size_t t = 0; t < tets.size(); ++t)
            if (tets[t].alive) label_[t] = label(tets[t]);
    }

    // Splits missing segments and mends faces between regions that lie on no patch. False where it gives up.
    bool refine() {
        for (int round = 0; round < refine_rounds; ++round) {
            bool clean = true;
            bad_places_.clear();
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
            label_all();
            std::vector<std::pair<Vec3, std::int32_t>> wanted; // places on surfaces, and a sample near by
            const auto& tets = delaunay_->tets();
            for (std::size_t t = 0; t < tets.size(); ++t) {
                if (!tets[t].alive || label_[t] < 0) continue;
                for (std::size_t i = 0; i < 4; ++i) {
                    const std::int32_t next = tets[t].next[i];
                    if (next < 0 || label_[static_cast<std::size_t>(next)] == label_[t]) continue;
                    if (label_[static_cast<std::size_t>(next)] >= 0 && static_cast<std::size_t>(next) < t)
                        continue;
                    std::array<std::int32_t, 3> s{};
                    std::size_t k = 0;
                    for (std::size_t j = 0; j < 4; ++j)
                        if (j != i)
                            s[k++] = tets[t].node[j] < Delaunay::hull
                                         ? -1
                                         : sample_of_[static_cast<std::size_t>(tets[t].node[j])];
                    if (s[0] < 0 || s[1] < 0 || s[2] < 0) continue;
                    const auto at = [&](std::size_t j) -> const Vec3& {
                        return samples_[static_cast<std::size_t>(s[j])].p;
                    };
                    const Vec3 center = (at(0) + at(1) + at(2)) / 3.0;
                    const std::vector<std::int32_t> common = common_patches(s);
                    const std::array<std::int32_t, 2> between{label_[t],
                                                              label_[static_cast<std::size_t>(next)]};
                    bool good = false;
                    const double longest =
                        std::max({(at(0) - at(1)).norm(), (at(1) - at(2)).norm(), (at(2) - at(0)).norm()});
                    for (const std::int32_t p : common) {
                        const auto& r = patches_[static_cast<std::size_t>(p)].regions;
                        if (!((r[0] == between[0] && r[1] == between[1]) ||
                              (r[1] == between[0] && r[0] == between[1])))
                            continue;
                        if ((on_patch(p, center) - center).norm() < 0.25 * longest) good = true;
                    }
                    if (good) continue;
                    clean = false;
                    bad_places_.push_back(center);
                    wanted.emplace_back(center, s[0]);
                }
            }
            if (clean) return true;
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
                    insert(hit.place, On::Patch, patch_of_[static_cast<std::size_t>(hit.triangle)], 0.0,
                           near);
                    ++added;
                }
                if (added == 0 && wanted.empty() && round + 1 < refine_rounds) continue;
                if (added == 0) return false;
            }
        }
        return false;
    }

    bool split_near(const Vec3& p, double reach) {
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

    [[noreturn]] void fail() const {
        const Vec3 p = bad_places_.empty() ? box_.center() : bad_places_.front();
        throw Error::numerics(fmt::format("the shape cannot be meshed around ({:.5g}, {:.5g}, {:.5g}): {} "
                                          "places are left where faces touch at a cusp "
                                          "or walls are thinner than {:.3g} of the element size",
                                          p.x(), p.y(), p.z(), bad_places_.size(), options_.smallest),
                              "Blunt or fill the cusp, leave the feature out, or write a smaller size");
    }

    FittedTets optimised() {
        TetMesh mesh;
        std::vector<std::int32_t> number(samples_.size(), -1);
        const auto& tets = delaunay_->tets();
        for (std::size_t t = 0; t < tets.size(); ++t) {
            if (!tets[t].alive || label_[t] < 0) continue;
            TetMesh::Tet tet;
            for (std::size_t i = 0; i < 4; ++i) {
                const auto s =
                    static_cast<std::size_t>(sample_of_[static_cast<std::size_t>(tets[t].node[i])]);
                if (number[s] < 0) {
                    number[s] = static_cast<std::int32_t>(mesh.nodes.size());
                    TetMesh::Node node;
                    node.p = samples_[s].p;
                    node.on = static_cast<std::int32_t>(samples_[s].on);
                    node.entity = samples_[s].entity;
                    std::vector<std::int32_t> list;
                    patches_of(static_cast<std::int32_t>(s), list);
                    node.patches = list;
                    node.size = size(node.p);
                    mesh.nodes.push_back(node);
                }
                tet.node[i] = number[s];
            }
            tet.region = label_[t];
            mesh.tets.push_back(tet);
        }
        for (const Segment& s : segments_)
            mesh.segments.insert(
                edge_key(number[static_cast<std::size_t>(s.a)], number[static_cast<std::size_t>(s.b)]));
        for (const Patch& p : patches_) mesh.patch_regions.push_back(p.regions);
        optimise_tets(mesh, *this, options_.target);
        return collect(mesh);
    }

    FittedTets collect(const TetMesh& mesh) {
        FittedTets out;
        std::vector<std::int32_t> number(mesh.nodes.size(), -1);
        double worst = 180.0;
        Vec3 worst_at = Vec3::Zero();
        for (const TetMesh::Tet& tet : mesh.tets) {
            if (!tet.alive) continue;
            std::array<std::int32_t, 4> ids{};
            std::array<Vec3, 4> p;
            for (std::size_t i = 0; i < 4; ++i) {
                const auto n = static_cast<std::size_t>(tet.node[i]);
                if (number[n] < 0) {
                    number[n] = static_cast<std::int32_t>(out.points.size());
                    out.points.push_back(mesh.nodes[n].p);
                    out.entity.push_back({mesh.nodes[n].on, mesh.nodes[n].entity, 0});
                }
                ids[i] = number[n];
                p[i] = mesh.nodes[n].p;
            }
            if (!((p[1] - p[0]).cross(p[2] - p[0]).dot(p[3] - p[0]) > 0.0)) {
                bad_places_ = {p[0]};
                fail();
            }
            const double angle = std::asin(std::clamp(least_sine(p), 0.0, 1.0)) * 180.0 / pi;
            if (angle < worst) {
                worst = angle;
                worst_at = 0.25 * (p[0] + p[1] + p[2] + p[3]);
            }
            out.tets.push_back(ids);
            out.region.push_back(tet.region);
        }
        out.smallest_dihedral = worst;
        if (worst < 20.0)
            out.remarks.push_back(
                fmt::format("the smallest dihedral angle is {:.1f} deg, at ({:.4g}, {:.4g}, {:.4g})", worst,
                            worst_at.x(), worst_at.y(), worst_at.z()));
        if (thinnest_ < 0.15 * options_.size)
            out.remarks.push_back(
                fmt::format("a wall is {:.3g} thick, less than a sixth of the element size", thinnest_));
        collect_skin(mesh, number, out);
        return out;
    }

    // The skin, checked: every edge of it between two faces of it (or where more regions meet), every face on
    // one patch.
    void collect_skin(const TetMesh& mesh, const std::vector<std::int32_t>& number, FittedTets& out) {
        struct Half {
            std::array<std::int32_t, 3> nodes;
            std::int32_t region;
        };
        std::unordered_map<std::string, Half> open;
        const auto key = [](std::array<std::int32_t, 3> n) {
            std::sort(n.begin(), n.end());
            return std::string(reinterpret_cast<const char*>(n.data()), sizeof n);
        };
        static constexpr std::array<std::array<std::size_t, 3>, 4> faces{
            {{1, 2, 3}, {0, 3, 2}, {0, 1, 3}, {0, 2, 1}}};
        for (const TetMesh::Tet& tet : mesh.tets) {
            if (!tet.alive) continue;
            for (const auto& f : faces) {
                const std::array<std::int32_t, 3> n{tet.node[f[0]], tet.node[f[1]], tet.node[f[2]]};
                const auto [at, fresh] = open.emplace(key(n), Half{n, tet.region});
                if (fresh) continue;
                if (at->second.region == tet.region)
                    open.erase(at);
                else if (at->second.region >= 0)
                    at->second.region = -2 - at->second.region; // an interface, told apart below
            }
        }
        std::unordered_map<std::uint64_t, int> edges;
        for (const auto& [k, half] : open) {
            FittedTets::Face face;
            std::array<std::int32_t, 3> s = half.nodes;
            std::vector<std::int32_t> common = mesh.nodes[static_cast<std::size_t>(s[0])].patches;
            for (const std::int32_t n : s) {
                const auto& list = mesh.nodes[static_cast<std::size_t>(n)].patches;
                common.erase(std::remove_if(common.begin(), common.end(),
                                            [&](std::int32_t p) {
                                                return std::find(list.begin(), list.end(), p) == list.end();
                                            }),
                             common.end());
            }
            const Vec3 center =
                (mesh.nodes[static_cast<std::size_t>(s[0])].p + mesh.nodes[static_cast<std::size_t>(s[1])].p +
                 mesh.nodes[static_cast<std::size_t>(s[2])].p) /
                3.0;
            double best = 1e300;
            for (const std::int32_t p : common)
                if (const double d = (on_patch(p, center) - center).norm(); d < best) {
                    best = d;
                    face.face = face_of_patch_[static_cast<std::size_t>(p)];
                }
            if (face.face < 0) {
                bad_places_ = {center};
                fail();
            }
            for (std::size_t i = 0; i < 3; ++i) {
                face.nodes[i] = number[static_cast<std::size_t>(s[i])];
                ++edges[edge_key(s[i], s[(i + 1) % 3])];
            }
            out.skin.push_back(face);
        }
        for (const auto& [edge, count] : edges)
            if (count < 2) {
                bad_places_ = {mesh.nodes[static_cast<std::size_t>(edge >> 32U)].p};
                fail();
            }
    }

    const FittedInput& in_;
    const FittedOptions& options_;
    FacetTree all_;
    std::mt19937 random_;
    Vec3 shift_; // of the lattice inside, in element sizes
    Bounds box_;
    std::vector<std::int32_t> patch_of_;
    std::vector<Patch> patches_;
    std::vector<std::int32_t> face_of_patch_;
    std::map<std::uint64_t, std::vector<std::int32_t>> features_;
    std::vector<Vec3> corners_;
    std::vector<std::vector<std::int32_t>> corner_patches_;
    std::vector<Curve> curves_;
    std::unique_ptr<SizeField> sizes_;
    std::unique_ptr<SampleHash> hash_;
    std::vector<Sample> samples_;
    std::vector<Segment> segments_;
    std::unordered_map<std::int32_t, std::vector<std::size_t>> segments_at_;
    std::unique_ptr<Delaunay> delaunay_;
    std::vector<std::int32_t> sample_of_; // of each node of the triangulation
    std::vector<std::int32_t> node_of_;   // of each sample
    std::vector<std::int32_t> label_;
    std::vector<Vec3> bad_places_;
    double thinnest_ = 1e300;
};

// The same boundary with no edge longer than `longest`: slivers as long as the body make trees of boxes slow.
FittedInput subdivided(const FittedInput& input, double longest) {
    FittedInput out = input;
    for (bool split = true; split;) {
        split = false;
        std::unordered_map<std::uint64_t, std::int32_t> middle;
        const auto cut = [&](std::int32_t a, std::int32_t b) {
            const Vec3& p = out.points[static_cast<std::size_t>(a)];
            const Vec3& q = out.points[static_cast<std::size_t>(b)];
            if ((p - q).norm() <= longest) return -1;
            const auto [at, fresh] =
                middle.emplace(edge_key(a, b), static_cast<std::int32_t>(out.points.size()));
            if (fresh) out.points.push_back(0.5 * (p + q));
            return at->second;
        };
        std::vector<std::array<std::int32_t, 3>> triangles;
        std::vector<std::int32_t> faces;
        std::vector<std::array<std::int32_t, 2>> regions;
        for (std::size_t t = 0; t < out.triangles.size(); ++t) {
            const auto c = out.triangles[t];
            const std::array<std::int32_t, 3> m{cut(c[0], c[1]), cut(c[1], c[2]), cut(c[2], c[0])};
            const auto add = [&](std::int32_t a, std::int32_t b, std::int32_t d) {
                triangles.push_back({a, b, d});
                faces.push_back(out.face_of[t]);
                regions.push_back(out.regions[t]);
            };
            const int cuts = (m[0] >= 0 ? 1 : 0) + (m[1] >= 0 ? 1 : 0) + (m[2] >= 0 ? 1 : 0);
            split = split || cuts > 0;
            if (cuts == 0) add(c[0], c[1], c[2]);
            if (cuts == 3) {
                add(c[0], m[0], m[2]);
                add(m[0], c[1], m[1]);
                add(m[2], m[1], c[2]);
                add(m[0], m[1], m[2]);
            }
            for (std::size_t i = 0; i < 3 && cuts < 3; ++i) {
                const std::int32_t a = c[i];
                const std::int32_t b = c[(i + 1) % 3];
                const std::int32_t d = c[(i + 2) % 3];
                if (cuts == 1 && m[i] >= 0) {
                    add(a, m[i], d);
                    add(m[i], b, d);
                }
                if (cuts == 2 && m[i] < 0) {
                    // The edges at d are cut.
                    add(m[(i + 2) % 3], m[(i + 1) % 3], d);
                    add(a, b, m[(i + 1) % 3]);
                    add(a, m[(i + 1) % 3], m[(i + 2) % 3]);
                }
            }
        }
        out.triangles = std::move(triangles);
        out.face_of = std::move(faces);
        out.regions = std::move(regions);
    }
    return out;
}

} // namespace

FittedTets make_fitted_tets(const FittedInput& input, const FittedOptions& options) {
    const FittedInput fine = subdivided(input, 3.0 * options.size);
    FittedTets best;
    // Where a bad angle is an accident of the places chosen, other places do better.
    for (unsigned seed = 0; seed < 4; ++seed) {
        FittedTets tets = FittedMesher(fine, options, seed).run();
        const bool better = seed == 0 || tets.smallest_dihedral > best.smallest_dihedral;
        if (better) best = std::move(tets);
        if (best.smallest_dihedral >= 20.0 || best.tets.size() > 300000) break;
    }
    return best;
}

} // namespace upright
