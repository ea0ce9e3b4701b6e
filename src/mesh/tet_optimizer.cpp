#include "mesh/tet_optimizer.hpp"
#include "base/angles.hpp"
#include "mesh/quality.hpp"
#include "mesh/ring_triangles.hpp"

#include "base/edge_key.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <map>
#include <random>

namespace upright {

namespace {

constexpr std::size_t longest_ring = 9;
constexpr std::size_t largest_star = 160; // that a collapse may add up
constexpr int most_passes = 25;
constexpr double farthest = 100.0; // edges: so far no node is moved
// Tetrahedra that are looked at, beside half of all: where more are bad the shape is made of thin things.
constexpr std::size_t least_work = 50000;
constexpr std::uint8_t most_tries = 5; // at one tetrahedron, for nothing

class Optimiser {
  public:
    Optimiser(TetMesh& mesh, const SurfaceGeometry& surfaces, double target)
        : mesh_(mesh), surfaces_(surfaces), target_(std::sin(target * pi / 180.0)), at_(mesh.nodes.size()),
          random_(7) {
        for (std::size_t t = 0; t < mesh.tets.size(); ++t) {
            if (!mesh.tets[t].alive) continue;
            for (const std::int32_t n : mesh.tets[t].node)
                at_[static_cast<std::size_t>(n)].push_back(static_cast<std::int32_t>(t));
        }
        if (mesh.easy_target > 0.0) easy_ = std::max(1.0, target_ / std::sin(mesh.easy_target * pi / 180.0));
        changes_.resize(mesh.nodes.size(), 1);
        settled_.resize(mesh.nodes.size(), 0);
        quality_.resize(mesh.tets.size());
        tries_.resize(mesh.tets.size(), 0);
        for (std::size_t t = 0; t < mesh.tets.size(); ++t)
            quality_[t] = mesh.tets[t].alive ? sine(mesh.tets[t].node, mesh.tets[t].region) : 1.0;
    }

    void run() {
        double last_sum = -1.0;
        int idle = 0;
        std::size_t work = 0;
        for (int pass = 0; pass < most_passes; ++pass) {
            std::vector<std::int32_t> bad;
            for (std::size_t t = 0; t < mesh_.tets.size(); ++t)
                if (mesh_.tets[t].alive && quality_[t] < target_) bad.push_back(static_cast<std::int32_t>(t));
            if (bad.empty()) return;
            std::sort(bad.begin(), bad.end(), [&](std::int32_t a, std::int32_t b) { return q(a) < q(b); });
            double sum = 0.0;
            for (const std::int32_t t : bad) sum += target_ - q(t);
            // Progress is measured; two passes without any end it.
            idle = last_sum >= 0.0 && sum > 0.98 * last_sum ? idle + 1 : 0;
            if (idle >= 3) return;
            last_sum = sum;
            for (const std::int32_t t : bad) {
                if (!alive(t) || q(t) >= target_ || tries(t) >= most_tries) continue;
                if (++work > mesh_.tets.size() / 2 + least_work) return;
                const double before = q(t);
                mend(t, pass);
                // What stays as it is again and again is the shape's own.
                if (alive(t) && q(t) <= before + 1e-6) ++tries(t);
            }
        }
    }

  private:
    bool alive(std::int32_t t) const { return mesh_.tets[static_cast<std::size_t>(t)].alive; }
    std::uint8_t& tries(std::int32_t t) { return tries_[static_cast<std::size_t>(t)]; }
    double q(std::int32_t t) const { return quality_[static_cast<std::size_t>(t)]; }
    const TetMesh::Tet& tet(std::int32_t t) const { return mesh_.tets[static_cast<std::size_t>(t)]; }
    TetMesh::Node& node(std::int32_t n) { return mesh_.nodes[static_cast<std::size_t>(n)]; }
    const TetMesh::Node& node(std::int32_t n) const { return mesh_.nodes[static_cast<std::size_t>(n)]; }
    const Vec3& place(std::int32_t n) const { return mesh_.nodes[static_cast<std::size_t>(n)].p; }
    std::vector<std::int32_t>& star(std::int32_t n) { return at_[static_cast<std::size_t>(n)]; }

