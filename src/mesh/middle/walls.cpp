// Walls: pairs of faces by rays through the material, the thinnest first.
#include "mesh/middle/walls.hpp"

#include "base/angles.hpp"
#include "base/edge_key.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <map>
#include <set>
#include <unordered_map>

namespace upright::middle {

namespace {

// Thin: the thickness at most so much of the root of a side's area.
constexpr double thin = 0.5;
// Thicknesses that count as one, by so much of them.
constexpr double alike = 0.02;
// A pair counts where it covers so much of its smaller face.
constexpr double least_cover = 0.2;
constexpr int most_parts = 12; // of a triangle's side, for rays
const double straight = std::cos(1.0 * pi / 180.0);
const double corner_from = std::cos(20.0 * pi / 180.0);

bool may_be_side(const FacetFace& face) {
    return (face.kind == FaceKind::Plane && face.normal.norm() > 0.5) ||
           (face.kind == FaceKind::Cylinder && (face.axis_to - face.axis_from).norm() > 0.0);
}

class Finder {
  public:
    explicit Finder(const FacetBody& body) : body_(body), mesh_(body.mesh()), n_(mesh_.faces.size()) {}

    Walls find() {
        out_.side.assign(n_, false);
        out_.edge.assign(n_, false);
        out_.kept.assign(n_, false);
        out_.thickness.assign(n_, 0.0);
        out_.least.assign(n_, 1e300);
        out_.most.assign(n_, 0.0);
        std::unordered_map<std::uint64_t, std::vector<std::size_t>> edges;
        for (std::size_t t = 0; t < mesh_.triangles.size(); ++t)
            for (std::size_t i = 0; i < 3; ++i)
                edges[edge_key(mesh_.triangles[t][i], mesh_.triangles[t][(i + 1) % 3])].push_back(t);
        next_.resize(n_);
        outer_.resize(n_);
        for (const auto& [key, list] : edges) {
            if (list.size() != 2 || face(list[0]) == face(list[1])) continue;
            const Meeting m = meeting(key, list);
            meetings_.push_back(m);
            const bool outer = m.rises < 0.0;
            for (const auto& [f, g] : {std::pair{m.f, m.g}, std::pair{m.g, m.f}}) {
                next_[f].insert(g);
                if (outer) outer_[f].insert(g);
            }
        }
        accept();
        find_rounds();
        choose();
        return std::move(out_);
    }

  private:
    // Two faces at an edge: how far the second rises over the first, against its length, and whether they go
    // on in one direction.
    struct Meeting {
        std::size_t f, g;
        double length, rises;
        bool tangent;
    };
    Meeting meeting(std::uint64_t key, const std::vector<std::size_t>& list) const {
        const Vec3& p = mesh_.points[key >> 32U];
        const Vec3& q = mesh_.points[key & 0xffffffffU];
        const Vec3 middle = 0.5 * (p + q);
        const auto normal = [&](std::size_t t) -> Vec3 {
            const FacetFace& f = mesh_.faces[face(t)];
            if (may_be_side(f)) return exact_normal(f, middle);
            return (corner(t, 1) - corner(t, 0)).cross(corner(t, 2) - corner(t, 0)).normalized();
        };
        const Vec3 n = normal(list[0]);
        const Vec3 beyond = (corner(list[1], 0) + corner(list[1], 1) + corner(list[1], 2)) / 3.0 - middle;
        return {face(list[0]), face(list[1]), (q - p).norm(), beyond.dot(n) / std::max(beyond.norm(), 1e-300),
                n.dot(normal(list[1])) > corner_from};
    }

    // The other side of a wall.
    std::size_t beyond(std::size_t wall, std::size_t side) const {
        const auto a = static_cast<std::size_t>(out_.all[wall].a);
        return a == side ? static_cast<std::size_t>(out_.all[wall].b) : a;
    }

    std::size_t face(std::size_t t) const { return static_cast<std::size_t>(mesh_.face_of[t]); }
    const Vec3& corner(std::size_t t, std::size_t i) const {
        return mesh_.points[static_cast<std::size_t>(mesh_.triangles[t][i])];
    }

