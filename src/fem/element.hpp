// Elements: stiffness, mass, thermal load and stress of one cell. A new kind is a file of its own and a line
// in element_for().
#pragma once

#include "mesh/mesh.hpp"
#include "study/study.hpp"

#include <Eigen/Core>

namespace upright {

// The elastic matrix for unit Young's modulus, in Voigt order (xx, yy, zz, xy, yz, zx) with engineering shear
// strains; plane: (xx, yy, xy). A shell has that of plane stress.
Eigen::MatrixXd elastic_matrix(ElementFamily family, double nu);

class Element {
  public:
    Element() = default;
    Element(const Element&) = delete;
    Element& operator=(const Element&) = delete;
    virtual ~Element() = default;

    // Corner coordinates come as space x nodes (space 3 for shells); freedoms node by node.
    // Stiffness for elastic matrix D.
    virtual Eigen::MatrixXd stiffness(const Eigen::MatrixXd& places, const Eigen::MatrixXd& D,
                                      double thickness, Formulation formulation) const = 0;
    // Consistent mass of unit density.
    virtual Eigen::MatrixXd mass(const Eigen::MatrixXd& places, double thickness) const = 0;
    // Nodal forces of a free expansion: integral of B' D strain0, with strain0 in Voigt order.
    virtual Eigen::VectorXd expansion(const Eigen::MatrixXd& places, const Eigen::MatrixXd& D,
                                      const Eigen::VectorXd& strain0, double thickness) const = 0;
    // Stress from the freedoms at the middle of the element: Voigt order; a shell has that of its upper and
    // then of its lower face. The incompatible modes of the enhanced formulation have no strain there.
    virtual Eigen::MatrixXd center_stress(const Eigen::MatrixXd& places, const Eigen::MatrixXd& D,
                                          double thickness) const = 0;
};

// hex8 and quad4, plain or with incompatible modes (Wilson, Taylor, Doherty & Ghaboussi 1973, in the form
// that passes the patch test: Taylor, Beresford & Wilson 1976), condensed: brick.cpp. tri3, tri6, quad8,
// tet4, tet10, wedge6, hex20: isoparametric.cpp. Flat shells: shell.cpp.
const Element& element_for(ElementKind kind);

// The pieces behind element_for().
const Element& brick_element(ElementKind kind);
const Element& isoparametric_element(ElementKind kind);
const Element& shell_element(ElementKind kind);

// Strain-displacement matrix from the gradients of the interpolation (dimension x nodes).
Eigen::MatrixXd strain_matrix(const Eigen::MatrixXd& gradient);

// Von Mises stress from stresses in Voigt order: six, or three in the plane with the stress across it.
double von_mises(const Eigen::VectorXd& stress, double across_plane = 0.0);

// The places of an element's nodes, one column each: two rows in the plane, else three.
Eigen::MatrixXd places_of(const Mesh& mesh, ElementId element);

} // namespace upright
