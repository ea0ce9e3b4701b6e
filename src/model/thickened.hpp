// Plane and shell meshes from files as solids: every element as thick as it is said to be.
#pragma once

#include "model/model.hpp"

namespace upright {

struct Thickened {
    Mesh mesh;                   // hex8, wedge6 and tet4, in the model's regions, with its planes of symmetry
    std::vector<std::size_t> of; // the element that each was made from
    // Of each element of the sheets: its corners' nodes on the face that its normal points away from, and on
    // the other.
    std::vector<std::vector<NodeId>> below, above;

    // What a side of an element of the sheets has become: a flat side, or the quadrilateral over an edge.
    // Points outward.
    std::vector<Vec3> side(const Mesh& sheets, const MeshFace& face) const;
};

// Layers about the mid-surface: of elements of different thickness the thicker ones have more, so that all
// share their nodes where they meet. Nodes of shells move along the mean normal of the elements about them,
// so far that the faces of those elements are as thick as they should be (exactly where they lie in planes);
// nodes of plane meshes along z about `middle`. Corners alone count of elements of second order.
// Where three or more meet in an edge they end on the corners between them, and their core is filled
// (sheet_joints.hpp); beside bends and such edges faces slide along where elements are smaller than they are
// thick (sheet_slides.hpp).
// Throws Error (Input), with a place, where no outside can be told (a band with a half turn), where they fold
// back or meet at less than 29 degrees, for more than `most_thicknesses` thicknesses of one sheet, and where
// no room is left inside a bend or beside an edge that several meet in.
constexpr std::size_t most_thicknesses = 8;
Thickened thickened(const Mesh& mesh, double middle, const Place& place);

// Whether the part of a model is cut from its sheets made solid: plane and shell meshes from files.
bool made_of_sheets(const Model& model);
// Where the middle of the thickness lies along z: plane models stand on the plane z = 0, shells are in it.
double middle_of_thickness(const Model& model);

Thickened thickened(const Model& model);

} // namespace upright
