#include "optimize/run.hpp"

#include "optimize/run/stepper.hpp"

#include <algorithm>
#include <cmath>

namespace upright {

namespace {

constexpr double sharpest = 16.0;

} // namespace

Schedule schedule(const RunCard& run, const Problem& problem, int iteration) {
    Schedule out;
    const double share = static_cast<double>(iteration - 1) / std::max(1, run.iterations - 1);
    const bool gently = problem.method->stiffness_alone || problem.compliance_goal;
    if (run.penalty) {
        out.penalty = *run.penalty;
    } else if (gently && !problem.has_stress && !problem.has_frequency && !run.start_run &&
               !run.coarse_first) {
        out.penalty = 1.0 + 2.0 * std::min(1.0, share / 0.3);
        out.final = share >= 0.3;
    }
    if (problem.has_stress) out.move = 0.1;
    if (run.sharpen) {
        const double ramp = (share - 0.4) / 0.45;
        if (ramp >= 0.0) {
            out.sharpness = std::pow(sharpest, std::min(1.0, ramp));
            out.move = problem.has_stress && ramp >= 1.0 ? 0.02 : 0.05;
        }
        out.final = out.final && ramp >= 1.0;
    }
    return out;
}

} // namespace upright
