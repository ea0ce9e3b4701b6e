// The mesher of fitted tetrahedra, over the files of this folder; mesh/fitted.hpp is its public face.
#pragma once

#include "base/angles.hpp"
#include "mesh/fitted.hpp"

#include "base/edge_key.hpp"
#include "base/error.hpp"
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

namespace upright::fitting {

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

    FittedTets run();

    // SurfaceGeometry, for the optimiser.
    Vec3 on_curve(std::int32_t curve, const Vec3& p) const override;
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
    void read_patches();

    // Sectors between the faces about an edge that are sharper than tetrahedra can fill, or leave free.
    void require_no_cusp(std::uint64_t key, const std::vector<std::int32_t>& list) const;

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
    void read_curves();

    // The asked size, and less where the surface bends, curves are short, walls thin, or the user asks.
    void make_sizes(const std::vector<std::pair<Vec3, double>>& finer);

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

    void sample_curves();

    bool encroached(const Segment& s) const;

    bool split_segment(const Segment& s, std::vector<Segment>& out);

    bool free_place(const Vec3& p, double radius) const;

    // Darts at 0.78 of the size, then a few steps of mutual repulsion on each patch.
    void sample_patches();

    // Not so near to a curve's segment that the face between would be flat.
    bool clear_of_curves(const Vec3& p) const;

    // Copies samples of an opposite patch that lies nearer than 0.6 of the size, so that thin walls match.
    void mirror(std::int32_t k);

    void repel(std::size_t fixed);

    // The region at a place, by the first crossing of a ray.
    std::int32_t region_at(const Vec3& p) const;

    // A body-centred lattice on the leaves of an octree graded by the size field.
    void sample_inside();

    void triangulate();

    // Adds one more sample to samples, hash and triangulation.
    std::int32_t insert(const Vec3& p, On on, std::int32_t entity, double along, std::int32_t near);

    void patches_of(std::int32_t sample, std::vector<std::int32_t>& out) const;

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

    std::int32_t label(const Delaunay::Tet& tet) const;

    void label_all() {
        const auto& tets = delaunay_->tets();
        label_.assign(tets.size(), -1);
        for (std::size_t t = 0; t < tets.size(); ++t)
            if (tets[t].alive) label_[t] = label(tets[t]);
    }

    // Splits missing segments and mends faces between regions that lie on no patch. False where it gives up.
    bool refine();
    bool split_segments();
    bool lies_on_patch(const std::array<std::int32_t, 3>& s, std::int32_t one, std::int32_t other) const;
    std::vector<std::pair<Vec3, std::int32_t>> loose_faces();

    bool split_near(const Vec3& p, double reach);

    [[noreturn]] void fail() const;

    FittedTets optimised();

    FittedTets collect(const TetMesh& mesh);

    // The skin, checked: every edge of it between two faces of it (or where more regions meet), every face on
    // one patch.
    void collect_skin(const TetMesh& mesh, const std::vector<std::int32_t>& number, FittedTets& out);

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

} // namespace upright::fitting
