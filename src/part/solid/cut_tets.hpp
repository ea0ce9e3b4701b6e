// Tetrahedra that are cut by splitting edges: each split divides every tetrahedron at the edge, so that what
// comes out always conforms.
#pragma once

#include "base/vectors.hpp"

#include "base/edge_key.hpp"

#include <Eigen/Geometry>
#include <array>
#include <vector>

namespace upright {

inline double tet_volume(const std::array<Vec3, 4>& p) {
    return Vec3(p[1] - p[0]).cross(p[2] - p[0]).dot(p[3] - p[0]) / 6.0;
}

struct CutTets {
    std::vector<Vec3> points;
    std::vector<std::vector<std::int32_t>> on;     // of each point: the sheets that it lies on, ascending
    std::vector<std::array<std::int32_t, 4>> tets; // positive
    std::vector<std::int32_t> label;               // of each tetrahedron; what splitting makes inherits it
    std::vector<std::vector<std::int32_t>> at;     // of each point: its tetrahedra

    std::int32_t add_point(const Vec3& p);
    void add_tet(const std::array<std::int32_t, 4>& nodes, std::int32_t label_of_it);
    bool lies_on(std::int32_t point, std::int32_t sheet) const;
    void put_on(std::int32_t point, std::int32_t sheet);
    std::array<Vec3, 4> corners(std::size_t t) const;
    double volume(std::size_t t) const;
    Vec3 center(std::size_t t) const;
    // The least sine of the dihedral angles about a point.
    double least_sine_at(std::int32_t point) const;
    // Every edge once, smaller point first, in the order of the points.
    std::vector<std::array<std::int32_t, 2>> edges() const;
    // Those of `wanted` tetrahedra alone for which `chosen(a, b)` holds, in the same order.
    template <class Wanted, class Chosen>
    std::vector<std::array<std::int32_t, 2>> edges_where(const Wanted& wanted, const Chosen& chosen) const;
    // Those whose ends have values of unlike sign.
    template <class Wanted>
    std::vector<std::array<std::int32_t, 2>> edges_across(const std::vector<double>& value,
                                                          const Wanted& wanted) const;
    // Puts the point m into the edge.
    void split(std::int32_t a, std::int32_t b, std::int32_t m);
    // Leaves out tetrahedra, and points that none is left of. Returns the new number of each point, or -1.
    std::vector<std::int32_t> keep(const std::vector<bool>& tets_to_keep);
};

// For each tetrahedron the one beyond the face opposite its corner 0 to 3, or -1.
std::vector<std::array<std::int32_t, 4>> neighbours_of(const CutTets& mesh);

// What hangs together: for each the number of its group, -1 where `in` says no. From one to its neighbour
// across a side it goes on where `through(t, side, neighbour)` says so.
template <class In, class Through>
std::vector<std::int32_t> connected(const std::vector<std::array<std::int32_t, 4>>& beyond, const In& in,
                                    const Through& through) {
    std::vector<std::int32_t> out(beyond.size(), -1);
    std::vector<std::size_t> stack;
    std::int32_t count = 0;
    for (std::size_t seed = 0; seed < out.size(); ++seed) {
        if (out[seed] >= 0 || !in(seed)) continue;
        out[seed] = count;
        stack.push_back(seed);
        while (!stack.empty()) {
            const std::size_t t = stack.back();
            stack.pop_back();
            for (std::size_t side = 0; side < 4; ++side) {
                if (beyond[t][side] < 0) continue;
                const auto o = static_cast<std::size_t>(beyond[t][side]);
                if (out[o] >= 0 || !in(o) || !through(t, side, o)) continue;
                out[o] = count;
                stack.push_back(o);
            }
        }
        ++count;
    }
    return out;
}

// The corners of the face opposite corner i, seen from outside counter-clockwise.
inline constexpr std::array<std::array<std::size_t, 3>, 4> tet_faces{
    {{1, 2, 3}, {0, 3, 2}, {0, 1, 3}, {0, 2, 1}}};

// Each key once, as its two points.
std::vector<std::array<std::int32_t, 2>> edges_of_keys(std::vector<std::uint64_t> keys);

template <class Wanted, class Chosen>
std::vector<std::array<std::int32_t, 2>> CutTets::edges_where(const Wanted& wanted,
                                                              const Chosen& chosen) const {
    std::vector<std::uint64_t> keys;
    for (std::size_t t = 0; t < tets.size(); ++t) {
        if (!wanted(t)) continue;
        const auto& n = tets[t];
        for (std::size_t i = 0; i < 4; ++i)
            for (std::size_t j = i + 1; j < 4; ++j)
                if (chosen(n[i], n[j])) keys.push_back(edge_key(n[i], n[j]));
    }
    return edges_of_keys(std::move(keys));
}

template <class Wanted>
std::vector<std::array<std::int32_t, 2>> CutTets::edges_across(const std::vector<double>& value,
                                                               const Wanted& wanted) const {
    return edges_where(wanted, [&](std::int32_t a, std::int32_t b) {
        return value[static_cast<std::size_t>(a)] * value[static_cast<std::size_t>(b)] < 0.0;
    });
}

// A body-centred lattice of boxes: corners and middles, four tetrahedra at each face between two boxes. Boxes
// for which `wanted` says no (given their middle) are left out.
struct LatticeBoxes {
    Vec3 origin = Vec3::Zero();
    Vec3 step = Vec3::Ones();
    std::array<int, 3> count{};
};
template <class Wanted> CutTets body_centred(const LatticeBoxes& boxes, const Wanted& wanted);

CutTets body_centred_of(const LatticeBoxes& boxes, const std::vector<bool>& wanted);

template <class Wanted> CutTets body_centred(const LatticeBoxes& boxes, const Wanted& wanted) {
    std::vector<bool> chosen;
    for (int k = 0; k < boxes.count[2]; ++k)
        for (int j = 0; j < boxes.count[1]; ++j)
            for (int i = 0; i < boxes.count[0]; ++i)
                chosen.push_back(
                    wanted(Vec3(boxes.origin + boxes.step.cwiseProduct(Vec3(i + 0.5, j + 0.5, k + 0.5)))));
    return body_centred_of(boxes, chosen);
}

} // namespace upright
