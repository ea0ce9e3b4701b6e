#include "fem/constrained_solver.hpp"

#include "base/blocks.hpp"
#include "fem/case_groups.hpp"
#include "solve/grid_solver.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>

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
constexpr std::size_t grid_from_solid = 6000; // unknowns below which a factorisation is as quick
constexpr std::size_t grid_from_plane = 300000;

// Sparse Cholesky with nested dissection: factor ~ n^(4/3) in space, n log n in the plane; a bar or plate
// has less. Calibrated on blocks of 2 x 1 x 1.
double direct_bytes(double n, bool solid) {
    return solid ? 2.7e9 * std::pow(n / 209e3, 4.0 / 3.0) : 31.0 * n * std::log2(std::max(2.0, n)) * 0.8;
}
double direct_seconds(double n, bool solid) {
    return solid ? 29.0 * std::pow(n / 209e3, 2.0) + 2e-6 * n : 3e-8 * std::pow(n, 1.5) * 0.3 + 3e-6 * n;
}

} // namespace

const char* text(SolverKind kind) {
    switch (kind) {
    case SolverKind::Auto:
        return "auto";
    case SolverKind::Direct:
        return "sparse Cholesky";
    case SolverKind::GridMultigrid:
        return "grid multigrid";
    case SolverKind::Aggregation:
        return "aggregation multigrid";
    }
    return "";
}

SolverOptions solver_options(const RunCard& run) {
    SolverOptions out;
    out.threads = run.threads;
    out.memory = run.memory;
    out.kind = run.solver == "direct"      ? SolverKind::Direct
               : run.solver == "multigrid" ? SolverKind::GridMultigrid
                                           : SolverKind::Auto;
    return out;
}

SolverPlan plan_solver(const Model& model, const ShapeClasses& classes, std::size_t unknowns,
                       std::size_t right_sides, const SolverOptions& options) {
    const bool solid = model.mesh.dimension() == 3 && !model.mesh.shell();
    const auto n = static_cast<double>(unknowns);
    const auto sides = static_cast<double>(std::max<std::size_t>(1, right_sides));
    const std::string no_grid = unfit_for_grid(model, classes);
    SolverPlan direct;
    direct.unknowns = unknowns;
    direct.kind = SolverKind::Direct;
    direct.bytes = direct_bytes(n, solid);
    direct.seconds = direct_seconds(n, solid);
    SolverPlan grid = direct;
    grid.kind = SolverKind::GridMultigrid;
    const bool polar = model.mesh.polar.given();
    grid.bytes =
        n * ((polar ? stencil_bytes : grid_bytes) + grid_bytes_more * std::min(3.0, sides - 1.0)) + 5e7;
    grid.seconds =
        n * ((polar ? stencil_setup_seconds : grid_setup_seconds) +
             warm_iterations * sides * (polar ? stencil_iteration_seconds : grid_iteration_seconds));
    SolverPlan aggregation = direct;
    aggregation.kind = SolverKind::Aggregation;
    aggregation.bytes = n * aggregation_bytes;
    aggregation.seconds = n * (aggregation_setup_seconds + 12.0 * sides * aggregation_iteration_seconds);
    const auto done = [&](SolverPlan plan, const std::string& reason) {
        plan.reason = reason;
        plan.fits = plan.bytes <= options.memory;
        return plan;
    };
    switch (options.kind) {
    case SolverKind::Direct:
        return done(direct, "as [run] asks");
    case SolverKind::Aggregation:
        return done(aggregation, "as asked");
    case SolverKind::GridMultigrid:
        return no_grid.empty() ? done(grid, "as [run] asks") : done(aggregation, "as [run] asks; " + no_grid);
    case SolverKind::Auto:
        break;
    }
    if (no_grid.empty()) {
        if (unknowns >= (solid ? grid_from_solid : grid_from_plane) || direct.bytes > options.memory)
            return done(grid, "a grid of this size");
        return done(direct, "quick at this size");
    }
    if (direct.bytes > options.memory || direct.seconds > 3.0 * aggregation.seconds)
        return done(aggregation, direct.bytes > options.memory ? "a factorisation would not fit into memory"
                                                               : "a factorisation would take longer");
    return done(direct, "it fits into memory");
}

