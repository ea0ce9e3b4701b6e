// Curved triangles through three corners with a normal at each, after Vlachos, Peters, Boyd & Mitchell 2001
// ("Curved PN triangles"): cubic sides of points and normals alone, so that neighbours share them. Raised to
// degree d they are given the normals that the neighbours have at d - 3 places between the ends of each side.
#pragma once

#include "base/vectors.hpp"

#include <array>
#include <vector>

namespace upright {

// A cubic from a to d; straight where b and c are its thirds.
struct Cubic {
    Vec3 a, b, c, d;
    Vec3 at(double s) const;
    Vec3 slope(double s) const; // a third of its derivative
    Cubic reversed() const { return {d, c, b, a}; }
};

// A Bezier triangle: u from the first corner towards the second, v towards the third, u + v <= 1. Side k runs
// from corner k to the next one.
class CurvedTriangle {
  public:
    static constexpr std::size_t most = 10; // degree

    // The PN triangle, of degree three; sides as the triangle goes round.
    explicit CurvedTriangle(const std::array<Cubic, 3>& sides);

    // The same surface by control points of a higher degree.
    CurvedTriangle raised(std::size_t degree) const;
    std::size_t degree() const { return degree_; }
    // Control points, of u and of v: at(0, 0), at(degree, 0) and at(0, degree) are the corners.
    const Vec3& at(std::size_t i, std::size_t j) const { return net_[i * (degree_ + 1) + j]; }

    Vec3 point(double u, double v) const;
    // The unit normal at a place of a side, 0 to 1; not finite where it has none.
    Vec3 normal(std::size_t side, double s) const;

    // Moves the points within as little as gives it these normals, as well as it can; not at all where they
    // would go further than some sizes of the triangle.
    struct Asked {
        std::size_t side = 0;
        double s = 0.0;
        Vec3 normal = Vec3::Zero();
    };
    void meet(const std::vector<Asked>& normals);

    // Control points, row by row of u, of the square of the same degree each way that it is the lower half
    // of.
    std::vector<Vec3> square() const;

  private:
    Vec3& at(std::size_t i, std::size_t j) { return net_[i * (degree_ + 1) + j]; }
    std::array<std::size_t, 2> beside(std::size_t side, std::size_t i) const; // in the row next to a side
    Vec3 across(std::size_t side, double s) const;                            // from a side into the triangle

    std::size_t degree_ = 3;
    std::array<Cubic, 3> sides_;
    std::vector<Vec3> net_; // rows of u, of which half is used
};

} // namespace upright
