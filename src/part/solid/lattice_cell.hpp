// Cells of infill that repeat in space: how far a place lies from their struts or sheets.
#pragma once

#include "study/study.hpp"

#include <vector>

namespace upright {

class LatticeCell {
  public:
    // Refers to nothing of the card afterwards.
    explicit LatticeCell(const InfillCard& card);

    // Negative in struts and sheets. Of struts the exact distance to the nearest one's surface, of the gyroid
    // that of the foot on sin X cos Y + sin Y cos Z + sin Z cos X = 0 (Schoen 1970; X = 2 pi x / period) by
    // Newton's steps, less half of the thickness.
    // Its slope, of unit length but where struts meet, where it is wanted.
    double distance(const Vec3& p, Vec3* slope = nullptr) const;
    // The share of space that is solid: by points of one period.
    double share() const;
    // That of each of n x n x n cells of the period, x first, in the axes of the lattice.
    std::vector<double> shares(int n) const;

  private:
    // To the middle of struts or sheets, in the axes of the lattice, and from there to the place.
    double to_middle(const Vec3& q, Vec3& off) const;
    double to_struts(const Vec3& q, Vec3& off) const;
    double to_sheet(const Vec3& q, Vec3& off) const;

    InfillCard::Cell cell_;
    double period_, thickness_;
    Vec3 origin_;
    Mat3 axes_;
};

} // namespace upright