    // Of an easy region larger, so that what is good enough there is so for all that compares.
    double sine(const std::array<std::int32_t, 4>& n, std::int32_t region) const {
        const double least = least_sine({place(n[0]), place(n[1]), place(n[2]), place(n[3])});
        return region == mesh_.easy_region && least > 0.0 ? std::min(1.0, easy_ * least) : least;
    }

    void mend(std::int32_t t, int pass) {
        const auto nodes = tet(t).node;
        if (pass > 0 || q(t) > 0.1)
            for (const std::int32_t n : nodes)
                if (smooth(n) && (!alive(t) || q(t) >= target_)) return;
        for (std::size_t i = 0; i < 4; ++i)
            for (std::size_t j = i + 1; j < 4; ++j)
                if (remove_edge(nodes[i], nodes[j])) return;
        for (std::size_t i = 0; i < 4; ++i)
            if (flip_face(t, i)) return;
        for (std::size_t i = 0; i < 4; ++i)
            for (std::size_t j = 0; j < 4; ++j)
                if (i != j && collapse(nodes[i], nodes[j])) return;
        if (pass == 0)
            for (const std::int32_t n : nodes)
                if (smooth(n) && (!alive(t) || q(t) >= target_)) return;
    }

    void kill(std::int32_t t) {
        mesh_.tets[static_cast<std::size_t>(t)].alive = false;
        for (const std::int32_t n : tet(t).node) {
            auto& list = star(n);
            list.erase(std::find(list.begin(), list.end(), t));
            ++changes_[static_cast<std::size_t>(n)];
        }
        free_.push_back(t);
    }

    void make(const std::array<std::int32_t, 4>& nodes, std::int32_t region, double quality) {
        std::int32_t t = 0;
        if (free_.empty()) {
            t = static_cast<std::int32_t>(mesh_.tets.size());
            mesh_.tets.emplace_back();
            quality_.push_back(0.0);
            tries_.push_back(0);
        } else {
            t = free_.back();
            free_.pop_back();
        }
        TetMesh::Tet& made = mesh_.tets[static_cast<std::size_t>(t)];
        made.node = nodes;
        made.region = region;
        made.alive = true;
        quality_[static_cast<std::size_t>(t)] = quality;
        tries(t) = 0;
        for (const std::int32_t n : nodes) {
            star(n).push_back(t);
            ++changes_[static_cast<std::size_t>(n)];
        }
    }

    bool joined(std::int32_t a, std::int32_t b) {
        for (const std::int32_t t : star(a))
            for (const std::int32_t n : tet(t).node)
                if (n == b) return true;
        return false;
    }

    // Where a node may go.
    struct Ways {
        std::array<Vec3, 7> to;
        std::size_t used = 0;
        void add(const Vec3& way) { to[used++] = way; }
    };

    // Away from the face opposite in the worst tetrahedron and along it toward its middle, and about at
    // random.
    void find_ways(std::int32_t n, std::int32_t worst, double step, Ways& ways) {
        const Vec3 here = place(n);
        std::array<Vec3, 3> f;
        std::size_t used = 0;
        for (const std::int32_t o : tet(worst).node)
            if (o != n) f[used++] = place(o);
        Vec3 normal = (f[1] - f[0]).cross(f[2] - f[0]).normalized();
        if (normal.dot(here - f[0]) < 0.0) normal = -normal;
        ways.add(step * normal);
        Vec3 in_plane = (f[0] + f[1] + f[2]) / 3.0 - here;
        in_plane -= normal * in_plane.dot(normal);
        if (in_plane.norm() > 1e-12 * step) ways.add(step * in_plane.normalized());
        for (int k = 0; k < 3; ++k) {
            const Vec3 r(uniform_(random_), uniform_(random_), uniform_(random_));
            if (r.norm() > 1e-3) ways.add(step * r.normalized());
        }
    }

