// Elements: stiffness and strain of one cell. A new kind is a file of its own and a line in element_for().
#pragma once

#include "mesh/mesh.hpp"
#include "study/study.hpp"

#include <Eigen/Core>

namespace upright {

// The elastic matrix for unit Young's modulus, in Voigt order (xx, yy, zz, xy, yz, zx) with engineering shear
// strains; plane: (xx, yy, xy).
Eigen::MatrixXd elastic_matrix(ElementFamily family, double nu);

class Element {
  public:
    Element() = default;
    Element(const Element&) = delete;
    Element& operator=(const Element&) = delete;
    virtual ~Element() = default;

    virtual int nodes() const = 0;
    virtual int dimension() const = 0;
    // Stiffness (dofs x dofs, node by node) for corner coordinates (dimension x nodes) and elastic matrix D.
    virtual Eigen::MatrixXd stiffness(const Eigen::MatrixXd& corners, const Eigen::MatrixXd& D,
                                      double thickness, Formulation formulation) const = 0;
    // Strain-displacement matrix (strains x dofs) at the middle of the element. The incompatible modes of the
    // enhanced formulation have no strain there.
    virtual Eigen::MatrixXd center_strain(const Eigen::MatrixXd& corners) const = 0;
};

// Trilinear hexahedron and bilinear quadrilateral, 2 x 2 (x 2) Gauss points; with incompatible modes (Wilson,
// Taylor, Doherty & Ghaboussi 1973, in the form that passes the patch test: Taylor, Beresford & Wilson 1976),
// condensed.
const Element& element_for(ElementKind kind);

// Von Mises stress from stresses in Voigt order: six, or three in the plane with the stress across it.
double von_mises(const Eigen::VectorXd& stress, double across_plane = 0.0);

// The corners of an element of a mesh, one column each.
Eigen::MatrixXd corners_of(const Mesh& mesh, ElementId element);

} // namespace upright
