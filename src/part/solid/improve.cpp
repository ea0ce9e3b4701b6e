#include "part/solid/improve.hpp"

#include "base/angles.hpp"
#include "base/edge_key.hpp"
#include "mesh/quality.hpp"
#include "mesh/tet_optimizer.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <map>
#include <set>
#include <unordered_map>

namespace upright {

namespace {

constexpr std::int32_t void_region = 1 << 20;
constexpr double least_after_pull = 0.15; // sine
constexpr double far_away = 1e3;          // sizes: where a place is put that cannot be had
constexpr int void_layers = 2;
// Degrees: thinner triangles of the skin are made wider, and dihedral angles may become so small for it.
constexpr std::array<std::array<double, 2>, 2> facet_targets{{{10.0, 20.0}, {6.0, 17.0}}};
constexpr int facet_rounds = 3;
constexpr int ease_rounds = 8;
constexpr double void_target = 6.0; // degrees: it is there to keep skins apart

// Sheets as what points slide on; curves are pairs of sheets.
class Surfaces final : public SurfaceGeometry {
  public:
    explicit Surfaces(const SheetSet& sheets) : sheets_(sheets) {}
    std::int32_t curve(std::int32_t a, std::int32_t b) {
        const auto [found, fresh] = numbers_.emplace(std::pair{std::min(a, b), std::max(a, b)},
                                                     static_cast<std::int32_t>(pairs_.size()));
        if (fresh) pairs_.push_back({std::min(a, b), std::max(a, b)});
        return found->second;
    }
    Vec3 on_curve(std::int32_t curve, const Vec3& p) const override {
        const auto& pair = pairs_[static_cast<std::size_t>(curve)];
        return or_away(sheets_.onto({pair[0], pair[1]}, p), p);
    }
    Vec3 on_patch(std::int32_t patch, const Vec3& p) const override {
        return or_away(sheets_.onto({patch}, p), p);
    }
    Vec3 patch_normal(std::int32_t patch, const Vec3& p) const override { return sheets_[patch].normal(p); }

  private:
    // The place before it was moved would be taken for one on the surface.
    Vec3 or_away(const std::optional<Vec3>& to, const Vec3& p) const {
        return to ? *to : Vec3(p + Vec3::Constant(far_away * sheets_.size()));
    }
    const SheetSet& sheets_;
    std::map<std::pair<std::int32_t, std::int32_t>, std::int32_t> numbers_;
    std::vector<std::array<std::int32_t, 2>> pairs_;
};

class Improver {
  public:
    Improver(const CutTets& tets, const std::vector<bool>& solid, const SheetSet& sheets)
        : sheets_(sheets), surfaces_(sheets) {
        take(tets, solid);
        find_faces();
        find_entities();
    }

    Improved run(const ImproveOptions& options) {
        if (options.target >= 0.0) pull();
        if (options.target > 0.0) {
            mesh_.easy_region = void_region;
            mesh_.easy_target = void_target;
            optimise_tets(mesh_, surfaces_, options.target);
            pull();
            optimise_tets(mesh_, surfaces_, options.target);
            ease(options);
            widen_facets();
        }
        return result();
    }

  private:
    struct Wall {
        std::array<std::int32_t, 3> nodes; // seen from before it counter-clockwise
        std::int32_t behind, before, sheet;
    };

    // The solid and the void next to it.
    void take(const CutTets& tets, const std::vector<bool>& solid) {
        std::vector<char> near(tets.points.size(), 0);
        for (std::size_t t = 0; t < solid.size(); ++t)
            if (solid[t])
                for (const std::int32_t n : tets.tets[t]) near[static_cast<std::size_t>(n)] = 1;
        std::vector<bool> wanted = solid;
        for (int layer = 0; layer < void_layers; ++layer) {
            std::vector<char> wider = near;
            for (std::size_t t = 0; t < solid.size(); ++t) {
                const auto& n = tets.tets[t];
                if (std::none_of(n.begin(), n.end(),
                                 [&](std::int32_t i) { return near[static_cast<std::size_t>(i)] != 0; }))
                    continue;
                wanted[t] = true;
                for (const std::int32_t i : n) wider[static_cast<std::size_t>(i)] = 1;
            }
            near = std::move(wider);
        }
        std::vector<std::int32_t> number(tets.points.size(), -1);
        for (std::size_t t = 0; t < solid.size(); ++t) {
            if (!wanted[t]) continue;
            TetMesh::Tet one;
            for (std::size_t i = 0; i < 4; ++i) {
                const auto n = static_cast<std::size_t>(tets.tets[t][i]);
                if (number[n] < 0) {
                    number[n] = static_cast<std::int32_t>(mesh_.nodes.size());
                    TetMesh::Node node;
                    node.p = tets.points[n];
                    mesh_.nodes.push_back(node);
                    lies_on_.push_back(tets.on[n]);
                }
                one.node[i] = number[n];
            }
            one.region = solid[t] ? tets.label[t] : void_region;
            mesh_.tets.push_back(one);
        }
    }

