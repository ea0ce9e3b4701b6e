// The mesher of fitted tetrahedra, over the files of this folder; mesh/fitted.hpp is its public face.
#pragma once

#include "base/angles.hpp"
#include "mesh/fitted.hpp"

#include "base/edge_key.hpp"
#include "base/error.hpp"
#include "base/groups.hpp"
#include "mesh/delaunay.hpp"
#include "mesh/polyline.hpp"
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
constexpr int attempts = 2;
constexpr std::size_t most_retried = 100; // bad places: more are no accident

// What a sample lies on.
enum class On : std::int32_t { Corner = 0, Curve = 1, Patch = 2, Inside = 3 };

struct Sample {
    Vec3 p = Vec3::Zero();
    On on = On::Inside;
    std::int32_t entity = -1;  // corner, curve or patch; of an inner sample its region
    double along = 0.0;        // arc length on its curve
    std::int32_t partner = -1; // the sample across a thin wall that it is the image of
};

// A chain of feature edges between two corners, or closed.
struct Curve : Polyline {
    std::array<std::int32_t, 2> ends{-1, -1}; // corners
    bool closed = false;
    std::vector<std::int32_t> patches;
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
    std::map<std::int32_t, double> area_of; // of each exact face in it
    std::vector<std::size_t> triangles;
    FacetTree tree;
};

// Samples by place: an octree whose leaves are as wide as the spacing of what lies in them.
class SampleTree {
  public:
    // `widest`: the largest spacing there will be.
    explicit SampleTree(double widest) : top_(2.0 * widest) {}
    void add(std::int32_t sample, const Vec3& p, double spacing) {
        std::array<long, 3> c{};
        for (int a = 0; a < 3; ++a)
            c[static_cast<std::size_t>(a)] = static_cast<long>(std::floor(p[a] / top_));
        std::int32_t at = roots_.emplace(hash(c), static_cast<std::int32_t>(cells_.size())).first->second;
        if (static_cast<std::size_t>(at) == cells_.size()) cells_.emplace_back();
        Vec3 low(top_ *
                 Vec3(static_cast<double>(c[0]), static_cast<double>(c[1]), static_cast<double>(c[2])));
        double w = top_;
        for (int depth = 0; w > 2.0 * spacing && depth < 40; ++depth) {
            w *= 0.5;
            std::size_t child = 0;
            for (int a = 0; a < 3; ++a)
                if (p[a] >= low[a] + w) {
                    child |= std::size_t{1} << static_cast<unsigned>(a);
                    low[a] += w;
                }
            std::int32_t next = cells_[static_cast<std::size_t>(at)].child[child];
            if (next < 0) {
                next = static_cast<std::int32_t>(cells_.size());
                cells_[static_cast<std::size_t>(at)].child[child] = next;
                cells_.emplace_back();
            }
            at = next;
        }
        if (static_cast<std::size_t>(sample) >= next_.size())
            next_.resize(static_cast<std::size_t>(sample) + 1, -1);
        next_[static_cast<std::size_t>(sample)] = cells_[static_cast<std::size_t>(at)].first;
        cells_[static_cast<std::size_t>(at)].first = sample;
    }
    // Calls `visit` for samples in cells that meet a box, until it returns false.
    template <class Visit> void in(const Vec3& low, const Vec3& high, const Visit& visit) const {
        std::array<long, 3> from{};
        std::array<long, 3> to{};
        for (int a = 0; a < 3; ++a) {
            from[static_cast<std::size_t>(a)] = static_cast<long>(std::floor(low[a] / top_));
            to[static_cast<std::size_t>(a)] = static_cast<long>(std::floor(high[a] / top_));
        }
        for (long i = from[0]; i <= to[0]; ++i)
            for (long j = from[1]; j <= to[1]; ++j)
                for (long k = from[2]; k <= to[2]; ++k) {
                    const auto found = roots_.find(hash({i, j, k}));
                    if (found == roots_.end()) continue;
                    const Vec3 corner =
                        top_ * Vec3(static_cast<double>(i), static_cast<double>(j), static_cast<double>(k));
                    if (!walk(found->second, corner, top_, low, high, visit)) return;
                }
    }
    // The same for samples that may lie within `radius`.
    template <class Visit> void near(const Vec3& p, double radius, const Visit& visit) const {
        in(p - Vec3::Constant(radius), p + Vec3::Constant(radius), visit);
    }

  private:
    struct Cell {
        std::array<std::int32_t, 8> child{-1, -1, -1, -1, -1, -1, -1, -1};
        std::int32_t first = -1; // of its samples
    };
    template <class Visit>
    bool walk(std::int32_t at, const Vec3& corner, double w, const Vec3& low, const Vec3& high,
              const Visit& visit) const {
        const Cell& cell = cells_[static_cast<std::size_t>(at)];
        for (std::int32_t s = cell.first; s >= 0; s = next_[static_cast<std::size_t>(s)])
            if (!visit(s)) return false;
        const Vec3 middle = corner + Vec3::Constant(0.5 * w);
        for (std::size_t c = 0; c < 8; ++c) {
            if (cell.child[c] < 0) continue;
            Vec3 place = corner;
            bool meets = true;
            for (int a = 0; a < 3; ++a) {
                const bool upper = (c >> static_cast<unsigned>(a) & 1U) != 0;
                meets = meets && (upper ? high[a] >= middle[a] : low[a] <= middle[a]);
                if (upper) place[a] = middle[a];
            }
            if (meets && !walk(cell.child[c], place, 0.5 * w, low, high, visit)) return false;
        }
        return true;
    }
    static std::uint64_t hash(const std::array<long, 3>& c) {
        std::uint64_t h = 0x9e3779b97f4a7c15ULL;
        for (const long v : c) {
            h ^= static_cast<std::uint64_t>(v) + 0x9e3779b97f4a7c15ULL + (h << 6U) + (h >> 2U);
            h *= 0xff51afd7ed558ccdULL;
        }
        return h;
    }
    double top_;
    std::unordered_map<std::uint64_t, std::int32_t> roots_;
    std::vector<Cell> cells_;
    std::vector<std::int32_t> next_; // sample in the same cell
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

