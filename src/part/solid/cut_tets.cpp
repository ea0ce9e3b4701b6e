#include "part/solid/cut_tets.hpp"

#include "mesh/quality.hpp"

#include <Eigen/Geometry>
#include <algorithm>

namespace upright {

std::int32_t CutTets::add_point(const Vec3& p) {
    points.push_back(p);
    on.emplace_back();
    at.emplace_back();
    return static_cast<std::int32_t>(points.size()) - 1;
}

void CutTets::add_tet(const std::array<std::int32_t, 4>& nodes, std::int32_t label_of_it) {
    for (const std::int32_t n : nodes)
        at[static_cast<std::size_t>(n)].push_back(static_cast<std::int32_t>(tets.size()));
    tets.push_back(nodes);
    label.push_back(label_of_it);
}

bool CutTets::lies_on(std::int32_t point, std::int32_t sheet) const {
    const auto& list = on[static_cast<std::size_t>(point)];
    return std::binary_search(list.begin(), list.end(), sheet);
}

void CutTets::put_on(std::int32_t point, std::int32_t sheet) {
    auto& list = on[static_cast<std::size_t>(point)];
    const auto place = std::lower_bound(list.begin(), list.end(), sheet);
    if (place == list.end() || *place != sheet) list.insert(place, sheet);
}

std::array<Vec3, 4> CutTets::corners(std::size_t t) const {
    std::array<Vec3, 4> out;
    for (std::size_t i = 0; i < 4; ++i) out[i] = points[static_cast<std::size_t>(tets[t][i])];
    return out;
}

double CutTets::volume(std::size_t t) const {
    return tet_volume(corners(t));
}

Vec3 CutTets::center(std::size_t t) const {
    const auto p = corners(t);
    return 0.25 * (p[0] + p[1] + p[2] + p[3]);
}

double CutTets::least_sine_at(std::int32_t point) const {
    double out = 1.0;
    for (const std::int32_t t : at[static_cast<std::size_t>(point)])
        out = std::min(out, least_sine(corners(static_cast<std::size_t>(t))));
    return out;
}

std::vector<std::array<std::int32_t, 2>> CutTets::edges() const {
    std::vector<std::uint64_t> keys;
    keys.reserve(6 * tets.size());
    for (const auto& n : tets)
        for (std::size_t i = 0; i < 4; ++i)
            for (std::size_t j = i + 1; j < 4; ++j) keys.push_back(edge_key(n[i], n[j]));
    return edges_of_keys(std::move(keys));
}

std::vector<std::array<std::int32_t, 2>> edges_of_keys(std::vector<std::uint64_t> keys) {
    std::sort(keys.begin(), keys.end());
    keys.erase(std::unique(keys.begin(), keys.end()), keys.end());
    std::vector<std::array<std::int32_t, 2>> out;
    out.reserve(keys.size());
    for (const std::uint64_t k : keys)
        out.push_back({static_cast<std::int32_t>(k >> 32U), static_cast<std::int32_t>(k & 0xffffffffU)});
    return out;
}

void CutTets::split(std::int32_t a, std::int32_t b, std::int32_t m) {
    auto& of_a = at[static_cast<std::size_t>(a)];
    std::vector<std::int32_t> ring;
    for (const std::int32_t t : of_a) {
        const auto& n = tets[static_cast<std::size_t>(t)];
        if (std::find(n.begin(), n.end(), b) != n.end()) ring.push_back(t);
    }
    for (const std::int32_t t : ring) {
        // It keeps a, the new one gets b.
        std::array<std::int32_t, 4> other = tets[static_cast<std::size_t>(t)];
        std::replace(other.begin(), other.end(), a, m);
        auto& mine = tets[static_cast<std::size_t>(t)];
        std::replace(mine.begin(), mine.end(), b, m);
        auto& of_b = at[static_cast<std::size_t>(b)];
        of_b.erase(std::find(of_b.begin(), of_b.end(), t));
        at[static_cast<std::size_t>(m)].push_back(t);
        add_tet(other, label[static_cast<std::size_t>(t)]);
    }
}

std::vector<std::int32_t> CutTets::keep(const std::vector<bool>& tets_to_keep) {
    CutTets out;
    std::vector<std::int32_t> number(points.size(), -1);
    for (std::size_t t = 0; t < tets.size(); ++t) {
        if (!tets_to_keep[t]) continue;
        std::array<std::int32_t, 4> n{};
        for (std::size_t i = 0; i < 4; ++i) {
            std::int32_t& mine = number[static_cast<std::size_t>(tets[t][i])];
            if (mine < 0) {
                mine = out.add_point(points[static_cast<std::size_t>(tets[t][i])]);
                out.on.back() = on[static_cast<std::size_t>(tets[t][i])];
            }
            n[i] = mine;
        }
        out.add_tet(n, label[t]);
    }
    *this = std::move(out);
    return number;
}

std::vector<std::array<std::int32_t, 4>> neighbours_of(const CutTets& mesh) {
    // Faces by their lowest node, a counting sort; those of a node, few dozens, by the two others.
    struct Face {
        std::uint64_t others; // the middle node and the highest
        std::int32_t tet, side;
    };
    const auto nodes_of = [&](std::size_t t, std::size_t side) {
        std::array<std::int32_t, 3> n{};
        for (std::size_t k = 0; k < 3; ++k) n[k] = mesh.tets[t][tet_faces[side][k]];
        if (n[0] > n[1]) std::swap(n[0], n[1]);
        if (n[1] > n[2]) std::swap(n[1], n[2]);
        if (n[0] > n[1]) std::swap(n[0], n[1]);
        return n;
    };
    std::vector<std::size_t> starts(mesh.points.size() + 1, 0);
    for (std::size_t t = 0; t < mesh.tets.size(); ++t)
        for (std::size_t side = 0; side < 4; ++side)
            ++starts[static_cast<std::size_t>(nodes_of(t, side)[0]) + 1];
    for (std::size_t n = 1; n < starts.size(); ++n) starts[n] += starts[n - 1];
    std::vector<Face> faces(4 * mesh.tets.size());
    std::vector<std::size_t> next(starts.begin(), starts.end() - 1);
    for (std::size_t t = 0; t < mesh.tets.size(); ++t)
        for (std::size_t side = 0; side < 4; ++side) {
            const std::array<std::int32_t, 3> n = nodes_of(t, side);
            faces[next[static_cast<std::size_t>(n[0])]++] = {
                static_cast<std::uint64_t>(n[1]) << 32U | static_cast<std::uint64_t>(n[2]),
                static_cast<std::int32_t>(t), static_cast<std::int32_t>(side)};
        }
    std::vector<std::array<std::int32_t, 4>> out(mesh.tets.size(), {-1, -1, -1, -1});
    for (std::size_t n = 0; n + 1 < starts.size(); ++n) {
        const auto from = faces.begin() + static_cast<std::ptrdiff_t>(starts[n]);
        const auto to = faces.begin() + static_cast<std::ptrdiff_t>(starts[n + 1]);
        std::sort(from, to, [](const Face& a, const Face& b) {
            return a.others != b.others ? a.others < b.others : a.tet < b.tet;
        });
        for (auto a = from; a != to && a + 1 != to; ++a) {
            const auto b = a + 1;
            if (a->others != b->others) continue;
            out[static_cast<std::size_t>(a->tet)][static_cast<std::size_t>(a->side)] = b->tet;
            out[static_cast<std::size_t>(b->tet)][static_cast<std::size_t>(b->side)] = a->tet;
        }
    }
    return out;
}

CutTets body_centred_of(const LatticeBoxes& boxes, const std::vector<bool>& wanted) {
    CutTets out;
    const auto& count = boxes.count;
    const int nx = count[0], ny = count[1], nz = count[2];
    const auto box = [&](int i, int j, int k) {
        return (static_cast<std::size_t>(k) * static_cast<std::size_t>(ny) + static_cast<std::size_t>(j)) *
                   static_cast<std::size_t>(nx) +
               static_cast<std::size_t>(i);
    };
    const auto corner = [&](int i, int j, int k) {
        return (static_cast<std::size_t>(k) * static_cast<std::size_t>(ny + 1) +
                static_cast<std::size_t>(j)) *
                   static_cast<std::size_t>(nx + 1) +
               static_cast<std::size_t>(i);
    };
    std::vector<std::int32_t> corners(corner(0, 0, nz + 1), -1);
    std::vector<std::int32_t> middles(box(0, 0, nz), -1);
    const auto at_corner = [&](const std::array<int, 3>& c) {
        std::int32_t& n = corners[corner(c[0], c[1], c[2])];
        if (n < 0) n = out.add_point(boxes.origin + boxes.step.cwiseProduct(Vec3(c[0], c[1], c[2])));
        return n;
    };
    const auto at_middle = [&](const std::array<int, 3>& c) {
        std::int32_t& n = middles[box(c[0], c[1], c[2])];
        if (n < 0)
            n = out.add_point(boxes.origin +
                              boxes.step.cwiseProduct(Vec3(c[0] + 0.5, c[1] + 0.5, c[2] + 0.5)));
        return n;
    };
    for (int k = 0; k < nz; ++k)
        for (int j = 0; j < ny; ++j)
            for (int i = 0; i < nx; ++i)
                for (int axis = 0; axis < 3; ++axis) {
                    const std::array<int, 3> low{i, j, k};
                    std::array<int, 3> high = low;
                    const auto a = static_cast<std::size_t>(axis);
                    if (++high[a] >= boxes.count[a]) continue;
                    if (!wanted[box(i, j, k)] || !wanted[box(high[0], high[1], high[2])]) continue;
                    const std::size_t u = (a + 1) % 3;
                    const std::size_t v = (a + 2) % 3;
                    const std::array<std::array<int, 2>, 4> round{{{0, 0}, {1, 0}, {1, 1}, {0, 1}}};
                    for (std::size_t q = 0; q < 4; ++q) {
                        std::array<int, 3> c0 = high;
                        std::array<int, 3> c1 = high;
                        c0[u] += round[q][0];
                        c0[v] += round[q][1];
                        c1[u] += round[(q + 1) % 4][0];
                        c1[v] += round[(q + 1) % 4][1];
                        // The middles along the axis, the edge turning about it.
                        out.add_tet({at_middle(low), at_corner(c0), at_corner(c1), at_middle(high)}, 0);
                        if (out.volume(out.tets.size() - 1) < 0.0)
                            std::swap(out.tets.back()[1], out.tets.back()[2]);
                    }
                }
    return out;
}

} // namespace upright
