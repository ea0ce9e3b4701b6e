#include "check/estimate.hpp"

#include "base/reduction.hpp"
#include "optimize/moving_asymptotes.hpp"
#include "study/measure_word.hpp"
#include "study/mesh_word.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright {

namespace {

// Sensitivities, filter and step of one iteration, for each element, and what any iteration takes: measured
// on two cores (grids of 4,644 to a million cells, fitted meshes of 95,000 and a million tetrahedra, the
// lightest pedestal of 103,000 cells, whose stress has as many Lagrange multipliers as cells). The step of
// few variables is found in a way that takes longer for each.
constexpr double grid_around = 6e-6, large_grid_around = 5e-7, mesh_around = 3e-6, stress_around = 2e-5;
constexpr double any_iteration = 0.03;
// The program with its libraries, and what a model and its design take beside solving, for each element.
constexpr double any_bytes = 7e7, grid_bytes = 400.0, mesh_bytes = 1200.0;

bool looks_at_stress(const Model& model) {
    return std::any_of(model.responses.begin(), model.responses.end(), [](const ModelResponse& r) {
        return r.measure->strength && (r.goal || r.min || r.max || r.max_share);
    });
}

// Measured on two cores, with cells of the mesh's size in the space as the measure: the pedestal of 4,644 in
// 17 s and 0.45 GB, the yoke of about 17,300 in 170 s and 4.1 GB.
constexpr double verify_cells = 4644.0, verify_seconds = 17.0, verify_bytes = 0.45e9;
constexpr double seconds_power = 1.75, bytes_power = 1.68;
constexpr double most_cells = 25000.0;
constexpr double tets_in_a_cell = 5.5, closer = 1.6;

} // namespace

RunEstimate estimate_run(const Model& model) {
    return estimate_run(model, plan_cases(model, solver_options(model.run)));
}

RunEstimate estimate_run(const Model& model, const std::vector<CasePlan>& plans) {
    RunEstimate out;
    for (const CasePlan& group : plans) {
        out.seconds += group.solver.seconds;
        out.bytes += group.solver.bytes;
    }
    const auto elements = static_cast<double>(model.mesh.elements());
    const bool large = elements >= static_cast<double>(MmaSettings().dual_from);
    const double around = (!model.mesh.on_grid() ? mesh_around
                           : large               ? large_grid_around
                                                 : grid_around) +
                          (looks_at_stress(model) ? stress_around : 0.0);
    out.bytes += any_bytes + elements * (model.mesh.on_grid() ? grid_bytes : mesh_bytes);
    out.seconds = model.run.iterations * (any_iteration + out.seconds + around * elements);
    return out;
}

std::optional<RunEstimate> estimate_verify(const Model& model) {
    if (model.made_by.flat() || model.mesh.shell() || model.mesh.dimension() != 3) return {};
    // The lattice that parts are cut from follows bends where there is no grid; fitted elements have done so.
    double cells = sum_of(model.mesh.element_volumes()) / std::pow(model.mesh.size, 3.0);
    const ElementKind kind = model.mesh.kinds.front();
    if (kind == ElementKind::Tet4 || kind == ElementKind::Tet10)
        cells = std::max(cells, static_cast<double>(model.mesh.elements()) / tets_in_a_cell);
    else if (!model.mesh.on_grid())
        cells *= closer;
    cells /= verify_cells;
    if (cells * verify_cells > most_cells) return {};
    return RunEstimate{verify_seconds * std::pow(cells, seconds_power),
                       verify_bytes * std::pow(cells, bytes_power)};
}

std::string duration_text(double seconds) {
    if (seconds < 100.0) return fmt::format("{:.0f} s", std::max(1.0, seconds));
    if (seconds < 6000.0) return fmt::format("{:.0f} min", seconds / 60.0);
    return fmt::format("{:.1f} h", seconds / 3600.0);
}

} // namespace upright
