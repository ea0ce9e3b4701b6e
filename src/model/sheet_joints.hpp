// Where three shells or more meet in one edge, and how thick sheets are joined there.
#pragma once

#include "base/error.hpp"
#include "mesh/mesh.hpp"

#include <Eigen/Core>
#include <array>
#include <map>
#include <vector>

namespace upright {

// Of the direction in which a corner of sheets points and the normal of one of them: 75 degrees.
constexpr double least_facing = 0.25;

// The sheets of a mesh of shells, as thickening sees them.
struct Sheets {
    const Mesh& mesh;
    const Place& place;
    std::vector<std::vector<NodeId>> rings;  // corners of each element
    std::vector<std::size_t> patch;          // of each element: what edges of two lead to from it
    std::vector<std::vector<double>> halves; // of each patch: half thicknesses that occur, ascending
    std::vector<int> level;                  // of each element: its place among them

    double half(std::size_t element) const {
        return halves[patch[element]][static_cast<std::size_t>(level[element])];
    }
    struct Corner {
        Vec3 normal = Vec3::Zero();
        double angle = 0.0;
        std::array<NodeId, 2> beside{}; // the next node of the ring and the one before
    };
    Corner corner(std::size_t element, NodeId n) const;
    bool lies_in(const SymmetryCut& cut, std::size_t node) const;
    std::vector<double> largest_halves() const; // of each node's elements
    [[noreturn]] void refuse(const std::string& what, const Vec3& at, const std::string& instead) const;
};

// Which elements meet in an edge, and whether their ring runs from its lesser node to the other.
struct EdgeUse {
    std::size_t element = 0;
    bool forward = false;
};
using SheetEdges = std::map<std::pair<NodeId, NodeId>, std::vector<EdgeUse>>;
SheetEdges edges_of(const Sheets& sheets);

// In what directions a point may go that stays on planes, given the mean of the squares of their normals:
// the projection onto these. Planes that are turned by less than 16 degrees count as one.
Eigen::Matrix3d planes_leave(const Eigen::Matrix3d& normals);

// About a node of such an edge the upper and lower sides of the elements hang together in corners: across an
// edge of two from one to the other, where more meet from each side to the one that it faces. All sides of a
// corner share one point, as far from the middle of each sheet as that is thick. Where such an edge ends
// within a sheet, as a rib does on a plate, the sheet is parted along the edge that goes on most nearly
// straight, so that the rib's two sides have a point each.
class SheetJoints {
  public:
    // Neighbours over edges of two run through them in opposite directions. Throws Error (Input), with a
    // place, where sheets meet at a sharper angle than 29 degrees, where the thickness of one changes along
    // the edge, and where no such points are found.
    SheetJoints(const Sheets& sheets, const SheetEdges& edges);

    bool empty() const { return nodes_.empty(); }
    bool at(NodeId n) const { return nodes_.find(n) != nodes_.end(); }

    // At a node of a joint: the corner that a side of an element belongs to, and where its point is, from the
    // node.
    int corner(NodeId n, std::size_t element, bool above) const;
    const Vec3& offset(NodeId n, int corner) const;
    int corners(NodeId n) const;
    // Where a corner's point may go on the faces of all its sheets: the projection onto these directions.
    const Eigen::Matrix3d& freedom(NodeId n, int corner) const;

    // Between the elements of such an edge a core is left, from each node's middle to the ends of the sheets.
    struct Seam {
        NodeId a{}, b{};
        std::vector<std::size_t> elements;
    };
    const std::vector<Seam>& seams() const { return seams_; }
    // Where a sheet was parted beyond the end of a rib: from `from` to `to`.
    struct Parting {
        NodeId from{}, to{};
        std::size_t rib = 0;                   // its last element
        std::array<std::size_t, 2> elements{}; // to both sides of the edge
        std::array<bool, 2> above{};           // which of their sides are parted
    };
    const std::vector<Parting>& partings() const { return partings_; }

  private:
    struct About {
        std::vector<std::size_t> elements;
        std::vector<int> corner;  // of each: below, above
        std::vector<int> run;     // of each: what edges of two join it with about the node
        std::vector<Vec3> offset; // of each corner
        std::vector<Eigen::Matrix3d> freedom;
    };
    class Finder;
    std::size_t place_of(const About& about, std::size_t element) const;

    std::map<NodeId, About> nodes_;
    std::vector<Seam> seams_;
    std::vector<Parting> partings_;
};

} // namespace upright
