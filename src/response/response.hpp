// What is measured of a design, and its derivative by the physical densities.
#pragma once

#include "fem/static_analysis.hpp"
#include "study/study.hpp"

#include <string>
#include <vector>

namespace upright {

// The value of a response in base units and its gradient by the physical density of each element.
struct Measured {
    double value = 0.0;
    std::vector<double> gradient; // empty where none was asked for
};

// Mass and volume measures are linear in the densities: value = sum over elements of weight * density. They
// count the regions that the response names, and the design regions where it names none.
std::vector<double> linear_weights(const Model& model, const ResponseCard& response);

// Weighted compliance sum over cases of weight * f'u (one case, or all that bear the response's case name,
// with weight 1). The adjoint v of compliance is u itself, or u without the motions that supports enforce:
// dC/drho = (u + v)' df/drho - v' dK/drho u, the first term from gravity, spin and heat.
Measured compliance(const StaticAnalysis& analysis, const ResponseCard& response,
                    const std::vector<CaseResult>& results, const std::vector<double>& density,
                    double penalty, bool with_gradient);

// Any response of the study.
Measured measure(const StaticAnalysis& analysis, const ResponseCard& response,
                 const std::vector<CaseResult>& results, const std::vector<double>& density, double penalty,
                 bool with_gradient);

// Whether bounds hold, with a relative tolerance for rounding and for the last step of the optimiser.
inline constexpr double bound_tolerance = 1e-3;
bool holds(const ResponseCard& response, double value);

} // namespace upright