    // Patches: connected triangles of one exact face, with what is too narrow to stand alone.
    void read_patches();
    using Edges = std::unordered_map<std::uint64_t, std::vector<std::int32_t>>; // triangles at each edge
    std::vector<std::int32_t> face_groups(const Edges& edges) const;
    void merge_narrow(const Edges& edges, std::vector<std::int32_t>& group);

    // Keeps sectors between the faces about an edge that are sharper than fair tetrahedra can fill, or leave
    // free.
    void find_wedges(std::uint64_t key, const std::vector<std::int32_t>& list);

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
    void find_asks();
    void require_no_hair(const Vec3& p, const Vec3& way, const std::vector<FacetTree::Hit>& hits,
                         const Patch& patch) const;
    void fill_sizes(const std::vector<std::pair<Vec3, double>>& finer);
    double surface_samples();

    // Places over a patch, no farther apart than a third of the size; of small triangles one for many.
    template <class Visit> void each_place(const Patch& patch, const Visit& visit) {
        double skipped = 1e300;
        for (const std::size_t t : patch.triangles) {
            const double longest =
                std::max({(corner(t, 1) - corner(t, 0)).norm(), (corner(t, 2) - corner(t, 1)).norm(),
                          (corner(t, 0) - corner(t, 2)).norm()});
            const int n = std::clamp(static_cast<int>(std::ceil(longest / (0.4 * options_.size))), 1, 200);
            if (longest < 0.1 * options_.size) {
                skipped += area(t);
                if (skipped < 0.004 * options_.size * options_.size) continue;
                skipped = 0.0;
            }
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
        samples_.push_back({p, on, entity, along, -1});
        const auto n = static_cast<std::int32_t>(samples_.size()) - 1;
        if (on != On::Inside) near_->add(n, p, size(p));
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
        label_.resize(tets.size(), -1);
        labelled_.resize(tets.size(), {-1, -1, -1, -1});
        for (std::size_t t = 0; t < tets.size(); ++t) {
            if (!tets[t].alive || labelled_[t] == tets[t].node) continue;
            label_[t] = label(tets[t]);
            labelled_[t] = tets[t].node;
        }
    }

    // Splits missing segments and mends faces between regions that lie on no patch. False where it gives up.
    bool refine();
    bool split_segments();
    bool lies_on_patch(const std::array<std::int32_t, 3>& s, std::int32_t one, std::int32_t other) const;
    std::vector<std::pair<Vec3, std::int32_t>> loose_faces();

    bool split_near(const Vec3& p, double reach);

    // Puts a sample on a segment, which becomes two.
    void split_segment_at(std::size_t segment, double along);

    // Whether what cannot be covered lies at wedges alone, where no other sizes would help.
    bool only_wedges() const;

    // Takes what is not covered as it is, without scraps that hang on by an edge or not at all.
    void accept();

    void remark_on(FittedTets& out, double worst, const Vec3& worst_at) const;

    [[noreturn]] void fail() const;

    FittedTets optimised();

    FittedTets collect(TetMesh& mesh);

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
    std::map<std::uint64_t, std::vector<std::int32_t>> features_;
    std::vector<Vec3> corners_;
    std::vector<std::vector<std::int32_t>> corner_patches_;
    std::vector<Curve> curves_;
    std::unique_ptr<SizeField> sizes_;
    std::unique_ptr<SampleTree> near_;
    std::vector<Sample> samples_;
    std::vector<Segment> segments_;
    std::vector<std::vector<std::size_t>> segments_at_; // of each sample
    std::unique_ptr<Delaunay> delaunay_;
    std::vector<std::int32_t> sample_of_; // of each node of the triangulation
    std::vector<std::int32_t> node_of_;   // of each sample
    std::vector<std::int32_t> label_;
    std::vector<std::array<std::int32_t, 4>> labelled_; // the nodes that each label was found for
    std::vector<Vec3> bad_places_;
    bool accepted_ = false;     // the boundary is not covered everywhere
    std::size_t flat_tets_ = 0; // were left out
    struct Off {
        double far = 0.0;
        Vec3 at = Vec3::Zero();
        std::size_t faces = 0;
    } off_; // where the skin leaves the exact shape
    struct Wedge {
        double angle = 0.0; // degrees
        Vec3 place = Vec3::Zero();
        double length = 0.0;
        bool inside = false; // material fills it
    };
    std::vector<Wedge> wedges_;
    struct Ask {
        Vec3 p;
        double size;
        bool thin; // a wall or a short curve
    };
    std::vector<Ask> asks_;
    struct Narrow {
        std::size_t faces = 0;
        double width = 0.0;
        Vec3 at = Vec3::Zero();
    } narrow_;           // faces that went into their neighbours' patches
    double floor_ = 0.0; // the least size that walls and short curves get
    double least_size_ = 0.0;
    double thinnest_ = 1e300; // wall
    Vec3 thinnest_at_ = Vec3::Zero();
};

} // namespace upright::fitting
