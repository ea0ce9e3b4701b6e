// Elastic matrices of materials, isotropic and orthotropic, in the axes of an element.
#pragma once

#include "model/model.hpp"

#include <Eigen/Core>

namespace upright {

// A stress or strain in Voigt order (xx, yy, zz, xy, yz, zx); strains have engineering shear.
using Voigt = Eigen::Matrix<double, 6, 1>;
using Elastic6 = Eigen::Matrix<double, 6, 6>;

// The elastic matrix of an isotropic material of unit Young's modulus. Solid: six by six, in Voigt order.
// Plane: three by three (xx, yy, xy). Shell: that of plane stress, and the two transverse shears (zx, yz)
// after it.
Eigen::MatrixXd elastic_matrix(ElementFamily family, double nu);

// The full matrix of a material whose axes are the columns of `axes`, in the axes that those are written in
// (Lekhnitskii 1963: inverse of the compliance, turned as a tensor). An isotropic one needs no axes.
Elastic6 elastic_in_space(const Material& material, const Mat3& axes);

// What an element of the model needs: elastic matrix and free strain for each kelvin, in its own axes (those
// of its plane for a shell, the global ones else), in the order of elastic_matrix().
Eigen::MatrixXd elasticity(const Model& model, ElementId e);
Eigen::VectorXd free_strain(const Model& model, ElementId e);
// The stress across the plane in plane strain, from that in the plane and the rise of temperature.
double stress_across_plane(const Model& model, ElementId e, const Eigen::VectorXd& in_plane, double rise);
// The compliance in space, in global axes.
Elastic6 compliance_in_space(const Model& model, ElementId e);

// Whether the elastic matrix is the same at every place of the global axes.
bool same_everywhere(const Material& material);

// The tensor of a stress, and back.
Mat3 stress_tensor(const Voigt& s);
Voigt stress_voigt(const Mat3& s);

} // namespace upright
