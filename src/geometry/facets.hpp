// A body bounded by triangles, with numbered faces: what CAD and facet files come to.
#pragma once

#include "geometry/bounds.hpp"

#include <array>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace upright {

// What surface a face of CAD lies on.
enum class FaceKind { Plane, Cylinder, Cone, Sphere, Torus, FreeForm };
const char* text(FaceKind kind); // "free form"

// A face as the file has it, or a patch between sharp edges where the file has triangles alone.
struct FacetFace {
    int number = 0; // from 1
    FaceKind kind = FaceKind::FreeForm;
    double area = 0.0;
    Vec3 centroid = Vec3::Zero();
    Vec3 normal = Vec3::Zero(); // mean outward; its length is 1 only where the face is flat
    double radius = 0.0;        // cylinder, sphere; of a cone at its larger end; of a torus its tube
    Vec3 axis_from = Vec3::Zero(), axis_to = Vec3::Zero(); // cylinder, cone: the axis along the face
    bool hole = false;                                     // the body lies outside of the radius
};

struct FacetMesh {
    std::vector<Vec3> points;
    std::vector<std::array<std::int32_t, 3>> triangles; // outward by the right hand
    std::vector<std::int32_t> face_of;                  // index into `faces`, for each triangle
    std::vector<FacetFace> faces;
};

// A tree of boxes over triangles (or anything with bounds): nearest points and ray crossings.
class FacetTree {
  public:
    FacetTree() = default;
    FacetTree(const std::vector<Vec3>& points, const std::vector<std::array<std::int32_t, 3>>& triangles);

    struct Nearest {
        double distance = 1e300;
        std::int32_t triangle = -1;
        Vec3 place = Vec3::Zero();
    };
    // The nearest place within `reach`; triangle -1 where there is none.
    Nearest nearest(const Vec3& p, double reach = 1e300) const;
    struct Hit {
        double along = 0.0; // in lengths of the direction
        std::int32_t triangle = -1;
        bool doubtful = false; // close to an edge, or grazing
    };
    // Every crossing of the ray with along > 0, unordered.
    void crossings(const Vec3& from, const Vec3& direction, std::vector<Hit>& out) const;

    const std::vector<std::array<Vec3, 3>>& corners() const { return corners_; }

  private:
    struct Box {
        Eigen::Vector3f low, high;
        std::int32_t first = 0; // leaf: index into order_; else the right child (the left one follows)
        std::int32_t count = 0; // of a leaf; 0 for an inner node
    };
    std::int32_t build(std::int32_t first, std::int32_t last, std::vector<Vec3>& middles);
    std::vector<std::array<Vec3, 3>> corners_; // for each triangle, in its own order
    std::vector<std::int32_t> order_;          // of the leaves
    std::vector<std::array<Vec3, 3>> in_leaf_; // corners in that order: those of a leaf side by side
    std::vector<Box> boxes_;
    Vec3 shift_ = Vec3::Zero(); // boxes are about the middle, so that single precision does
    float slack_ = 0.0F;
};

class FacetBody {
  public:
    FacetBody(std::string name, FacetMesh mesh);

    const std::string& name() const { return name_; }
    const FacetMesh& mesh() const { return mesh_; }
    const FacetTree& tree() const { return tree_; }
    const Bounds& bounds() const { return bounds_; }
    double volume() const { return volume_; }
    // Edges that do not lie between exactly two triangles of opposite sense.
    std::size_t open_edges() const { return open_edges_; }

    bool inside(const Vec3& p) const;
    // Exact to the triangles; negative inside.
    double signed_distance(const Vec3& p) const;
    // The sharp edges, for outlines.
    const std::vector<std::pair<Vec3, Vec3>>& edges() const { return edges_; }

  private:
    std::string name_;
    FacetMesh mesh_;
    FacetTree tree_;
    Bounds bounds_;
    double volume_ = 0.0;
    std::size_t open_edges_ = 0;
    std::vector<std::pair<Vec3, Vec3>> edges_;
};

// The place of a triangle that is nearest to p (Ericson 2005, section 5.1.5).
Vec3 nearest_on_triangle(const Vec3& p, const Vec3& a, const Vec3& b, const Vec3& c);

// Numbers the patches between edges sharper than `degrees`, fits planes and cylinders to them, and fills
// `face_of` and `faces`.
void number_patches(FacetMesh& mesh, double degrees);

// Measures each face from its triangles: area, centroid, normal.
void measure_faces(FacetMesh& mesh);

} // namespace upright