    // Faces between regions, and to the outside.
    std::vector<Wall> walls() const {
        CutTets now;
        now.points.resize(mesh_.nodes.size());
        std::vector<std::size_t> of;
        for (std::size_t t = 0; t < mesh_.tets.size(); ++t)
            if (mesh_.tets[t].alive) {
                now.tets.push_back(mesh_.tets[t].node);
                of.push_back(t);
            }
        const auto beyond = neighbours_of(now);
        std::vector<Wall> out;
        for (std::size_t i = 0; i < of.size(); ++i) {
            const TetMesh::Tet& tet = mesh_.tets[of[i]];
            for (std::size_t side = 0; side < 4; ++side) {
                const std::int32_t o = beyond[i][side];
                const std::int32_t other = o < 0 ? -1 : mesh_.tets[of[static_cast<std::size_t>(o)]].region;
                if (other == tet.region || (o >= 0 && static_cast<std::size_t>(o) < i)) continue;
                Wall w{{}, tet.region, other, -1};
                for (std::size_t k = 0; k < 3; ++k) w.nodes[k] = tet.node[tet_faces[side][k]];
                if (w.behind == void_region) { // the part lies behind its skin
                    if (w.before >= 0) std::swap(w.nodes[1], w.nodes[2]);
                    std::swap(w.behind, w.before);
                }
                out.push_back(w);
            }
        }
        return out;
    }

    std::int32_t sheet_of(const Wall& w, const std::vector<std::vector<std::int32_t>>& on) const {
        std::array<Vec3, 3> corners;
        std::array<const std::vector<std::int32_t>*, 3> lists{};
        for (std::size_t k = 0; k < 3; ++k) {
            const auto n = static_cast<std::size_t>(w.nodes[k]);
            corners[k] = mesh_.nodes[n].p;
            lists[k] = &on[n];
        }
        return sheet_of_triangle(sheets_, corners, lists);
    }

    void find_faces() {
        walls_ = walls();
        for (Wall& w : walls_) w.sheet = sheet_of(w, lies_on_);
    }

    void find_entities() {
        std::vector<std::set<std::int32_t>> patches(mesh_.nodes.size());
        std::vector<char> loose(mesh_.nodes.size(), 0);
        std::unordered_map<std::uint64_t, std::pair<std::int32_t, bool>> at_edge; // a sheet; more than one?
        for (const Wall& w : walls_)
            for (std::size_t k = 0; k < 3; ++k) {
                const auto n = static_cast<std::size_t>(w.nodes[k]);
                if (w.sheet < 0)
                    loose[n] = 1;
                else
                    patches[n].insert(w.sheet);
                const auto [found, fresh] =
                    at_edge.emplace(edge_key(w.nodes[k], w.nodes[(k + 1) % 3]), std::pair{w.sheet, false});
                if (!fresh && found->second.first != w.sheet) found->second.second = true;
            }
        std::vector<int> segments(mesh_.nodes.size(), 0);
        for (const auto& [key, entry] : at_edge) {
            if (!entry.second) continue;
            mesh_.segments.insert(key);
            ++segments[key >> 32U];
            ++segments[key & 0xffffffffU];
        }
        for (std::size_t n = 0; n < mesh_.nodes.size(); ++n) {
            TetMesh::Node& node = mesh_.nodes[n];
            node.patches.assign(patches[n].begin(), patches[n].end());
            node.on = 3;
            if (loose[n] != 0 || node.patches.size() > 2 || (segments[n] != 0 && segments[n] != 2))
                node.on = 0;
            else if (node.patches.size() == 2) {
                node.on = 1;
                node.entity = surfaces_.curve(node.patches[0], node.patches[1]);
            } else if (node.patches.size() == 1) {
                node.on = 2;
                node.entity = node.patches[0];
            }
        }
    }

    // The tetrahedra of each point.
    std::vector<std::vector<std::int32_t>> tets_at_points() const {
        std::vector<std::vector<std::int32_t>> at(mesh_.nodes.size());
        for (std::size_t t = 0; t < mesh_.tets.size(); ++t)
            if (mesh_.tets[t].alive)
                for (const std::int32_t n : mesh_.tets[t].node)
                    at[static_cast<std::size_t>(n)].push_back(static_cast<std::int32_t>(t));
        return at;
    }

    const Vec3& place(std::int32_t n) const { return mesh_.nodes[static_cast<std::size_t>(n)].p; }

