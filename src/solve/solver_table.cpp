#include "solve/solver_table.hpp"

#include "solve/grid_solver.hpp"
#include "solve/lattice_solver.hpp"

#include <algorithm>
#include <cmath>

namespace upright {

namespace {

// Measured on two cores of 2.5 GHz: docs/performance.md.
constexpr double grid_setup_seconds = 5e-8;     // an unknown
constexpr double grid_iteration_seconds = 3e-8; // an unknown and right-hand side
constexpr double grid_bytes = 75.0;             // an unknown
constexpr double grid_bytes_more = 50.0;        // for each further right-hand side
// Where the fine level has stencils of its own: polar meshes.
constexpr double stencil_setup_seconds = 2e-6;
constexpr double stencil_iteration_seconds = 1e-7;
constexpr double stencil_bytes = 400.0;
constexpr double warm_iterations = 5.0;
constexpr std::size_t grid_from_solid = 6000;      // unknowns below which a factorisation is as quick
constexpr std::size_t grid_from_searched = 120000; // the same of a solid that is searched
constexpr std::size_t grid_from_plane = 300000;

double sides_of(const SolverFacts& facts) {
    return static_cast<double>(std::max<std::size_t>(1, facts.right_sides));
}

std::string serves_all(const SolverFacts& /*facts*/) {
    return {};
}

// Sparse Cholesky with nested dissection: factor ~ n^(4/3) in space, n log n in the plane; a bar or plate
// has less. Calibrated on blocks of 2 x 1 x 1.
SolverEstimate direct_estimate(const SolverFacts& facts) {
    const auto n = static_cast<double>(facts.unknowns);
    if (facts.solid)
        return {2.7e9 * std::pow(n / 209e3, 4.0 / 3.0), 29.0 * std::pow(n / 209e3, 2.0) + 2e-6 * n};
    return {31.0 * n * std::log2(std::max(2.0, n)) * 0.8, 3e-8 * std::pow(n, 1.5) * 0.3 + 3e-6 * n};
}

SolverEstimate grid_estimate(const SolverFacts& facts) {
    const auto n = static_cast<double>(facts.unknowns);
    const double sides = sides_of(facts);
    return {
        n * ((facts.polar ? stencil_bytes : grid_bytes) + grid_bytes_more * std::min(3.0, sides - 1.0)) + 5e7,
        n * ((facts.polar ? stencil_setup_seconds : grid_setup_seconds) +
             warm_iterations * sides * (facts.polar ? stencil_iteration_seconds : grid_iteration_seconds))};
}

SolverEstimate aggregation_estimate(const SolverFacts& facts) {
    const auto n = static_cast<double>(facts.unknowns);
    return {n * aggregation_bytes,
            n * (aggregation_setup_seconds + 12.0 * sides_of(facts) * aggregation_iteration_seconds)};
}

SolverEstimate lattice_estimate(const SolverFacts& facts) {
    const auto n = static_cast<double>(facts.unknowns);
    return {n * (lattice_bytes + 40.0 * std::min(3.0, sides_of(facts) - 1.0)) + 2e7,
            n * (lattice_setup_seconds + 12.0 * sides_of(facts) * lattice_iteration_seconds)};
}

// Of those that take any mesh, without a factorisation.
SolverKind without_grid(const SolverFacts& facts) {
    return facts.solid ? SolverKind::LatticeMultigrid : SolverKind::Aggregation;
}

} // namespace

const std::vector<SolverEntry>& solver_table() {
    static const std::vector<SolverEntry> out{
        {SolverKind::Direct, "direct", "factorisation", "sparse Cholesky", direct_estimate, serves_all,
         [](SystemSource& source, const SolverOptions& options, std::string& /*unfit*/) {
             return make_direct_solver(source.elements(), options);
         }},
        {SolverKind::GridMultigrid, "multigrid", "iterations on coarser and coarser grids", "grid multigrid",
         grid_estimate, [](const SolverFacts& facts) { return facts.no_grid; },
         [](SystemSource& source, const SolverOptions& options,
            std::string& unfit) -> std::unique_ptr<LinearSolver> {
             const GridSystem& grid = source.grid();
             unfit = unfit_for_multigrid(grid);
             return unfit.empty() ? make_grid_solver(grid, options) : nullptr;
         }},
        {SolverKind::LatticeMultigrid, "", "", "lattice multigrid", lattice_estimate,
         [](const SolverFacts& facts) { return facts.solid ? std::string() : std::string("it is no solid"); },
         [](SystemSource& source, const SolverOptions& options, std::string& /*unfit*/) {
             return make_lattice_solver(source.elements(), source.unknown_places(), options);
         }},
        {SolverKind::Aggregation, "", "", "aggregation multigrid", aggregation_estimate, serves_all,
         [](SystemSource& source, const SolverOptions& options, std::string& /*unfit*/) {
             return make_aggregation_solver(source.elements(), source.near_kernel(), options);
         }}};
    return out;
}

const SolverEntry& solver_entry(SolverKind kind) {
    for (const SolverEntry& entry : solver_table())
        if (entry.kind == kind) return entry;
    return solver_table().front();
}

const char* text(SolverKind kind) {
    return kind == SolverKind::Auto ? "auto" : solver_entry(kind).method;
}

std::vector<std::pair<std::string, std::string>> solver_words() {
    std::vector<std::pair<std::string, std::string>> out{{"auto", "what serves best"}};
    for (const SolverEntry& entry : solver_table())
        if (*entry.word != '\0') out.emplace_back(entry.word, entry.says);
    return out;
}

SolverKind solver_of_word(const std::string& word) {
    for (const SolverEntry& entry : solver_table())
        if (word == entry.word && *entry.word != '\0') return entry.kind;
    return SolverKind::Auto;
}

SolverPlan choose_solver(const SolverFacts& facts, const SolverOptions& options) {
    const auto planned = [&](SolverKind kind, const std::string& reason) {
        const SolverEstimate estimate = solver_entry(kind).estimate(facts);
        return SolverPlan{kind,           reason,           facts.unknowns,
                          estimate.bytes, estimate.seconds, estimate.bytes <= options.memory};
    };
    if (options.kind != SolverKind::Auto) {
        const std::string unfit = solver_entry(options.kind).unfit(facts);
        if (!unfit.empty()) return planned(without_grid(facts), "as [run] asks; " + unfit);
        return planned(options.kind, *solver_entry(options.kind).word == '\0' ? "as asked" : "as [run] asks");
    }
    const SolverEstimate direct = direct_estimate(facts);
    if (solver_entry(SolverKind::GridMultigrid).unfit(facts).empty()) {
        const std::size_t from = !facts.solid     ? grid_from_plane
                                 : facts.searched ? grid_from_searched
                                                  : grid_from_solid;
        if (facts.unknowns >= from || direct.bytes > options.memory)
            return planned(SolverKind::GridMultigrid, "a grid of this size");
        return planned(SolverKind::Direct,
                       facts.searched ? "for buckling, at this size" : "quick at this size");
    }
    const SolverKind other = without_grid(facts);
    if (direct.bytes > options.memory) return planned(other, "a factorisation would not fit into memory");
    // The lattice is sure of its iterations, aggregates are not.
    const double sure = other == SolverKind::LatticeMultigrid ? 1.5 : 3.0;
    if (direct.seconds > sure * solver_entry(other).estimate(facts).seconds &&
        (!facts.searched || facts.unknowns >= grid_from_searched))
        return planned(other, "a factorisation would take longer");
    return planned(SolverKind::Direct, "it fits into memory");
}

SolverKind stand_in(const SolverFacts& facts, double memory) {
    return direct_estimate(facts).bytes < memory ? SolverKind::Direct : without_grid(facts);
}

} // namespace upright