    // Moves a node to the best of the places, on its surface or curve, and says how good it is there; where
    // none is better than `value` it stays.
    double take_best(std::int32_t n, const std::vector<std::int32_t>& around, const Ways& ways,
                     double value) {
        TetMesh::Node& here = node(n);
        const Vec3 from = here.p;
        Vec3 chosen = from;
        order_ = around;
        double far = 0.0;
        for (const std::int32_t o : tet(around.front()).node)
            far = std::max(far, farthest * farthest * (place(o) - from).squaredNorm());
        for (std::size_t k = 0; k < ways.used; ++k) {
            Vec3 to = from + ways.to[k];
            if (here.on == 2) to = surfaces_.on_patch(here.entity, to);
            if (here.on == 1) to = surfaces_.on_curve(here.entity, to);
            // Where the surface is not to be had near by. Far away a place may even look good.
            if (here.on != 3 && (to - from).squaredNorm() > far) continue;
            here.p = to;
            double least = 1.0;
            for (std::size_t i = 0; i < order_.size(); ++i) {
                const std::int32_t t = order_[i];
                least = std::min(least, sine(tet(t).node, tet(t).region));
                if (least > value) continue;
                // Who spoils one place spoils the next: asked first there.
                std::swap(order_[0], order_[i]);
                break;
            }
            if (least > value) {
                value = least;
                chosen = to;
            }
        }
        here.p = chosen;
        return value;
    }

    // Hill climbing on the least sine of the star; a node stays on its curve or patch.
    bool smooth(std::int32_t n) {
        TetMesh::Node& here = node(n);
        if (here.on == 0) return false;
        const std::vector<std::int32_t>& around = star(n);
        if (around.empty()) return false;
        // It found no better place, and nothing about it has changed since.
        const auto at = static_cast<std::size_t>(n);
        if (settled_[at] == changes_[at]) return false;
        double best = 1.0;
        std::int32_t worst = around.front();
        Vec3 middle = Vec3::Zero();
        double count = 0.0;
        for (const std::int32_t t : around) {
            if (q(t) < best) {
                best = q(t);
                worst = t;
            }
            for (const std::int32_t o : tet(t).node)
                if (o != n) {
                    middle += place(o);
                    count += 1.0;
                }
        }
        middle /= count;
        const double before = best;
        double step = 0.0;
        for (const std::int32_t o : tet(worst).node) step = std::max(step, (place(o) - here.p).norm());
        step *= 0.25;
        const Vec3 start = here.p;
        for (int round = 0; round < 6; ++round) {
            Ways ways;
            if (round == 0) ways.add(middle - here.p);
            find_ways(n, worst, step, ways);
            const double chosen_value = take_best(n, around, ways, best);
            if (chosen_value > best + 1e-4) {
                best = chosen_value;
                double lowest = 1.0;
                for (const std::int32_t t : around)
                    if (const double s = sine(tet(t).node, tet(t).region); s < lowest) {
                        lowest = s;
                        worst = t;
                    }
                if (best > target_ + 0.03) break;
            } else {
                step *= 0.4;
            }
        }
        // A node of a curve must not pass its neighbours: the tetrahedra would have turned inside out.
        if (best <= before + 1e-6) {
            here.p = start;
            settled_[at] = changes_[at];
            return false;
        }
        for (const std::int32_t t : around) {
            quality_[static_cast<std::size_t>(t)] = sine(tet(t).node, tet(t).region);
            for (const std::int32_t o : tet(t).node) ++changes_[static_cast<std::size_t>(o)];
        }
        return true;
    }

    struct Fan {
        std::int32_t region = 0;
        std::vector<std::int32_t> ring; // closed rings do not repeat the first
        bool closed = false;
        // The best triangulation of the ring.
        std::vector<std::array<std::size_t, 3>> triangles;
    };

