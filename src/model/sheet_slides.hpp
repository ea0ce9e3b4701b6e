// How the faces of thick sheets slide along them beside bends and joints.
#pragma once

#include "model/sheet_joints.hpp"

namespace upright {

// Inside a bend of a thick sheet its face begins as far from the middle's edge as it is thick, and elements
// that are smaller would lie on the wrong side of it. So points of faces beside it slide along, less and less
// over four times as far: by the mean of where their neighbours go, weighed by one over the distance. Points
// of edges slide along these, corners not at all. They stay on straight rims, on edges where the thickness
// changes and in planes of symmetry, and where those are bent they do not slide; flat faces stay in their
// planes.
class SheetSlides {
  public:
    SheetSlides() = default;
    // `offset`: where a node goes for each unit of half thickness; those of joints are not asked.
    SheetSlides(const Sheets& sheets, const SheetEdges& edges, const SheetJoints& joints,
                const std::vector<Vec3>& offset);

    bool empty() const { return first_.empty(); }
    // Of a node's upper or lower point, for its thickest element; of a joint's corner.
    const Vec3& of_side(NodeId n, bool above) const { return slide_[first_[index(n)] + (above ? 1 : 0)]; }
    const Vec3& of_corner(NodeId n, int corner) const {
        return slide_[first_[index(n)] + static_cast<std::size_t>(corner)];
    }

  private:
    class Slider;
    std::vector<std::size_t> first_; // of each node, among the points
    std::vector<Vec3> slide_;
};

} // namespace upright