    double least_of(const std::vector<std::int32_t>& tets) const {
        double out = 1.0;
        for (const std::int32_t t : tets) {
            std::array<Vec3, 4> p;
            for (std::size_t i = 0; i < 4; ++i) p[i] = place(mesh_.tets[static_cast<std::size_t>(t)].node[i]);
            out = std::min(out, least_sine(p));
        }
        return out;
    }

    // Those of the part, and the void ones.
    std::pair<std::vector<std::int32_t>, std::vector<std::int32_t>>
    sides(const std::vector<std::int32_t>& tets) const {
        std::pair<std::vector<std::int32_t>, std::vector<std::int32_t>> out;
        for (const std::int32_t t : tets)
            (mesh_.tets[static_cast<std::size_t>(t)].region == void_region ? out.second : out.first)
                .push_back(t);
        return out;
    }

    // The least angle of a triangle, in degrees.
    double sharpest(const std::array<std::int32_t, 3>& nodes) const {
        double out = 180.0;
        for (std::size_t k = 0; k < 3; ++k) {
            const Vec3 a = place(nodes[(k + 1) % 3]) - place(nodes[k]);
            const Vec3 b = place(nodes[(k + 2) % 3]) - place(nodes[k]);
            out = std::min(out, std::atan2(a.cross(b).norm(), a.dot(b)) / degree);
        }
        return out;
    }

    // Thin triangles of the skin, which tetrahedra do not mind: their points slide on what they lie on while
    // no angle becomes worse than it was, or than all have to be.
    void widen_facets() {
        std::vector<std::array<std::int32_t, 3>> facets;
        std::vector<std::vector<std::int32_t>> facets_at(mesh_.nodes.size());
        for (const Wall& w : walls()) {
            if (w.behind == void_region || w.behind < 0 || (w.before >= 0 && w.before != void_region))
                continue;
            for (const std::int32_t n : w.nodes)
                facets_at[static_cast<std::size_t>(n)].push_back(static_cast<std::int32_t>(facets.size()));
            facets.push_back(w.nodes);
        }
        const auto tets_at = tets_at_points();
        const auto thinnest = [&](std::size_t n) {
            double out = 180.0;
            for (const std::int32_t f : facets_at[n])
                out = std::min(out, sharpest(facets[static_cast<std::size_t>(f)]));
            return out;
        };
        for (const auto& [target, floor] : facet_targets)
            for (int round = 0; round < facet_rounds; ++round)
                for (const auto& facet : facets) {
                    if (sharpest(facet) >= target) continue;
                    for (const std::int32_t n : facet)
                        widen_at(static_cast<std::size_t>(n), floor, tets_at, thinnest);
                }
    }

    template <class Thinnest>
    void widen_at(std::size_t n, double least_angle, const std::vector<std::vector<std::int32_t>>& tets_at,
                  const Thinnest& thinnest) {
        TetMesh::Node& node = mesh_.nodes[n];
        if (node.on != 1 && node.on != 2) return;
        Vec3 normal = surfaces_.patch_normal(node.patches[0], node.p);
        Vec3 first = Vec3::Zero(); // ways to slide
        Vec3 second = Vec3::Zero();
        if (node.on == 2) {
            first = normal.unitOrthogonal();
            second = normal.cross(first);
        } else {
            first = normal.cross(surfaces_.patch_normal(node.patches[1], node.p));
            if (first.norm() < 1e-3) return;
            first.normalize();
        }
        double shortest = 1e300;
        for (const std::int32_t t : tets_at[n])
            for (const std::int32_t o : mesh_.tets[static_cast<std::size_t>(t)].node)
                if (static_cast<std::size_t>(o) != n)
                    shortest = std::min(shortest, (place(o) - node.p).norm());
        const Vec3 from = node.p;
        const auto [solid, beyond] = sides(tets_at[n]);
        const double floor = std::min(least_of(solid), std::sin(least_angle * degree));
        const double floor_beyond = std::min(least_of(beyond), std::sin(void_target * degree));
        double best = thinnest(n);
        Vec3 to = from;
        for (const double step : {0.4, 0.2, 0.1})
            for (int way = 0; way < 8; ++way) {
                const double angle = 0.25 * pi * way;
                const Vec3 wish =
                    from + step * shortest * (std::cos(angle) * first + std::sin(angle) * second);
                const auto there = sheets_.onto(node.patches, wish);
                if (!there) continue;
                node.p = *there;
                const double now = thinnest(n);
                if (now > best && least_of(solid) >= floor && least_of(beyond) >= floor_beyond) {
                    best = now;
                    to = node.p;
                }
            }
        node.p = to;
    }