    // Area of each pair that rays through the material find opposite to each other.
    std::map<std::pair<std::size_t, std::size_t>, double> opposite() const {
        std::map<std::pair<std::size_t, std::size_t>, double> out;
        const double diagonal = body_.bounds().diagonal();
        std::vector<FacetTree::Hit> hits;
        for (std::size_t t = 0; t < mesh_.triangles.size(); ++t) {
            const FacetFace& from = mesh_.faces[face(t)];
            if (!may_be_side(from)) continue;
            const Vec3 u = corner(t, 1) - corner(t, 0);
            const Vec3 v = corner(t, 2) - corner(t, 0);
            const double longest = std::max({u.norm(), v.norm(), (v - u).norm()});
            const int n = std::clamp(static_cast<int>(std::ceil(longest / (0.05 * diagonal))), 1, most_parts);
            const double area = u.cross(v).norm() / (n * (n + 1.0));
            for (int i = 0; i < n; ++i)
                for (int j = 0; i + j < n; ++j) {
                    const Vec3 p = corner(t, 0) + (i + 1.0 / 3) / n * u + (j + 1.0 / 3) / n * v;
                    const Vec3 normal = exact_normal(from, p);
                    hits.clear();
                    body_.tree().crossings(p - 1e-7 * diagonal * normal, -normal, hits);
                    const auto hit =
                        std::min_element(hits.begin(), hits.end(),
                                         [](const auto& a, const auto& b) { return a.along < b.along; });
                    if (hit == hits.end()) continue;
                    const std::size_t g = face(static_cast<std::size_t>(hit->triangle));
                    const FacetFace& to = mesh_.faces[g];
                    if (g == face(t) || to.kind != from.kind || !may_be_side(to)) continue;
                    if (exact_normal(to, p - hit->along * normal).dot(normal) > -straight) continue;
                    out[std::minmax(face(t), g)] += 0.5 * area;
                }
        }
        return out;
    }

    // Nothing where they are not parallel, or not about one axis.
    double distance(const FacetFace& a, const FacetFace& b) const {
        if (a.kind == FaceKind::Plane) return (a.centroid - b.centroid).dot(a.normal.normalized());
        const double t = std::abs(a.radius - b.radius);
        const double apart = std::max((on_axis(a, b.axis_from) - b.axis_from).norm(),
                                      (on_axis(a, b.axis_to) - b.axis_to).norm());
        return a.hole != b.hole && apart < 0.05 * t ? t : 0.0;
    }

    void accept() {
        std::vector<Wall> found;
        for (const auto& [pair, area] : opposite()) {
            const FacetFace& a = mesh_.faces[pair.first];
            const FacetFace& b = mesh_.faces[pair.second];
            const double t = distance(a, b);
            if (t > 1e-6 * body_.bounds().diagonal() && area > least_cover * std::min(a.area, b.area))
                found.push_back(
                    {static_cast<std::int32_t>(pair.first), static_cast<std::int32_t>(pair.second), t, area});
        }
        std::stable_sort(found.begin(), found.end(),
                         [](const Wall& a, const Wall& b) { return a.thickness < b.thickness; });
        std::vector<double> covered(n_, 0.0);
        walls_of_.resize(n_);
        for (const Wall& wall : found) {
            const auto a = static_cast<std::size_t>(wall.a);
            const auto b = static_cast<std::size_t>(wall.b);
            if (out_.edge[a] || out_.edge[b] || !is_thin(wall)) continue;
            out_.all.push_back(wall);
            walls_of_[a].push_back(out_.all.size() - 1);
            walls_of_[b].push_back(out_.all.size() - 1);
            for (const std::size_t f : {a, b}) {
                out_.side[f] = true;
                out_.thickness[f] += wall.thickness * wall.area;
                out_.least[f] = std::min(out_.least[f], wall.thickness);
                out_.most[f] = std::max(out_.most[f], wall.thickness);
                covered[f] += wall.area;
            }
            for (const std::size_t f : outer_[a])
                if (!out_.side[f] && outer_[b].count(f) > 0) out_.edge[f] = true;
        }
        for (std::size_t f = 0; f < n_; ++f)
            if (out_.side[f]) out_.thickness[f] /= covered[f];
        // A step: between two sides that have the other one in common.
        for (std::size_t f = 0; f < n_; ++f) {
            if (out_.side[f] || out_.edge[f]) continue;
            std::set<std::size_t> seen;
            for (const std::size_t g : next_[f])
                for (const std::size_t wall : walls_of_[g])
                    if (!seen.insert(beyond(wall, g)).second) out_.edge[f] = true;
        }
    }

    bool is_thin(const Wall& wall) const {
        const auto a = static_cast<std::size_t>(wall.a);
        const auto b = static_cast<std::size_t>(wall.b);
        if (wall.thickness <= thin * std::sqrt(std::min(mesh_.faces[a].area, mesh_.faces[b].area)))
            return true;
        // A short bend, or a tab: both sides go on where a wall as thick goes on.
        for (const std::size_t c : next_[a])
            for (const std::size_t other : walls_of_[c])
                if (next_[b].count(beyond(other, c)) > 0 &&
                    std::abs(wall.thickness - out_.all[other].thickness) < alike * wall.thickness)
                    return true;
        return false;
    }

    // Faces that are nothing else and go over into two sides.
    void find_rounds() {
        out_.rounds.resize(n_);
        std::vector<std::set<std::size_t>> into(n_);
        for (const Meeting& m : meetings_) {
            if (!m.tangent) continue;
            for (const auto& [f, g] : {std::pair{m.f, m.g}, std::pair{m.g, m.f}})
                if (!out_.side[f] && !out_.edge[f] && out_.side[g]) into[f].insert(g);
        }
        for (std::size_t f = 0; f < n_; ++f)
            if (into[f].size() == 2) out_.rounds[f].assign(into[f].begin(), into[f].end());
    }

