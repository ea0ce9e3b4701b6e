// How much the stress of a cell that is not solid counts.
#pragma once

namespace upright {

// The factor on the stress of solid material that makes soft cells count less: 1.001 rho^3.5 / (rho^3 + 1e-3)
// (in the spirit of the qp approach, Bruggi 2008); 1 at 1, 0 at 0.
double stress_share(double density);
double stress_share_slope(double density);

inline constexpr double counted_density =
    0.5; // elements above it count in figures, and for the largest stress of all in run.json

} // namespace upright