    // The tetrahedra at an edge as fans of one region each. False where they make no proper ring.
    bool fans_at(std::int32_t a, std::int32_t b, std::vector<Fan>& fans, std::vector<std::int32_t>& tets,
                 double& least) {
        tets.clear();
        fans.clear();
        least = 1.0;
        std::map<std::int32_t, std::pair<std::int32_t, std::int32_t>>
            next; // ring node: following node, region
        for (const std::int32_t t : star(a)) {
            const auto& n = tet(t).node;
            if (std::find(n.begin(), n.end(), b) == n.end()) continue;
            tets.push_back(t);
            least = std::min(least, q(t));
            // The other two in the order that makes (a, b, c, d) positive.
            std::array<std::int32_t, 2> o{};
            std::size_t k = 0;
            std::size_t ia = 0;
            std::size_t ib = 0;
            std::array<std::size_t, 2> io{};
            for (std::size_t i = 0; i < 4; ++i) {
                if (n[i] == a)
                    ia = i;
                else if (n[i] == b)
                    ib = i;
                else {
                    io[k] = i;
                    o[k++] = n[i];
                }
            }
            const std::array<std::size_t, 4> order{ia, ib, io[0], io[1]};
            int swaps = 0;
            for (std::size_t i = 0; i < 4; ++i)
                for (std::size_t j = i + 1; j < 4; ++j) swaps += order[i] > order[j] ? 1 : 0;
            if (swaps % 2 == 1) std::swap(o[0], o[1]);
            if (!next.emplace(o[0], std::pair{o[1], tet(t).region}).second) return false;
        }
        if (tets.size() < 1 || tets.size() > longest_ring) return false;
        // Chains begin where nobody leads to them, or where the region changes.
        std::map<std::int32_t, std::int32_t> region_into;
        for (const auto& [from, to] : next) region_into[to.first] = to.second;
        std::vector<std::int32_t> begins;
        for (const auto& [from, to] : next) {
            const auto into = region_into.find(from);
            if (into == region_into.end() || into->second != to.second) begins.push_back(from);
        }
        std::size_t used = 0;
        const auto follow = [&](std::int32_t from, bool closed) {
            Fan fan;
            fan.region = next.at(from).second;
            fan.closed = closed;
            fan.ring.push_back(from);
            std::int32_t here = from;
            while (true) {
                const auto at = next.find(here);
                if (at == next.end() || at->second.second != fan.region) break;
                ++used;
                here = at->second.first;
                if (here == from) break;
                fan.ring.push_back(here);
                if (fan.ring.size() > longest_ring + 2) break;
            }
            fans.push_back(std::move(fan));
        };
        if (begins.empty())
            follow(next.begin()->first, true);
        else
            for (const std::int32_t from : begins) follow(from, false);
        return used == tets.size();
    }

    // False where no triangulation of the ring is better than the floor.
    bool triangulate(Fan& fan, std::int32_t a, std::int32_t b, double floor) const {
        const RingTriangles found = best_ring_triangles<longest_ring + 2>(
            fan.ring.size(), floor, [&](std::size_t i, std::size_t k, std::size_t j, double enough) {
                const double upper = sine({a, fan.ring[i], fan.ring[k], fan.ring[j]}, fan.region);
                return upper <= enough
                           ? upper
                           : std::min(upper, sine({fan.ring[i], fan.ring[k], fan.ring[j], b}, fan.region));
            });
        fan.triangles = found.triangles;
        return found.found;
    }

    bool share_patch(const std::array<std::int32_t, 4>& nodes, std::int32_t& patch) const {
        for (const std::int32_t p : node(nodes[0]).patches) {
            bool all = true;
            for (const std::int32_t n : nodes) {
                const auto& list = node(n).patches;
                all = all && std::find(list.begin(), list.end(), p) != list.end();
            }
            if (all) {
                patch = p;
                return true;
            }
        }
        return false;
    }

