#include "fem/constrained_solver.hpp"

#include "base/blocks.hpp"
#include "base/reduction.hpp"
#include "fem/case_groups.hpp"
#include "solve/lattice_solver.hpp"
#include "study/measure_word.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>

namespace upright {

namespace {

SolverFacts facts_of(const Model& model, const ShapeClasses& classes, std::size_t unknowns,
                     std::size_t right_sides) {
    const bool searched = std::any_of(model.responses.begin(), model.responses.end(),
                                      [](const ModelResponse& r) { return r.measure->buckles; });
    return {unknowns,
            right_sides,
            model.mesh.dimension() == 3 && !model.mesh.shell(),
            model.mesh.polar.given(),
            unfit_for_grid(model, classes),
            searched};
}

} // namespace

SolverOptions solver_options(const RunCard& run) {
    SolverOptions out;
    out.threads = run.threads;
    out.memory = run.memory;
    out.kind = solver_of_word(run.solver);
    return out;
}

SolverPlan plan_solver(const Model& model, const ShapeClasses& classes, std::size_t unknowns,
                       std::size_t right_sides, const SolverOptions& options) {
    return choose_solver(facts_of(model, classes, unknowns, right_sides), options);
}

std::vector<std::vector<CaseId>> cases_by_supports(const Model& model) {
    std::vector<std::vector<CaseId>> out;
    std::map<std::vector<SupportId>, std::size_t> group_of;
    for (const CaseId c : model.cases.ids()) {
        std::vector<SupportId> key = model.cases[c].supports;
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
    for (std::vector<CaseId>& cases : cases_by_supports(model)) {
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

UnknownPlaces unknown_places(const Model& model, const Transform& transform) {
    UnknownPlaces out;
    const Mesh& mesh = model.mesh;
    out.node_of.assign(transform.unknowns(), 0);
    out.component_of.assign(transform.unknowns(), 0);
    // A reference point has a node for its translations and one for its rotations.
    std::vector<std::int32_t> number(mesh.nodes.size() + 2 * model.couplings.size(), -1);
    const auto per = static_cast<std::size_t>(mesh.freedoms());
    const auto each = static_cast<std::size_t>(model.reference_freedoms());
    for (std::size_t f = 0; f < model.freedoms(); ++f) {
        if (transform.dependent(f)) continue;
        const auto u = static_cast<std::size_t>(transform.unknown_of(f));
        const Model::Spot spot = model.spot(f);
        const bool beyond = f >= model.node_freedoms();
        const std::size_t node = beyond ? mesh.nodes.size() + 2 * ((f - model.node_freedoms()) / each) +
                                              (spot.component >= 3 ? 1 : 0)
                                        : f / per;
        if (number[node] < 0) {
            number[node] = static_cast<std::int32_t>(out.places.size());
            out.places.push_back(spot.at);
            out.beyond.push_back(beyond ? 1 : 0);
        }
        out.node_of[u] = number[node];
        out.component_of[u] = static_cast<std::uint8_t>(spot.component % 3);
    }
    const auto edges_of = [&](std::size_t e) {
        const KindTraits& kind = traits(mesh.kinds[e]);
        const NodeRange ids = mesh.nodes_of(static_cast<ElementId>(e));
        const auto place = [&](int local) { return mesh.nodes[index(ids[static_cast<std::size_t>(local)])]; };
        double sum = 0.0;
        int count = 0;
        for (const std::vector<int>& side : kind.sides) {
            const auto corners = static_cast<std::size_t>(side_corners(side.size(), false));
            for (std::size_t i = 0; i < corners; ++i, ++count)
                sum += (place(side[i]) - place(side[(i + 1) % corners])).norm();
        }
        return (kind.nodes > kind.corners ? 0.5 : 1.0) * sum / count;
    };
    out.spacing = sum_over(mesh.elements(), edges_of) / static_cast<double>(mesh.elements());
    const bool second_order = std::any_of(mesh.kinds.begin(), mesh.kinds.end(), [](ElementKind kind) {
        return traits(kind).nodes > traits(kind).corners;
    });
    out.degree = second_order ? 3 : 2;
    return out;
}

ConstrainedSolver::ConstrainedSolver(const Model& model, const Transform& transform,
                                     const ShapeClasses& classes, const ClassMatrices& stiffness,
                                     std::size_t right_sides, const SolverOptions& options)
    : model_(model), transform_(transform), classes_(classes), stiffness_(stiffness), options_(options) {
    facts_ = facts_of(model, classes, transform.unknowns(), right_sides);
    plan_ = choose_solver(facts_, options);
    // That of a factorisation is guessed; its symbolic analysis will tell.
    if (!plan_.fits && plan_.kind != SolverKind::Direct) throw no_room(model, plan_, options.memory);
    for (const ModelJoint& joint : model.joints) joints_.add(transform, joint.freedoms, joint.matrix);
    make(plan_.kind);
}

const ElementSystem& ConstrainedSolver::elements() {
    if (elements_ == nullptr) {
        elements_ = std::make_unique<ReducedSystem>();
        add_elements(*elements_, model_, transform_, classes_, stiffness_);
        elements_->append(joints_);
    }
    return elements_->system();
}

UnknownPlaces ConstrainedSolver::unknown_places() {
    return upright::unknown_places(model_, transform_);
}

const GridSystem& ConstrainedSolver::grid() {
    grid_ = std::make_unique<GridSystem>(make_grid_system(model_, transform_, classes_, stiffness_));
    grid_->extra = joints_.system();
    return *grid_;
}

void ConstrainedSolver::make(SolverKind kind) {
    solver_.reset();
    made_ = kind;
    std::string unfit;
    try {
        solver_ = solver_entry(kind).make(*this, options_, unfit);
    } catch (const Error& no_room) {
        if (kind != SolverKind::Direct || options_.kind == SolverKind::Direct ||
            no_room.code() != ExitCode::Numerics)
            throw;
        const SolverKind other = stand_in(facts_, 0.0);
        std::string word = text(other);
        word[0] = static_cast<char>(std::toupper(static_cast<unsigned char>(word[0])));
        notes_.push_back(fmt::format("{} {} serves instead.", no_room.what(), word));
        return make(other);
    }
    if (solver_ != nullptr) return;
    notes_.push_back(std::string("the ") + text(kind) + " does not serve this model: " + unfit);
    grid_.reset();
    facts_.no_grid = unfit;
    SolverOptions free = options_;
    free.kind = SolverKind::Auto;
    make(choose_solver(facts_, free).kind);
}

void ConstrainedSolver::update(const std::vector<double>& share) {
    copy_by_blocks(share, share_);
    // Joints keep their stiffness.
    if (made_ != SolverKind::GridMultigrid) share_.resize(share.size() + model_.joints.size(), 1.0);
    solver_->update(share_);
}

void ConstrainedSolver::solve(const Loads& loads, const SolveWish& asked, Eigen::MatrixXd& answers) {
    SolveWish wish = asked;
    while (true) {
        try {
            return solver_->solve(loads, wish, answers);
        } catch (const NoConvergence& failed) {
            SolverKind next = stand_in(facts_, options_.memory);
            if (next == made_) next = SolverKind::Aggregation;
            if (made_ == SolverKind::Direct || made_ == next) throw;
            notes_.push_back(fmt::format("{} {} takes over.", failed.what(), text(next)));
            const std::vector<double> share(
                share_.begin(), share_.begin() + static_cast<std::ptrdiff_t>(model_.mesh.elements()));
            make(next);
            update(share);
            wish.warm = false; // nothing is left to start from
        }
    }
}

std::vector<std::string> ConstrainedSolver::take_notes() {
    std::vector<std::string> out;
    out.swap(notes_);
    return out;
}

} // namespace upright
