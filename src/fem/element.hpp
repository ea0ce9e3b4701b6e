// Elements: stiffness, mass, thermal load and stress of one cell. A new kind is a file of its own and a line
// in element_for().
#pragma once

#include "mesh/mesh.hpp"
#include "study/study.hpp"

#include <Eigen/Core>

namespace upright {

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
    // Stress from the freedoms at a place in natural coordinates: in Voigt order (xx, yy, zz, xy, yz, zx),
    // plane (xx, yy, xy); a shell has that of its upper and then of its lower face, in the axes of its plane.
    virtual Eigen::MatrixXd stress(const Eigen::MatrixXd& places, const Eigen::MatrixXd& D, double thickness,
                                   Formulation formulation, const Vec3& at) const = 0;
    // That matrix times freedoms that are known; cheaper where many elements of unlike shape are asked.
    virtual Eigen::VectorXd stress_of(const Eigen::MatrixXd& places, const Eigen::MatrixXd& D,
                                      double thickness, Formulation formulation, const Vec3& at,
                                      const Eigen::VectorXd& freedoms) const {
        return stress(places, D, thickness, formulation, at) * freedoms;
    }
};

// hex8 and quad4, plain or with incompatible modes (Wilson, Taylor, Doherty & Ghaboussi 1973, in the form
// that passes the patch test: Taylor, Beresford & Wilson 1976), condensed: brick.cpp. tri3, tri6, quad8,
// tet4, tet10, wedge6, hex20: isoparametric.cpp. Flat shells: shell_triangle.cpp, shell.cpp.
const Element& element_for(ElementKind kind);

// The pieces behind element_for().
const Element& brick_element(ElementKind kind);
const Element& isoparametric_element(ElementKind kind);
const Element& shell_triangle();
const Element& shell_quad();

// Strain-displacement matrix from the gradients of the interpolation (dimension x nodes).
Eigen::MatrixXd strain_matrix(const Eigen::MatrixXd& gradient);

// Von Mises stress from what an element gives: six, or three in the plane with the stress across it.
double plane_von_mises(const Eigen::VectorXd& stress, double across_plane = 0.0);

// The plane of a shell element: two directions in it and the normal, as columns.
Mat3 shell_axes(const Eigen::MatrixXd& places);

// The mass of an element as a diagonal: that of the consistent mass, scaled for each direction to the mass it
// has in all (Hinton, Rock & Zienkiewicz 1976).
Eigen::MatrixXd lumped(const Eigen::MatrixXd& consistent, int freedoms);

// The places of an element's nodes, one column each: two rows in the plane, else three.
Eigen::MatrixXd places_of(const Mesh& mesh, ElementId element);

} // namespace upright