    bool remove_edge(std::int32_t a, std::int32_t b) {
        if (mesh_.segments.count(edge_key(a, b)) != 0) return false;
        std::vector<Fan>& fans = fans_;
        double floor = 1.0;
        if (!fans_at(a, b, fans, ring_tets_, floor)) return false;
        floor += 1e-6;
        const bool surface = !(fans.size() == 1 && fans[0].closed);
        if (surface) {
            if (fans.size() > 2) return false;
            const std::int32_t c = fans[0].ring.front();
            const std::int32_t d = fans[0].ring.back();
            if (c == d) return false;
            if (fans.size() == 2 && (fans[1].ring.front() != d || fans[1].ring.back() != c)) return false;
            // The edge and its two faces lie on one patch, and so would the new edge: a flip within it.
            std::int32_t patch = -1;
            if (!share_patch({a, b, c, d}, patch)) return false;
            if (joined(c, d) && !(fans[0].ring.size() == 2 || (fans.size() == 2 && fans[1].ring.size() == 2)))
                return false;
            if (!flip_stays(patch, a, b, c, d)) return false;
            if (fans.size() == 1 && fans[0].ring.size() == 2) {
                // A flat tetrahedron on the skin goes altogether.
                const std::array<Vec3, 4> p{place(a), place(b), place(c), place(d)};
                const double volume = std::abs((p[1] - p[0]).cross(p[2] - p[0]).dot(p[3] - p[0])) / 6.0;
                const double longest = std::max((p[0] - p[1]).norm(), (p[2] - p[3]).norm());
                if (volume > 0.02 * longest * longest * longest) return false;
                kill(ring_tets_.front());
                return true;
            }
        }
        for (Fan& fan : fans)
            if (!triangulate(fan, a, b, floor)) return false;
        // New diagonals must not be edges already.
        for (const Fan& fan : fans) {
            const std::size_t n = fan.ring.size();
            for (const auto& t : fan.triangles)
                for (std::size_t k = 0; k < 3; ++k) {
                    const std::size_t i = std::min(t[k], t[(k + 1) % 3]);
                    const std::size_t j = std::max(t[k], t[(k + 1) % 3]);
                    const bool rim = j == i + 1 || (i == 0 && j == n - 1);
                    if (!rim && joined(fan.ring[i], fan.ring[j])) return false;
                }
        }
        for (const std::int32_t t : std::vector<std::int32_t>(ring_tets_)) kill(t);
        for (const Fan& fan : fans)
            for (const auto& t : fan.triangles) {
                const std::array<std::int32_t, 4> upper{a, fan.ring[t[0]], fan.ring[t[1]], fan.ring[t[2]]};
                const std::array<std::int32_t, 4> lower{fan.ring[t[0]], fan.ring[t[1]], fan.ring[t[2]], b};
                make(upper, fan.region, sine(upper, fan.region));
                make(lower, fan.region, sine(lower, fan.region));
            }
        return true;
    }

    // Whether the faces (a,c,d) and (b,c,d) follow the patch as well as (a,b,c) and (a,b,d) do.
    bool flip_stays(std::int32_t patch, std::int32_t a, std::int32_t b, std::int32_t c,
                    std::int32_t d) const {
        const Vec3 middle = 0.5 * (place(c) + place(d));
        const double length = (place(c) - place(d)).norm();
        const double off = (surfaces_.on_patch(patch, middle) - middle).norm();
        const Vec3 old_middle = 0.5 * (place(a) + place(b));
        const double old = (surfaces_.on_patch(patch, old_middle) - old_middle).norm();
        if (off > std::max(0.06 * length, 1.3 * old)) return false;
        const Vec3 n1 = (place(c) - place(a)).cross(place(d) - place(a));
        const Vec3 n2 = (place(d) - place(b)).cross(place(c) - place(b));
        if (n1.norm() < 1e-3 * length * length || n2.norm() < 1e-3 * length * length) return false;
        if (n1.normalized().dot(n2.normalized()) < 0.7) return false;
        const Vec3 normal = surfaces_.patch_normal(patch, middle);
        return std::abs(n1.normalized().dot(normal)) > 0.7;
    }

