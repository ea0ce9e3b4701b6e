// The place of element sides that is nearest to a point, told in the side's own shape functions.
#pragma once

#include "geometry/facets.hpp"
#include "mesh/mesh.hpp"

#include <array>
#include <vector>

namespace upright {

struct SidePlace {
    MeshFace face;
    std::vector<NodeId> nodes;  // of the side: corners, then middles of edges
    Eigen::VectorXd values;     // the shape function of each node at the place
    Vec3 place = Vec3::Zero();  // on the side
    double distance = 0.0;      // from the point asked for
    int tangents = 2;           // directions along the side: 1 of an edge
    std::array<Vec3, 2> along;  // unit vectors at right angles
    Eigen::MatrixXd slopes;     // derivative of each shape function along them: tangents x nodes
    Vec3 normal = Vec3::Zero(); // unit; of an edge in the plane of its element
};

// Holds the sides it searches; the mesh must outlive it.
class SideFinder {
  public:
    SideFinder(const Mesh& mesh, std::vector<MeshFace> sides);
    bool empty() const { return sides_.empty(); }
    // Sides of the second order are curved: the place is found by Gauss-Newton steps from the nearest of the
    // triangles that they are cut into.
    SidePlace nearest(const Vec3& point) const;

  private:
    const Mesh& mesh_;
    std::vector<MeshFace> sides_;
    std::vector<std::size_t> side_of_; // for each triangle of the tree
    FacetTree tree_;
};

} // namespace upright