std::vector<std::vector<std::size_t>> cases_by_supports(const Model& model) {
    std::vector<std::vector<std::size_t>> out;
    std::map<std::vector<std::size_t>, std::size_t> group_of;
    for (std::size_t c = 0; c < model.cases.size(); ++c) {
        std::vector<std::size_t> key = model.cases[c].supports;
        std::sort(key.begin(), key.end());
        const auto [at, fresh] = group_of.emplace(key, out.size());
        if (fresh) out.emplace_back();
        out[at->second].push_back(c);
    }
    return out;
}

std::vector<CasePlan> plan_cases(const Model& model, const SolverOptions& options) {
    std::vector<CasePlan> out;
    const ShapeClasses classes = shape_classes(model);
    for (std::vector<std::size_t>& cases : cases_by_supports(model)) {
        out.emplace_back();
        out.back().cases = std::move(cases);
    }
    for (CasePlan& group : out) {
        const Transform t = model.transform(model.cases[group.cases.front()]);
        group.solver =
            plan_solver(model, classes, t.unknowns(), group.cases.size() + (t.moves() ? 1 : 0), options);
    }
    return out;
}

Error no_room(const Model& model, const SolverPlan& plan, double memory) {
    const int dimension = model.mesh.shell() ? 2 : model.mesh.dimension();
    const double larger = model.mesh.size * std::pow(plan.bytes / (0.9 * memory), 1.0 / dimension);
    return Error::numerics(
        fmt::format("{} of {} unknowns needs about {:.3g} GB and [run] memory allows {:.3g} GB",
                    text(plan.kind), plan.unknowns, plan.bytes / 1e9, memory / 1e9),
        fmt::format(
            "Elements of {:.3g} {} or larger would fit: write that size in [mesh], use a symmetry plane, or "
            "raise memory if the machine has it",
            larger, model.units.length));
}

NearKernel near_kernel(const Model& model, const Transform& transform) {
    NearKernel out;
    const auto n = static_cast<Eigen::Index>(transform.unknowns());
    const bool plane = model.mesh.dimension() == 2;
    out.node_of.assign(transform.unknowns(), 0);
    out.motions = Eigen::MatrixXd::Zero(n, plane ? 3 : 6);
    const Vec3 center = 0.5 * (model.mesh.bounds.low + model.mesh.bounds.high);
    const double length = std::max(model.mesh.bounds.diagonal(), 1e-300);
    const auto per = static_cast<std::size_t>(model.mesh.freedoms());
    const auto each = static_cast<std::size_t>(model.reference_freedoms());
    // Nodes without any unknown have no number: aggregates count on every node to have one.
    std::vector<std::int32_t> number(model.mesh.nodes.size() + model.couplings.size(), -1);
    std::int32_t next = 0;
    for (std::size_t f = 0; f < model.freedoms(); ++f) {
        if (transform.dependent(f)) continue;
        const std::int32_t u = transform.unknown_of(f);
        const std::size_t node = f < model.node_freedoms()
                                     ? f / per
                                     : model.mesh.nodes.size() + (f - model.node_freedoms()) / each;
        if (number[node] < 0) number[node] = next++;
        out.node_of[static_cast<std::size_t>(u)] = number[node];
        const Model::Spot spot = model.spot(f);
        const Vec3 at = (spot.at - center) / length;
        const int translations = plane ? 2 : 3;
        for (int m = 0; m < translations; ++m)
            if (spot.component == m) out.motions(u, m) = 1.0;
        for (int axis = plane ? 2 : 0; axis < 3; ++axis) {
            const Eigen::Index column = plane ? 2 : 3 + axis;
            out.motions(u, column) = spot.component < 3           ? Vec3::Unit(axis).cross(at)[spot.component]
                                     : spot.component - 3 == axis ? 1.0 / length
                                                                  : 0.0;
        }
    }
    return out;
}