    // Two tetrahedra on a face become three about the edge between their far corners.
    bool flip_face(std::int32_t t, std::size_t i) {
        static constexpr std::array<std::array<std::size_t, 3>, 4> faces{
            {{1, 2, 3}, {0, 3, 2}, {0, 1, 3}, {0, 2, 1}}};
        const auto n = tet(t).node;
        const auto& f = faces[i];
        const std::array<std::int32_t, 3> face{n[f[0]], n[f[1]], n[f[2]]};
        const std::int32_t near = n[i];
        std::int32_t other = -1;
        for (const std::int32_t o : star(face[0])) {
            if (o == t) continue;
            const auto& m = tet(o).node;
            if (std::find(m.begin(), m.end(), face[1]) != m.end() &&
                std::find(m.begin(), m.end(), face[2]) != m.end()) {
                other = o;
                break;
            }
        }
        if (other < 0 || tet(other).region != tet(t).region) return false;
        std::int32_t far = -1;
        for (const std::int32_t m : tet(other).node)
            if (m != face[0] && m != face[1] && m != face[2]) far = m;
        const double floor = std::min(q(t), q(other)) + 1e-6;
        // The face looks away from `near`: (near, far, x, y) with x, y its edges turned the other way.
        std::array<std::array<std::int32_t, 4>, 3> made{};
        std::array<double, 3> value{};
        for (std::size_t k = 0; k < 3; ++k) {
            made[k] = {near, far, face[(k + 1) % 3], face[k]};
            value[k] = sine(made[k], tet(t).region);
            if (value[k] < 0.0) {
                std::swap(made[k][2], made[k][3]);
                value[k] = sine(made[k], tet(t).region);
            }
            if (value[k] <= floor) return false;
        }
        // All three must have the sense of the ring, or they overlap.
        const auto volume = [&](std::int32_t x, std::int32_t y) {
            return (place(far) - place(near)).cross(place(x) - place(near)).dot(place(y) - place(near));
        };
        const double v0 = volume(face[0], face[1]);
        const double v1 = volume(face[1], face[2]);
        const double v2 = volume(face[2], face[0]);
        if (!((v0 > 0 && v1 > 0 && v2 > 0) || (v0 < 0 && v1 < 0 && v2 < 0))) return false;
        if (joined(near, far)) return false;
        const std::int32_t region = tet(t).region;
        kill(t);
        kill(other);
        for (std::size_t k = 0; k < 3; ++k) make(made[k], region, value[k]);
        return true;
    }

    // Moves u into v.
    bool collapse(std::int32_t u, std::int32_t v) {
        const TetMesh::Node& from = node(u);
        const TetMesh::Node& to = node(v);
        if (from.on == 0) return false;
        if (from.on == 2 && std::find(to.patches.begin(), to.patches.end(), from.entity) == to.patches.end())
            return false;
        if (from.on == 1 && mesh_.segments.count(edge_key(u, v)) == 0) return false;
        if (star(u).size() + star(v).size() > largest_star) return false;
        double floor = 1.0;
        for (const std::int32_t t : star(u)) floor = std::min(floor, q(t));
        floor += 1e-6;
        std::vector<std::int32_t> link;
        for (const std::int32_t t : star(u)) {
            const auto& n = tet(t).node;
            if (std::find(n.begin(), n.end(), v) != n.end()) {
                for (const std::int32_t o : n)
                    if (o != u && o != v) link.push_back(o);
                continue;
            }
            std::array<std::int32_t, 4> moved = n;
            std::replace(moved.begin(), moved.end(), u, v);
            if (sine(moved, tet(t).region) <= floor) return false;
        }
        std::sort(link.begin(), link.end());
        if (from.on != 3) {
            // On the skin the edge's ring is open: some of its nodes come once alone (twice where two regions
            // meet).
            std::vector<Fan>& fans = fans_;
            double least = 0.0;
            if (!fans_at(u, v, fans, ring_tets_, least)) return false;
            if (fans.size() == 1 && fans[0].closed) return false;
        }
        link.erase(std::unique(link.begin(), link.end()), link.end());
        // Whoever is next to both must be in the ring of the edge.
        std::vector<std::int32_t> around;
        for (const std::int32_t t : star(u))
            for (const std::int32_t n : tet(t).node)
                if (n != u && n != v) around.push_back(n);
        std::sort(around.begin(), around.end());
        around.erase(std::unique(around.begin(), around.end()), around.end());
        for (const std::int32_t t : star(v))
            for (const std::int32_t n : tet(t).node)
                if (n != u && n != v && std::binary_search(around.begin(), around.end(), n) &&
                    !std::binary_search(link.begin(), link.end(), n))
                    return false;
        if (from.on != 3 && !skin_stays(u, v)) return false;
        std::int32_t before = -1;
        if (from.on == 1) {
            for (const std::int32_t n : around)
                if (mesh_.segments.count(edge_key(u, n)) != 0) before = before < 0 ? n : -2;
            if (before < 0 || joined_segment(before, v)) return false;
            const Vec3 middle = 0.5 * (place(before) + place(v));
            if ((surfaces_.on_curve(from.entity, middle) - middle).norm() >
                0.08 * (place(before) - place(v)).norm())
                return false;
        }
        std::vector<std::pair<std::array<std::int32_t, 4>, std::int32_t>> fresh;
        for (const std::int32_t t : std::vector<std::int32_t>(star(u))) {
            std::array<std::int32_t, 4> n = tet(t).node;
            const std::int32_t region = tet(t).region;
            const bool gone = std::find(n.begin(), n.end(), v) != n.end();
            kill(t);
            if (gone) continue;
            std::replace(n.begin(), n.end(), u, v);
            fresh.emplace_back(n, region);
        }
        for (const auto& [n, region] : fresh) make(n, region, sine(n, region));
        if (from.on == 1) {
            mesh_.segments.erase(edge_key(u, v));
            mesh_.segments.erase(edge_key(before, u));
            mesh_.segments.insert(edge_key(before, v));
        }
        return true;
    }

