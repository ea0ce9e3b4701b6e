// The design of a run as a smooth function of the place: what is cut at a level to get the part.
#pragma once

#include "mesh/mesh.hpp"

#include <functional>
#include <vector>

namespace upright {

// A cubic B-spline whose coefficients are the values of the cells of a lattice (those of the mesh's grid, or
// of three quarters of its size, by moving least squares from the elements). Such a lattice of its own is
// corrected by what the spline misses at the middles of elements, or members of one or two of them would be
// lost by smoothing twice (the rope sheave was 2.3 times as soft as its design). Beyond the elements that
// count the values go on harmonically, and mirrored at planes of symmetry, so that nothing but the design
// itself bends the surface.
class DesignField {
  public:
    // `value`: of each element; `counts`: those that it is a value of; `smooth`: values change little from
    // one element to the next, as a filter leaves them. Others are not corrected: the surface would be
    // stairs.
    DesignField(const Mesh& mesh, const std::vector<double>& value, const std::vector<bool>& counts,
                bool smooth);

    double value(const Vec3& p) const;
    Vec3 slope(const Vec3& p) const;
    double value(const Vec3& p, Vec3& slope) const;

  private:
    void take(const Mesh& mesh, const std::vector<double>& value, const std::vector<bool>& counts);
    void take_grid(const Mesh& mesh, const std::vector<double>& value, const std::vector<bool>& counts);
    void sample(const Mesh& mesh, const std::vector<double>& value, const std::vector<bool>& counts);
    void mirror(const Mesh& mesh);
    void go_on(int layers, int sweeps);
    std::size_t at(const std::array<int, 3>& c) const {
        return (static_cast<std::size_t>(c[2]) * static_cast<std::size_t>(count_[1]) +
                static_cast<std::size_t>(c[1])) *
                   static_cast<std::size_t>(count_[0]) +
               static_cast<std::size_t>(c[0]);
    }

    Vec3 origin_ = Vec3::Zero(); // middle of the first cell
    Vec3 step_ = Vec3::Ones();
    std::array<int, 3> count_{};
    std::vector<double> values_;
    // What a cell is the image of at planes of symmetry; itself elsewhere.
    std::array<std::vector<int>, 3> image_;
    std::vector<char> known_;
};

} // namespace upright