ConstrainedSolver::ConstrainedSolver(const Model& model, const Transform& transform,
                                     const ShapeClasses& classes,
                                     std::vector<const Eigen::MatrixXd*> stiffness, std::size_t right_sides,
                                     const SolverOptions& options)
    : model_(model), transform_(transform), classes_(classes), stiffness_(std::move(stiffness)),
      options_(options) {
    plan_ = plan_solver(model, classes, transform.unknowns(), right_sides, options);
    // That of a factorisation is guessed; its symbolic analysis will tell.
    if (!plan_.fits && plan_.kind != SolverKind::Direct) throw no_room(model, plan_, options.memory);
    for (const ModelJoint& joint : model.joints) joints_.add(transform, joint.freedoms, joint.matrix);
    make(plan_.kind);
}

const ReducedSystem& ConstrainedSolver::elements() {
    if (elements_ == nullptr) {
        elements_ = std::make_unique<ReducedSystem>();
        add_elements(*elements_, model_, transform_, classes_, stiffness_);
        elements_->append(joints_);
    }
    return *elements_;
}

void ConstrainedSolver::make(SolverKind kind) {
    solver_.reset();
    if (kind == SolverKind::GridMultigrid) {
        grid_ = std::make_unique<GridSystem>(make_grid_system(model_, transform_, classes_, stiffness_));
        grid_->extra = joints_.system();
        const std::string unfit = unfit_for_multigrid(*grid_);
        if (unfit.empty()) {
            solver_ = make_grid_solver(*grid_, options_);
            made_ = kind;
            return;
        }
        notes_.push_back("the grid multigrid does not serve this model: " + unfit);
        grid_.reset();
        kind = direct_bytes(static_cast<double>(transform_.unknowns()), model_.mesh.dimension() == 3) <
                       options_.memory
                   ? SolverKind::Direct
                   : SolverKind::Aggregation;
    }
    made_ = kind;
    if (kind == SolverKind::Direct) {
        try {
            solver_ = make_direct_solver(elements().system(), options_);
            return;
        } catch (const Error& no_room) {
            if (options_.kind == SolverKind::Direct || no_room.code() != ExitCode::Numerics) throw;
            notes_.push_back(std::string(no_room.what()) + " Aggregation multigrid serves instead.");
            made_ = SolverKind::Aggregation;
        }
    }
    const ReducedSystem& all = elements();
    solver_ = make_aggregation_solver(all.system(), near_kernel(model_, transform_), options_);
}

void ConstrainedSolver::update(const std::vector<double>& share) {
    copy_by_blocks(share, share_);
    // Joints keep their stiffness.
    if (made_ != SolverKind::GridMultigrid) share_.resize(share.size() + model_.joints.size(), 1.0);
    solver_->update(share_);
}

Eigen::MatrixXd ConstrainedSolver::solve(const Eigen::MatrixXd& loads, const SolveWish& wish) {
    while (true) {
        try {
            return solver_->solve(loads, wish);
        } catch (const NoConvergence& failed) {
            const auto n = static_cast<double>(transform_.unknowns());
            const bool room =
                direct_bytes(n, model_.mesh.dimension() == 3 && !model_.mesh.shell()) < options_.memory;
            if (made_ == SolverKind::Direct || (made_ == SolverKind::Aggregation && !room)) throw;
            const SolverKind next = room ? SolverKind::Direct : SolverKind::Aggregation;
            notes_.push_back(fmt::format("{} {} takes over.", failed.what(), text(next)));
            const std::vector<double> share(
                share_.begin(), share_.begin() + static_cast<std::ptrdiff_t>(model_.mesh.elements()));
            make(next);
            update(share);
        }
    }
}

std::vector<std::string> ConstrainedSolver::take_notes() {
    std::vector<std::string> out;
    out.swap(notes_);
    return out;
}

} // namespace upright
