// Delaunay tetrahedra of points that keep coming (Bowyer 1981; Watson 1981): exact, on integer coordinates.
#pragma once

#include "base/vectors.hpp"

#include <array>
#include <vector>

namespace upright {

// Points are put on a lattice of 2^21 steps across the box they were announced in; topology is decided there,
// in double precision with an exact fallback in 128-bit integers, and geometry is the caller's.
class Delaunay {
  public:
    struct Tet {
        std::array<std::int32_t, 4>
            node{}; // positive: (b-a) x (c-a) . (d-a) > 0; the first four nodes are the hull's
        std::array<std::int32_t, 4> next{}; // the tetrahedron across the face opposite to each node, or -1
        bool alive = true;
    };

    Delaunay(const Vec3& low, const Vec3& high);

    // Adds a point and returns its number, or that of the point that sits on the same lattice place. `hint`
    // is a point near by, or -1.
    std::int32_t insert(const Vec3& p, std::int32_t hint = -1);
    // Adds many, in an order that keeps neighbours together; the number of each.
    std::vector<std::int32_t> insert_all(const std::vector<Vec3>& points);

    static constexpr std::int32_t hull = 4; // nodes below this are corners of the hull
    const std::vector<Tet>& tets() const { return tets_; }
    std::size_t points() const { return at_.size(); }
    // A live tetrahedron at a point.
    std::int32_t tet_at(std::int32_t point) const { return tet_at_[static_cast<std::size_t>(point)]; }
    // Whether two points are joined by an edge.
    bool edge(std::int32_t a, std::int32_t b) const;
    // Every live tetrahedron at a point.
    void star(std::int32_t point, std::vector<std::int32_t>& out) const;

  private:
    struct Lattice {
        std::int32_t x = 0, y = 0, z = 0;
    };
    Lattice quantised(const Vec3& p) const;
    int orientation(const Lattice& a, const Lattice& b, const Lattice& c, const Lattice& d) const;
    int in_sphere(const Tet& t, const Lattice& p) const;
    std::int32_t locate(const Lattice& p, std::int32_t start) const;
    void dig(const Lattice& p, std::int32_t home);
    void fill(std::int32_t number);
    std::int32_t new_tet();

    Vec3 low_;
    double scale_;
    std::vector<Lattice> at_;
    std::vector<std::int32_t> tet_at_;
    std::vector<Tet> tets_;
    std::vector<std::int32_t> free_;
    std::int32_t last_ = 0;
    // Work of one insertion.
    std::vector<std::int32_t> cavity_;
    std::vector<std::uint32_t> mark_;
    std::uint32_t round_ = 0;
    struct Wall {
        std::array<std::int32_t, 3> node;
        std::int32_t beyond;
        std::int32_t made;
    };
    std::vector<Wall> walls_;
    mutable std::vector<std::int32_t> stack_;
    mutable std::vector<std::uint32_t> star_mark_;
    mutable std::uint32_t star_round_ = 0;
};

} // namespace upright
