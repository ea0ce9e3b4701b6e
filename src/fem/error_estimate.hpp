// How far a static result is from that of an infinitely fine mesh, in the energy norm, by the stress that
// recovery makes continuous (Zienkiewicz & Zhu 1987).
#pragma once

#include "fem/stress.hpp"

namespace upright {

struct ErrorEstimate {
    double error = 0.0;          // energy norm of the error: square root of the integral of ds' C ds
    double energy_norm = 0.0;    // of the solution: square root of twice the strain energy
    double relative = 0.0;       // error / sqrt(energy_norm^2 + error^2)
    std::vector<double> element; // share of each element, squared
};
// Recovered stress is the average at the nodes within one region. It is compared with the stress of the
// elements, at every point of the rule for second-order elements, through the polynomial of `field` for
// first-order ones. Of shells the membrane and bending parts are taken, shear across the thickness is not.
ErrorEstimate estimate_error(const StaticAnalysis& analysis, const ModelCase& c, const Eigen::VectorXd& u,
                             const RegionNodes& nodes, const StressField& field,
                             const std::vector<Voigt>& recovered);

} // namespace upright
