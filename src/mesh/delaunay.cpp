#include "mesh/delaunay.hpp"

#include "base/spatial_order.hpp"

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <numeric>
#include <unordered_map>

namespace upright {

namespace {

__extension__ typedef __int128 Wide;

constexpr std::int32_t span = 1 << 21;
constexpr std::int32_t far_out = 1 << 23; // the hull's corners

// The local nodes of the face opposite to each node, outward.
constexpr std::array<std::array<std::size_t, 3>, 4> faces{{{1, 2, 3}, {0, 3, 2}, {0, 1, 3}, {0, 2, 1}}};

} // namespace

Delaunay::Delaunay(const Vec3& low, const Vec3& high) {
    const double size = std::max((high - low).maxCoeff(), 1e-300);
    scale_ = (span - 1) / (1.02 * size);
    low_ = 0.5 * (low + high) - Vec3::Constant(0.51 * size);
    // A tetrahedron far around the lattice.
    const std::int32_t f = far_out;
    at_ = {{-f, -f, -f}, {4 * f, -f, -f}, {-f, 4 * f, -f}, {-f, -f, 4 * f}};
    tet_at_.assign(4, 0);
    Tet t;
    t.node = {0, 1, 2, 3};
    t.next = {-1, -1, -1, -1};
    tets_.push_back(t);
    mark_.push_back(0);
}

Delaunay::Lattice Delaunay::quantised(const Vec3& p) const {
    const Vec3 q = (p - low_) * scale_;
    return {static_cast<std::int32_t>(std::lround(q.x())), static_cast<std::int32_t>(std::lround(q.y())),
            static_cast<std::int32_t>(std::lround(q.z()))};
}

// Sign of (b-a) x (c-a) . (d-a). Differences are below 2^26, products of two below 2^53: the rest may need
// more.
int Delaunay::orientation(const Lattice& a, const Lattice& b, const Lattice& c, const Lattice& d) const {
    const double bx = b.x - a.x;
    const double by = b.y - a.y;
    const double bz = b.z - a.z;
    const double cx = c.x - a.x;
    const double cy = c.y - a.y;
    const double cz = c.z - a.z;
    const double dx = d.x - a.x;
    const double dy = d.y - a.y;
    const double dz = d.z - a.z;
    const double det = (by * cz - bz * cy) * dx + (bz * cx - bx * cz) * dy + (bx * cy - by * cx) * dz;
    const double size = (std::abs(by * cz) + std::abs(bz * cy)) * std::abs(dx) +
                        (std::abs(bz * cx) + std::abs(bx * cz)) * std::abs(dy) +
                        (std::abs(bx * cy) + std::abs(by * cx)) * std::abs(dz);
    if (std::abs(det) > 1e-14 * size) return det > 0 ? 1 : -1;
    const auto w = [](std::int32_t u, std::int32_t v) { return static_cast<Wide>(u) - v; };
    const Wide exact = (w(b.y, a.y) * w(c.z, a.z) - w(b.z, a.z) * w(c.y, a.y)) * w(d.x, a.x) +
                       (w(b.z, a.z) * w(c.x, a.x) - w(b.x, a.x) * w(c.z, a.z)) * w(d.y, a.y) +
                       (w(b.x, a.x) * w(c.y, a.y) - w(b.y, a.y) * w(c.x, a.x)) * w(d.z, a.z);
    return exact > 0 ? 1 : exact < 0 ? -1 : 0;
}

// Positive where p lies inside the circumsphere of a positive tetrahedron.
int Delaunay::in_sphere(const Tet& t, const Lattice& p) const {
    std::array<std::array<double, 4>, 4> m;
    for (std::size_t i = 0; i < 4; ++i) {
        const Lattice& q = at_[static_cast<std::size_t>(t.node[i])];
        const double x = q.x - p.x;
        const double y = q.y - p.y;
        const double z = q.z - p.z;
        m[i] = {x, y, z, x * x + y * y + z * z};
    }
    const auto minor = [&](std::size_t a, std::size_t b) { return m[a][0] * m[b][1] - m[b][0] * m[a][1]; };
    const double ab = minor(0, 1);
    const double bc = minor(1, 2);
    const double cd = minor(2, 3);
    const double da = minor(3, 0);
    const double ac = minor(0, 2);
    const double bd = minor(1, 3);
    const double abc = m[0][2] * bc - m[1][2] * ac + m[2][2] * ab;
    const double bcd = m[1][2] * cd - m[2][2] * bd + m[3][2] * bc;
    const double cda = m[2][2] * da + m[3][2] * ac + m[0][2] * cd;
    const double dab = m[3][2] * ab + m[0][2] * bd + m[1][2] * da;
    const double det = (m[3][3] * abc - m[2][3] * dab) + (m[1][3] * cda - m[0][3] * bcd);
    const auto mag = [&](std::size_t a, std::size_t b, std::size_t c) {
        const auto two = [&](std::size_t i, std::size_t j) {
            return std::abs(m[i][0] * m[j][1]) + std::abs(m[j][0] * m[i][1]);
        };
        return std::abs(m[a][2]) * two(b, c) + std::abs(m[b][2]) * two(a, c) + std::abs(m[c][2]) * two(a, b);
    };
    const double size =
        m[3][3] * mag(0, 1, 2) + m[2][3] * mag(3, 0, 1) + m[1][3] * mag(2, 3, 0) + m[0][3] * mag(1, 2, 3);
    // The determinant has the sign of -orientation for points inside, in this order of rows.
    if (std::abs(det) > 4e-14 * size) return det < 0 ? 1 : -1;
    // Hull corners reach 2^25: their squares times a volume may leave 128 bits, so they are decided by
    // double.
    bool near = true;
    std::array<std::array<Wide, 4>, 4> e;
    for (std::size_t i = 0; i < 4; ++i) {
        const Lattice& q = at_[static_cast<std::size_t>(t.node[i])];
        const Wide x = static_cast<Wide>(q.x) - p.x;
        const Wide y = static_cast<Wide>(q.y) - p.y;
        const Wide z = static_cast<Wide>(q.z) - p.z;
        e[i] = {x, y, z, x * x + y * y + z * z};
        near = near && t.node[i] >= hull;
    }
    if (!near && std::abs(det) > 0.0) return det < 0 ? 1 : -1;
    const auto w = [&](std::size_t a, std::size_t b) { return e[a][0] * e[b][1] - e[b][0] * e[a][1]; };
    const Wide xabc = e[0][2] * w(1, 2) - e[1][2] * w(0, 2) + e[2][2] * w(0, 1);
    const Wide xbcd = e[1][2] * w(2, 3) - e[2][2] * w(1, 3) + e[3][2] * w(1, 2);
    const Wide xcda = e[2][2] * w(3, 0) + e[3][2] * w(0, 2) + e[0][2] * w(2, 3);
    const Wide xdab = e[3][2] * w(0, 1) + e[0][2] * w(1, 3) + e[1][2] * w(3, 0);
    const Wide exact = (e[3][3] * xabc - e[2][3] * xdab) + (e[1][3] * xcda - e[0][3] * xbcd);
    return exact < 0 ? 1 : exact > 0 ? -1 : 0;
}

std::int32_t Delaunay::new_tet() {
    if (!free_.empty()) {
        const std::int32_t t = free_.back();
        free_.pop_back();
        return t;
    }
    tets_.emplace_back();
    mark_.push_back(0);
    return static_cast<std::int32_t>(tets_.size()) - 1;
}

std::int32_t Delaunay::locate(const Lattice& p, std::int32_t start) const {
    std::int32_t t = start;
    std::int32_t from = -1;
    std::uint32_t turn = 0;
    while (true) {
        const Tet& tet = tets_[static_cast<std::size_t>(t)];
        bool moved = false;
        for (std::size_t k = 0; k < 4; ++k) {
            const std::size_t i =
                (k + turn) & 3U; // a changing first face keeps the walk from going in rounds
            const std::int32_t next = tet.next[i];
            if (next < 0 || next == from) continue;
            const auto& f = faces[i];
            if (orientation(at_[static_cast<std::size_t>(tet.node[f[0]])],
                            at_[static_cast<std::size_t>(tet.node[f[1]])],
                            at_[static_cast<std::size_t>(tet.node[f[2]])], p) > 0) {
                from = t;
                t = next;
                moved = true;
                break;
            }
        }
        ++turn;
        if (!moved) {
            // The face one came through may be the one to leave by after all.
            if (from >= 0) {
                bool back = false;
                for (std::size_t i = 0; i < 4; ++i) {
                    if (tet.next[i] != from) continue;
                    const auto& f = faces[i];
                    back = orientation(at_[static_cast<std::size_t>(tet.node[f[0]])],
                                       at_[static_cast<std::size_t>(tet.node[f[1]])],
                                       at_[static_cast<std::size_t>(tet.node[f[2]])], p) > 0;
                }
                if (back) {
                    std::swap(t, from);
                    continue;
                }
            }
            return t;
        }
    }
}

std::int32_t Delaunay::insert(const Vec3& place, std::int32_t hint) {
    const Lattice p = quantised(place);
    const std::int32_t start = hint >= 0 ? tet_at_[static_cast<std::size_t>(hint)] : last_;
    const std::int32_t home = locate(p, start);
    for (const std::int32_t n : tets_[static_cast<std::size_t>(home)].node) {
        const Lattice& q = at_[static_cast<std::size_t>(n)];
        if (q.x == p.x && q.y == p.y && q.z == p.z) return n;
    }
    const auto number = static_cast<std::int32_t>(at_.size());
    at_.push_back(p);
    tet_at_.push_back(home);
    dig(p, home);
    fill(number);
    last_ = walls_.front().made;
    tet_at_.back() = last_;
    return number;
}

// The cavity: everything whose circumsphere holds the point. A face that the point lies on or behind takes
// the tetrahedron beyond it in as well, so that the cavity stays star-shaped. What is in it goes; its walls
// stay.
void Delaunay::dig(const Lattice& p, std::int32_t home) {
    ++round_;
    cavity_.clear();
    walls_.clear();
    cavity_.push_back(home);
    mark_[static_cast<std::size_t>(home)] = round_;
    for (std::size_t c = 0; c < cavity_.size(); ++c) {
        const Tet tet = tets_[static_cast<std::size_t>(cavity_[c])];
        for (std::size_t i = 0; i < 4; ++i) {
            const std::int32_t next = tet.next[i];
            if (next < 0 || mark_[static_cast<std::size_t>(next)] == round_) continue;
            const auto& f = faces[i];
            if (in_sphere(tets_[static_cast<std::size_t>(next)], p) > 0 ||
                orientation(at_[static_cast<std::size_t>(tet.node[f[0]])],
                            at_[static_cast<std::size_t>(tet.node[f[1]])],
                            at_[static_cast<std::size_t>(tet.node[f[2]])], p) >= 0) {
                mark_[static_cast<std::size_t>(next)] = round_;
                cavity_.push_back(next);
            }
        }
    }
    for (const std::int32_t t : cavity_) {
        const Tet& tet = tets_[static_cast<std::size_t>(t)];
        for (std::size_t i = 0; i < 4; ++i) {
            const std::int32_t next = tet.next[i];
            if (next >= 0 && mark_[static_cast<std::size_t>(next)] == round_) continue;
            const auto& f = faces[i];
            walls_.push_back({{tet.node[f[0]], tet.node[f[1]], tet.node[f[2]]}, next, -1});
        }
    }
    for (const std::int32_t t : cavity_) {
        tets_[static_cast<std::size_t>(t)].alive = false;
        free_.push_back(t);
    }
}

// New tetrahedra from a point over the walls; neighbours meet at the walls' edges.
void Delaunay::fill(std::int32_t number) {
    struct Half {
        std::int32_t tet;
        std::int32_t face;
    };
    thread_local std::vector<std::pair<std::uint64_t, Half>> edges;
    edges.clear();
    for (Wall& wall : walls_) {
        const std::int32_t t = new_tet();
        wall.made = t;
        Tet& tet = tets_[static_cast<std::size_t>(t)];
        tet.alive = true;
        // The wall looks outward; the point lies behind it.
        tet.node = {number, wall.node[0], wall.node[1], wall.node[2]};
        tet.next = {wall.beyond, -1, -1, -1};
        mark_[static_cast<std::size_t>(t)] = 0;
        if (wall.beyond >= 0) {
            Tet& other = tets_[static_cast<std::size_t>(wall.beyond)];
            for (std::size_t i = 0; i < 4; ++i) {
                const std::int32_t n = other.node[i];
                if (n != wall.node[0] && n != wall.node[1] && n != wall.node[2]) {
                    other.next[i] = t;
                    break;
                }
            }
        }
        for (const std::int32_t n : wall.node) tet_at_[static_cast<std::size_t>(n)] = t;
        for (std::int32_t i = 1; i < 4; ++i) {
            const std::int32_t a = tet.node[static_cast<std::size_t>(i % 3 + 1)];
            const std::int32_t b = tet.node[static_cast<std::size_t>((i + 1) % 3 + 1)];
            const std::uint64_t key = (static_cast<std::uint64_t>(std::min(a, b)) << 32U) |
                                      static_cast<std::uint32_t>(std::max(a, b));
            edges.push_back({key, {t, i}});
        }
    }
    std::sort(edges.begin(), edges.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
    for (std::size_t i = 0; i + 1 < edges.size(); i += 2) {
        const Half a = edges[i].second;
        const Half b = edges[i + 1].second;
        tets_[static_cast<std::size_t>(a.tet)].next[static_cast<std::size_t>(a.face)] = b.tet;
        tets_[static_cast<std::size_t>(b.tet)].next[static_cast<std::size_t>(b.face)] = a.tet;
    }
}

std::vector<std::int32_t> Delaunay::insert_all(const std::vector<Vec3>& points) {
    std::vector<std::uint64_t> key(points.size());
    for (std::size_t i = 0; i < points.size(); ++i) {
        const Lattice q = quantised(points[i]);
        key[i] = morton_key({static_cast<std::uint32_t>(q.x), static_cast<std::uint32_t>(q.y),
                             static_cast<std::uint32_t>(q.z)});
    }
    std::vector<std::size_t> order(points.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) { return key[a] < key[b]; });
    // A few rounds of growing density keep cavities small (Amenta, Choi & Rote 2003).
    std::vector<std::int32_t> out(points.size(), -1);
    for (const std::size_t stride : {64U, 8U, 1U})
        for (std::size_t k = 0; k < order.size(); k += stride)
            if (out[order[k]] < 0) out[order[k]] = insert(points[order[k]]);
    return out;
}

void Delaunay::star(std::int32_t point, std::vector<std::int32_t>& out) const {
    out.clear();
    star_mark_.resize(tets_.size(), 0);
    ++star_round_;
    stack_.clear();
    stack_.push_back(tet_at_[static_cast<std::size_t>(point)]);
    star_mark_[static_cast<std::size_t>(stack_.front())] = star_round_;
    while (!stack_.empty()) {
        const std::int32_t t = stack_.back();
        stack_.pop_back();
        out.push_back(t);
        const Tet& tet = tets_[static_cast<std::size_t>(t)];
        for (std::size_t i = 0; i < 4; ++i) {
            if (tet.node[i] == point) continue;
            const std::int32_t next = tet.next[i];
            if (next < 0 || star_mark_[static_cast<std::size_t>(next)] == star_round_) continue;
            star_mark_[static_cast<std::size_t>(next)] = star_round_;
            stack_.push_back(next);
        }
    }
}

bool Delaunay::edge(std::int32_t a, std::int32_t b) const {
    thread_local std::vector<std::int32_t> around;
    star(a, around);
    for (const std::int32_t t : around)
        for (const std::int32_t n : tets_[static_cast<std::size_t>(t)].node)
            if (n == b) return true;
    return false;
}

} // namespace upright