    // Of the walls that share faces the side on which each face has one thickness; then the one that meets
    // other walls in inner corners, by their length; where neither does, the side of what was chosen next to
    // it, else the larger one.
    void choose() {
        std::vector<int> group(n_, -1);
        std::vector<int> color(n_, 0);
        int groups = 0;
        for (std::size_t seed = 0; seed < n_; ++seed) {
            if (!out_.side[seed] || group[seed] >= 0) continue;
            std::vector<std::size_t> list{seed};
            group[seed] = groups;
            for (std::size_t i = 0; i < list.size(); ++i)
                for (const std::size_t wall : walls_of_[list[i]]) {
                    const std::size_t other = beyond(wall, list[i]);
                    if (group[other] >= 0) continue;
                    group[other] = groups;
                    color[other] = 1 - color[list[i]];
                    list.push_back(other);
                }
            ++groups;
        }
        const auto count = static_cast<std::size_t>(groups);
        std::vector<std::array<double, 2>> inner(count, {0.0, 0.0});
        std::vector<std::array<double, 2>> area(count, {0.0, 0.0});
        std::vector<std::array<bool, 2>> stepped(count, {false, false});
        for (std::size_t f = 0; f < n_; ++f) {
            if (group[f] < 0) continue;
            const auto c = static_cast<std::size_t>(color[f]);
            area[static_cast<std::size_t>(group[f])][c] += mesh_.faces[f].area;
            if (out_.most[f] > (1.0 + alike) * out_.least[f])
                stepped[static_cast<std::size_t>(group[f])][c] = true;
        }
        struct Touch {
            std::size_t f, g;
        };
        std::vector<Touch> smooth;
        const auto add_inner = [&](std::size_t f, double length) {
            inner[static_cast<std::size_t>(group[f])][static_cast<std::size_t>(color[f])] += length;
        };
        for (const Meeting& m : meetings_) {
            // An inner corner that is rounded: by the edges of what rounds it.
            for (const auto& [f, g] : {std::pair{m.f, m.g}, std::pair{m.g, m.f}})
                if (!out_.rounds[f].empty() && mesh_.faces[f].hole && group[g] >= 0) add_inner(g, m.length);
            if (group[m.f] < 0 || group[m.g] < 0) continue;
            smooth.push_back({m.f, m.g});
            if (m.tangent || m.rises <= 0.0 || group[m.f] == group[m.g]) continue;
            add_inner(m.f, m.length);
            add_inner(m.g, m.length);
        }
        for (const std::vector<std::size_t>& two : out_.rounds)
            if (!two.empty()) smooth.push_back({two[0], two[1]});
        // Those with inner corners first, then what they touch, then from the largest on.
        std::vector<int> chosen(count, -1);
        for (std::size_t k = 0; k < count; ++k) {
            if (inner[k][0] != inner[k][1]) chosen[k] = inner[k][1] > inner[k][0] ? 1 : 0;
            if (stepped[k][0] != stepped[k][1]) chosen[k] = stepped[k][0] ? 1 : 0;
        }
        for (;;) {
            bool more = true;
            while (more) {
                more = false;
                for (const Touch& t : smooth)
                    for (const auto& [f, g] : {std::pair{t.f, t.g}, std::pair{t.g, t.f}}) {
                        int& mine = chosen[static_cast<std::size_t>(group[g])];
                        if (mine >= 0 || chosen[static_cast<std::size_t>(group[f])] != color[f]) continue;
                        mine = color[g];
                        more = true;
                    }
            }
            std::size_t largest = count;
            for (std::size_t k = 0; k < count; ++k)
                if (chosen[k] < 0 &&
                    (largest == count || area[k][0] + area[k][1] > area[largest][0] + area[largest][1]))
                    largest = k;
            if (largest == count) break;
            chosen[largest] = area[largest][1] > area[largest][0] ? 1 : 0;
        }
        for (std::size_t f = 0; f < n_; ++f)
            out_.kept[f] = group[f] >= 0 && chosen[static_cast<std::size_t>(group[f])] == color[f];
    }

    const FacetBody& body_;
    const FacetMesh& mesh_;
    std::size_t n_;
    std::vector<Meeting> meetings_;
    std::vector<std::vector<std::size_t>> walls_of_; // of each face
    std::vector<std::set<std::size_t>> next_;        // faces that share an edge
    std::vector<std::set<std::size_t>> outer_;       // those of an outer corner
    Walls out_;
};

} // namespace

Vec3 on_axis(const FacetFace& face, const Vec3& p) {
    const Vec3 along = (face.axis_to - face.axis_from).normalized();
    return face.axis_from + along * along.dot(p - face.axis_from);
}

Vec3 exact_normal(const FacetFace& face, const Vec3& p) {
    if (face.kind == FaceKind::Plane) return face.normal.normalized();
    const Vec3 out = (p - on_axis(face, p)).normalized();
    return face.hole ? Vec3(-out) : out;
}

Walls find_walls(const FacetBody& body) {
    return Finder(body).find();
}

} // namespace upright::middle
