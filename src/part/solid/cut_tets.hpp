// Tetrahedra that are cut by splitting edges: each split divides every tetrahedron at the edge, so that what
// comes out always conforms.
#pragma once

#include "base/vectors.hpp"

#include <array>
#include <vector>

namespace upright {

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
    // Puts the point m into the edge.
    void split(std::int32_t a, std::int32_t b, std::int32_t m);
    // Leaves out tetrahedra, and points that none is left of. Returns the new number of each point, or -1.
    std::vector<std::int32_t> keep(const std::vector<bool>& tets_to_keep);
};

// For each tetrahedron the one beyond the face opposite its corner 0 to 3, or -1.
std::vector<std::array<std::int32_t, 4>> neighbours_of(const CutTets& mesh);

// The corners of the face opposite corner i, seen from outside counter-clockwise.
inline constexpr std::array<std::array<std::size_t, 3>, 4> tet_faces{
    {{1, 2, 3}, {0, 3, 2}, {0, 1, 3}, {0, 2, 1}}};

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