    // Points of sharp tetrahedra off free sheets, by a little, where the tetrahedra about them become better.
    void ease(const ImproveOptions& options) {
        const double fair = std::sin(options.fair * degree);
        const auto at = tets_at_points();
        for (int round = 0; round < ease_rounds; ++round) {
            bool moved = false;
            for (std::size_t t = 0; t < mesh_.tets.size(); ++t) {
                const TetMesh::Tet& tet = mesh_.tets[t];
                if (!tet.alive || tet.region == void_region) continue;
                if (least_of({static_cast<std::int32_t>(t)}) >= fair) continue;
                for (const std::int32_t n : tet.node)
                    moved = ease_at(static_cast<std::size_t>(n), at, options) || moved;
            }
            if (!moved) return;
        }
    }

    bool ease_at(std::size_t n, const std::vector<std::vector<std::int32_t>>& tets_at,
                 const ImproveOptions& options) {
        TetMesh::Node& node = mesh_.nodes[n];
        std::vector<std::int32_t> exact;
        std::vector<std::int32_t> left;
        for (const std::int32_t s : node.patches)
            (std::find(options.free.begin(), options.free.end(), s) == options.free.end() ? exact : left)
                .push_back(s);
        if (left.empty() || exact.size() > 2) return false;
        const double most = options.off * sheets_.size();
        const auto within = [&](const Vec3& p) {
            return std::all_of(left.begin(), left.end(),
                               [&](std::int32_t s) { return std::abs(sheets_[s].value(p)) <= most; });
        };
        const Vec3 from = node.p;
        const auto [solid, beyond] = sides(tets_at[n]);
        const double floor_beyond = std::min(least_of(beyond), std::sin(void_target * degree));
        double best = least_of(solid);
        const double before = best;
        Vec3 to = from;
        const Vec3 normal = sheets_[left.front()].normal(from);
        const Vec3 first = normal.unitOrthogonal();
        const Vec3 second = normal.cross(first);
        for (const double step : {1.0, 0.5, 0.25})
            for (const Vec3& way : {normal, Vec3(-normal), first, Vec3(-first), second, Vec3(-second)}) {
                const auto there = sheets_.onto(exact, from + step * most * way);
                if (!there || !within(*there)) continue;
                node.p = *there;
                const double now = least_of(solid);
                if (now <= best + 1e-6 || least_of(beyond) < floor_beyond) continue;
                best = now;
                to = node.p;
            }
        node.p = to;
        return best > before;
    }

    // Each skin point onto what it lies on, as far as the tetrahedra about it allow.
    void pull() {
        const auto at = tets_at_points();
        for (std::size_t n = 0; n < mesh_.nodes.size(); ++n) {
            TetMesh::Node& node = mesh_.nodes[n];
            if (at[n].empty() || node.patches.empty() || node.patches.size() > 3) continue;
            const auto to = sheets_.onto(node.patches, node.p);
            if (!to || (*to - node.p).norm() < 1e-12 * sheets_.size()) continue;
            const Vec3 from = node.p;
            const double floor = std::min(least_of(at[n]), least_after_pull);
            for (const double share : {1.0, 0.5, 0.25}) {
                node.p = from + share * (*to - from);
                if (least_of(at[n]) >= floor) break;
                node.p = from;
            }
        }
    }

    Improved result() {
        Improved out;
        walls_ = walls();
        std::vector<std::vector<std::int32_t>> patches;
        for (const TetMesh::Node& n : mesh_.nodes) patches.push_back(n.patches);
        for (const TetMesh::Node& n : mesh_.nodes) out.tets.add_point(n.p);
        std::vector<bool> kept;
        for (const TetMesh::Tet& t : mesh_.tets) {
            if (!t.alive || t.region == void_region) continue;
            out.tets.add_tet(t.node, t.region);
            kept.push_back(true);
        }
        const std::vector<std::int32_t> number = out.tets.keep(kept);
        out.sheets_of.resize(out.tets.points.size());
        for (Wall& w : walls_) {
            if (w.behind == void_region || w.behind < 0) continue;
            w.sheet = sheet_of(w, patches);
            Improved::Face f;
            f.behind = w.behind;
            f.before = w.before == void_region ? -1 : w.before;
            f.sheet = w.sheet;
            for (std::size_t k = 0; k < 3; ++k) {
                f.nodes[k] = number[static_cast<std::size_t>(w.nodes[k])];
                auto& list = out.sheets_of[static_cast<std::size_t>(f.nodes[k])];
                if (f.sheet >= 0 && std::find(list.begin(), list.end(), f.sheet) == list.end())
                    list.push_back(f.sheet);
            }
            out.faces.push_back(f);
        }
        return out;
    }

    const SheetSet& sheets_;
    Surfaces surfaces_;
    TetMesh mesh_;
    std::vector<std::vector<std::int32_t>> lies_on_;
    std::vector<Wall> walls_;
};

} // namespace

Improved improve(const CutTets& tets, const std::vector<bool>& solid, const SheetSet& sheets,
                 const ImproveOptions& options) {
    return Improver(tets, solid, sheets).run(options);
}

} // namespace upright