    bool joined_segment(std::int32_t a, std::int32_t b) const {
        return mesh_.segments.count(edge_key(a, b)) != 0;
    }

    // Whether the skin's faces at u, with u moved into v, still follow their patches.
    bool skin_stays(std::int32_t u, std::int32_t v) {
        static constexpr std::array<std::array<std::size_t, 3>, 4> faces{
            {{1, 2, 3}, {0, 3, 2}, {0, 1, 3}, {0, 2, 1}}};
        std::map<std::array<std::int32_t, 3>, std::pair<int, std::int32_t>>
            count; // faces at u: how often, of what region
        for (const std::int32_t t : star(u))
            for (const auto& f : faces) {
                std::array<std::int32_t, 3> n{tet(t).node[f[0]], tet(t).node[f[1]], tet(t).node[f[2]]};
                if (std::find(n.begin(), n.end(), u) == n.end()) continue;
                std::sort(n.begin(), n.end());
                auto& entry = count.emplace(n, std::pair{0, tet(t).region}).first->second;
                ++entry.first;
                if (entry.first == 2 && entry.second == tet(t).region) entry.second = -9; // inner
            }
        for (const auto& [n, entry] : count) {
            if (entry.second == -9 && entry.first == 2) continue;
            if (std::find(n.begin(), n.end(), v) != n.end()) continue;
            std::array<std::int32_t, 3> m = n;
            std::replace(m.begin(), m.end(), u, v);
            std::int32_t patch = -1;
            if (!share_patch({m[0], m[1], m[2], m[0]}, patch)) return false;
            const Vec3 center = (place(m[0]) + place(m[1]) + place(m[2])) / 3.0;
            const double longest =
                std::max({(place(m[0]) - place(m[1])).norm(), (place(m[1]) - place(m[2])).norm(),
                          (place(m[2]) - place(m[0])).norm()});
            if ((surfaces_.on_patch(patch, center) - center).norm() > 0.08 * longest) return false;
            const Vec3 a = (place(n[1]) - place(n[0])).cross(place(n[2]) - place(n[0])).normalized();
            const Vec3 b = (place(m[1]) - place(m[0])).cross(place(m[2]) - place(m[0])).normalized();
            if (a.dot(b) < 0.7) return false;
        }
        return true;
    }

    TetMesh& mesh_;
    const SurfaceGeometry& surfaces_;
    double target_;
    double easy_ = 1.0; // what sines of the easy region are multiplied by
    std::vector<std::vector<std::int32_t>> at_;
    std::vector<double> quality_;
    std::vector<std::uint32_t> changes_; // of each node's star
    std::vector<std::uint32_t> settled_; // the count of changes at which smoothing found nothing
    std::vector<std::uint8_t> tries_;    // that changed nothing, at each tetrahedron
    std::vector<std::int32_t> free_;
    std::vector<Fan> fans_;
    std::vector<std::int32_t> ring_tets_;
    std::vector<std::int32_t> order_; // of a star's tetrahedra, the one that was worst last first
    std::mt19937 random_;
    std::uniform_real_distribution<double> uniform_{-1.0, 1.0};
};

} // namespace

void optimise_tets(TetMesh& mesh, const SurfaceGeometry& surfaces, double target) {
    Optimiser(mesh, surfaces, target).run();
}

} // namespace upright
