#include "check/estimate.hpp"

#include "fem/constrained_solver.hpp"

#include <algorithm>
#include <fmt/format.h>

namespace upright {

namespace {

// Sensitivities, filter and step of one iteration, for each element: measured on two cores.
constexpr double seconds_around = 2e-5;

} // namespace

RunEstimate estimate_run(const Model& model) {
    RunEstimate out;
    for (const CasePlan& group : plan_cases(model, solver_options(model.run))) {
        out.seconds += group.solver.seconds;
        out.bytes += group.solver.bytes;
    }
    out.seconds =
        model.run.iterations * (out.seconds + seconds_around * static_cast<double>(model.mesh.elements()));
    return out;
}

std::string duration_text(double seconds) {
    if (seconds < 100.0) return fmt::format("{:.0f} s", std::max(1.0, seconds));
    if (seconds < 6000.0) return fmt::format("{:.0f} min", seconds / 60.0);
    return fmt::format("{:.1f} h", seconds / 3600.0);
}

} // namespace upright
