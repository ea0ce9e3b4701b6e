#include "fem/modal_analysis.hpp"

#include "fem/elasticity.hpp"
#include "fem/element.hpp"
#include "model/rigid_freedom.hpp"
#include "solve/grid_solver.hpp"
#include "solve/lobpcg.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <chrono>
#include <cmath>
#include <deque>
#include <fmt/format.h>

namespace upright {

namespace {

constexpr double pi = 3.14159265358979323846;
// The shift for bodies that float: this share of the largest eigenvalue. Modes far below it are rigid.
constexpr double shift_share = 1e-9;

} // namespace

ModalAnalysis::ModalAnalysis(const Model& model, const SolverOptions& options)
    : model_(model), options_(options), classes_(shape_classes(model)) {
    const Mesh& mesh = model.mesh;
    for (const ElementId id : classes_.example) {
        const Element& element = element_for(mesh.kind(id));
        const Eigen::MatrixXd places = places_of(mesh, id);
        stiffness_.push_back(
            element.stiffness(places, elasticity(model, id), mesh.depth(id), model.formulation));
        mass_.push_back(model.material(id).density * element.mass(places, mesh.depth(id)));
        lumped_.push_back(lumped(mass_.back(), mesh.freedoms()));
    }
}

Eigen::VectorXd ModalAnalysis::mass_times(const Eigen::VectorXd& u, const std::vector<double>& density,
                                          bool lumped_mass) const {
    Eigen::VectorXd out = Eigen::VectorXd::Zero(u.size());
    const int per = model_.mesh.freedoms();
    for (std::size_t e = 0; e < model_.mesh.elements(); ++e) {
        const Eigen::MatrixXd& M = lumped_mass ? lumped_[classes_.of[e]] : mass_[classes_.of[e]];
        const NodeRange ids = model_.mesh.nodes_of(static_cast<ElementId>(e));
        Eigen::VectorXd local(M.rows());
        for (std::size_t i = 0; i < ids.size(); ++i)
            local.segment(static_cast<Eigen::Index>(i) * per, per) =
                u.segment(static_cast<Eigen::Index>(model_.freedom(ids[i], 0)), per);
        const Eigen::VectorXd f = density[e] * (M * local);
        for (std::size_t i = 0; i < ids.size(); ++i)
            out.segment(static_cast<Eigen::Index>(model_.freedom(ids[i], 0)), per) +=
                f.segment(static_cast<Eigen::Index>(i) * per, per);
    }
    for (const ModelMass& m : model_.masses)
        for (const Term& t : m.diagonal)
            out[static_cast<Eigen::Index>(t.freedom)] += t.factor * u[static_cast<Eigen::Index>(t.freedom)];
    return out;
}

ModalAnalysis::Found ModalAnalysis::by_lanczos(const ModelModalCase& c, const Transform& t, int free_motions,
                                               const std::vector<double>& stiffness,
                                               const std::vector<double>& density) const {
    // K, and M beside it: one solver system with a scale for each of the two.
    Found out;
    ReducedSystem K;
    ReducedSystem M;
    double largest = 0.0;
    for (std::size_t e = 0; e < model_.mesh.elements(); ++e) {
        const std::vector<std::size_t> freedoms = model_.freedoms_of(static_cast<ElementId>(e));
        const Eigen::MatrixXd& mass = c.lumped ? lumped_[classes_.of[e]] : mass_[classes_.of[e]];
        const Eigen::MatrixXd& stiff = stiffness_[classes_.of[e]];
        K.add(t, freedoms, stiff);
        M.add(t, freedoms, mass);
        for (Eigen::Index i = 0; i < mass.rows(); ++i)
            if (mass(i, i) > 0.0) largest = std::max(largest, stiff(i, i) / mass(i, i));
    }
    for (const ModelJoint& joint : model_.joints) K.add(t, joint.freedoms, joint.matrix);
    std::vector<double> scale_K = stiffness;
    scale_K.resize(K.system().elements(), 1.0);
    std::vector<double> scale_M = density;
    std::deque<Eigen::MatrixXd> points;
    for (const ModelMass& m : model_.masses)
        for (const Term& term : m.diagonal) {
            points.push_back(Eigen::MatrixXd::Constant(1, 1, term.factor));
            M.add(t, {term.freedom}, points.back());
            scale_M.push_back(1.0);
        }
    EigenProblem problem;
    problem.mass = M.assembled(scale_M);
    problem.shift = free_motions > 0 ? shift_share * largest : 0.0;
    if (problem.shift > 0.0) {
        // The system is K's, with M's elements after them.
        for (std::size_t e = 0; e < M.system().elements(); ++e) scale_K.push_back(problem.shift * scale_M[e]);
        K.append(M);
    }
    const std::unique_ptr<LinearSolver> solver = make_direct_solver(K.system(), options_);
    solver->update(scale_K);
    problem.inverse = [&](const Eigen::MatrixXd& f) { return solver->solve(f); };
    EigenWish wish;
    wish.count = c.up_to > 0.0 ? free_motions + 1 : free_motions + c.modes;
    const double circular = 2.0 * pi * c.up_to;
    wish.up_to = circular * circular;
    out.pairs = lowest_modes(problem, wish);
    out.method = "block Lanczos on sparse Cholesky";
    out.rigid_below = 1e-2 * problem.shift;
    return out;
}

ModalAnalysis::Found ModalAnalysis::by_multigrid(const ModelModalCase& c, const Transform& t,
                                                 int free_motions, SolverKind kind,
                                                 const std::vector<double>& stiffness,
                                                 const std::vector<double>& density) const {
    const int threads = threads_of(options_);
    ReducedSystem joints;
    ReducedSystem points;
    std::deque<Eigen::MatrixXd> point_masses;
    for (const ModelJoint& joint : model_.joints) joints.add(t, joint.freedoms, joint.matrix);
    for (const ModelMass& m : model_.masses)
        for (const Term& term : m.diagonal) {
            point_masses.push_back(Eigen::MatrixXd::Constant(1, 1, term.factor));
            points.add(t, {term.freedom}, point_masses.back());
        }
    std::vector<const Eigen::MatrixXd*> K_of;
    std::vector<const Eigen::MatrixXd*> M_of;
    for (std::size_t k = 0; k < stiffness_.size(); ++k) {
        K_of.push_back(&stiffness_[k]);
        M_of.push_back(c.lumped ? &lumped_[k] : &mass_[k]);
    }
    // Either both live on the lattice, or both are assembled.
    GridSystem K_grid;
    GridSystem M_grid;
    std::unique_ptr<GridOperator> on_grid;
    std::unique_ptr<GridOperator> mass_on_grid;
    ReducedSystem K_elements;
    std::unique_ptr<AggregationOperator> aggregated;
    Eigen::SparseMatrix<double> mass;
    IterativeSystem* K = nullptr;
    if (kind == SolverKind::GridMultigrid) {
        K_grid = make_grid_system(model_, t, classes_, K_of);
        K_grid.extra = joints.system();
        M_grid = make_grid_system(model_, t, classes_, M_of);
        M_grid.extra = points.system();
        if (const std::string unfit = unfit_for_multigrid(K_grid); !unfit.empty())
            throw NoConvergence("the grid multigrid does not serve this model: " + unfit);
        grid::MultigridOptions options;
        options.threads = threads;
        on_grid = std::make_unique<GridOperator>(K_grid, options);
        mass_on_grid = std::make_unique<GridOperator>(M_grid, options);
        on_grid->update(stiffness);
        mass_on_grid->update_product(density);
        K = on_grid.get();
    } else {
        ReducedSystem M_elements;
        for (std::size_t e = 0; e < model_.mesh.elements(); ++e) {
            const std::vector<std::size_t> freedoms = model_.freedoms_of(static_cast<ElementId>(e));
            K_elements.add(t, freedoms, *K_of[classes_.of[e]]);
            M_elements.add(t, freedoms, *M_of[classes_.of[e]]);
        }
        K_elements.append(joints);
        M_elements.append(points);
        std::vector<double> scale_M = density;
        scale_M.resize(M_elements.system().elements(), 1.0);
        mass = M_elements.assembled(scale_M);
        std::vector<double> scale_K = stiffness;
        scale_K.resize(K_elements.system().elements(), 1.0);
        aggregated =
            std::make_unique<AggregationOperator>(K_elements.system(), near_kernel(model_, t), threads);
        aggregated->update(scale_K);
        K = aggregated.get();
    }
    const auto n = static_cast<Eigen::Index>(K->length());
    const auto u = static_cast<Eigen::Index>(t.unknowns());
    IterativeEigenProblem problem;
    problem.length = n;
    problem.stiffness = [&](Eigen::MatrixXd& v, Eigen::MatrixXd& out) {
        for (Eigen::Index i = 0; i < v.cols(); ++i) K->multiply(v.col(i).data(), out.col(i).data());
    };
    problem.mass = [&](Eigen::MatrixXd& v, Eigen::MatrixXd& out) {
        if (mass_on_grid == nullptr) {
            out = mass * v;
            return;
        }
        for (Eigen::Index i = 0; i < v.cols(); ++i)
            mass_on_grid->multiply(v.col(i).data(), out.col(i).data());
    };
    problem.precondition = [&](const Eigen::MatrixXd& r, Eigen::MatrixXd& out) {
        for (Eigen::Index first = 0; first < r.cols(); first += grid::most_together) {
            std::array<const double*, grid::most_together> from{};
            std::array<double*, grid::most_together> to{};
            const Eigen::Index many = std::min<Eigen::Index>(grid::most_together, r.cols() - first);
            for (Eigen::Index i = 0; i < many; ++i) {
                from[static_cast<std::size_t>(i)] = r.col(first + i).data();
                to[static_cast<std::size_t>(i)] = out.col(first + i).data();
            }
            K->precondition(from.data(), to.data(), static_cast<int>(many));
        }
    };
    if (free_motions > 0) {
        // Of the body's rigid motions those that cost no energy under the supports.
        const Eigen::MatrixXd motions = near_kernel(model_, t).motions;
        Eigen::MatrixXd all = Eigen::MatrixXd::Zero(n, motions.cols());
        for (Eigen::Index m = 0; m < motions.cols(); ++m) {
            const Eigen::VectorXd own = motions.col(m);
            if (on_grid != nullptr)
                on_grid->spread_values(own.data(), all.col(m).data());
            else
                all.col(m) = own;
        }
        Eigen::MatrixXd K_all = Eigen::MatrixXd::Zero(n, motions.cols());
        problem.stiffness(all, K_all);
        Eigen::MatrixXd energy = all.transpose() * K_all;
        energy = 0.5 * (energy + energy.transpose()).eval();
        const Eigen::SelfAdjointEigenSolver<Eigen::MatrixXd> eigen(energy);
        // Their energy against the stiffness of the elements that a support would put in their way.
        std::vector<Eigen::Index> free;
        double largest = 0.0;
        for (std::size_t e = 0; e < model_.mesh.elements(); ++e)
            largest = std::max(largest, stiffness[e] * K_of[classes_.of[e]]->diagonal().maxCoeff());
        for (Eigen::Index m = 0; m < motions.cols(); ++m)
            if (eigen.eigenvalues()[m] < 1e-5 * largest) free.push_back(m);
        if (static_cast<int>(free.size()) != free_motions)
            throw NoConvergence(
                "the body has free motions of its parts, which the eigensolver on multigrid does "
                "not serve");
        problem.rigid = all * eigen.eigenvectors()(Eigen::all, free);
    }
    EigenWish wish;
    wish.count = c.up_to > 0.0 ? 6 : c.modes;
    const double circular = 2.0 * pi * c.up_to;
    wish.up_to = circular * circular;
    wish.tolerance = eigen_tolerance;
    const EigenPairs elastic = lowest_modes_iterative(problem, wish);
    // Rigid ones first, as the factorisation finds them.
    Found out;
    const Eigen::Index rigid = problem.rigid.cols();
    Eigen::Index count = elastic.values.size();
    if (c.up_to > 0.0)
        while (count > 0 && elastic.values[count - 1] > wish.up_to) --count;
    out.pairs.steps = elastic.steps;
    out.pairs.values = Eigen::VectorXd::Zero(rigid + count);
    out.pairs.values.tail(count) = elastic.values.head(count);
    out.pairs.vectors.resize(u, rigid + count);
    Eigen::MatrixXd rigid_mass = Eigen::MatrixXd::Zero(n, rigid);
    if (rigid > 0) {
        problem.mass(problem.rigid, rigid_mass);
        const Eigen::LLT<Eigen::MatrixXd> factor(problem.rigid.transpose() * rigid_mass);
        // Of unit mass and orthogonal: R^-T from the right.
        const Eigen::MatrixXd turned = factor.matrixL().solve(problem.rigid.transpose()).transpose();
        problem.rigid = turned;
    }
    for (Eigen::Index i = 0; i < rigid + count; ++i) {
        const double* from = i < rigid ? problem.rigid.col(i).data() : elastic.vectors.col(i - rigid).data();
        if (on_grid != nullptr)
            on_grid->collect(from, out.pairs.vectors.col(i).data());
        else
            std::copy_n(from, u, out.pairs.vectors.col(i).data());
    }
    out.method = fmt::format("block eigensolver on {}", text(kind));
    out.rigid_below = rigid > 0 ? 1e-300 : 0.0;
    return out;
}

ModalResult ModalAnalysis::solve(const ModelModalCase& c, const std::vector<double>& stiffness,
                                 const std::vector<double>& density) const {
    const auto begin = std::chrono::steady_clock::now();
    ModelCase supports;
    supports.name = c.name;
    supports.supports = c.supports;
    const Transform t = model_.transform(supports);
    ModalResult out;
    out.unknowns = t.unknowns();
    if (t.unknowns() == 0)
        throw Error::numerics("the modal case \"" + c.name + "\" holds everything", "Hold less");
    for (const FreePart& part : free_motions(model_, &supports))
        out.free_motions += static_cast<int>(part.motions.size());

    const SolverPlan plan = plan_solver(model_, classes_, t.unknowns(), 8, options_);
    Found found;
    if (plan.kind != SolverKind::Direct) {
        try {
            found = by_multigrid(c, t, out.free_motions, plan.kind, stiffness, density);
        } catch (const NoConvergence& failed) {
            out.notes.push_back(std::string(failed.what()) + " A factorisation takes over.");
        }
    }
    if (found.method.empty()) found = by_lanczos(c, t, out.free_motions, stiffness, density);
    const EigenPairs& pairs = found.pairs;
    out.steps = pairs.steps;
    out.method = found.method;

    // Mass, its centre, and what rigid motions move.
    const auto n = static_cast<Eigen::Index>(model_.freedoms());
    std::array<Eigen::VectorXd, 6> motion;
    const auto fill = [&](int which) {
        Eigen::VectorXd& r = motion[static_cast<std::size_t>(which)];
        r = Eigen::VectorXd::Zero(n);
        for (std::size_t f = 0; f < model_.freedoms(); ++f) {
            const Model::Spot spot = model_.spot(f);
            const auto at = static_cast<Eigen::Index>(f);
            if (which < 3) {
                r[at] = spot.component == which ? 1.0 : 0.0;
            } else {
                const Vec3 axis = Vec3::Unit(which - 3);
                r[at] = spot.component < 3 ? axis.cross(spot.at - out.center)[spot.component]
                                           : (spot.component == which ? 1.0 : 0.0);
            }
        }
    };
    fill(0);
    const Eigen::VectorXd along_x = mass_times(motion[0], density, c.lumped);
    out.mass = motion[0].dot(along_x);
    for (std::size_t f = 0; f < model_.freedoms(); ++f) {
        const Model::Spot spot = model_.spot(f);
        if (spot.component == 0) out.center += along_x[static_cast<Eigen::Index>(f)] * spot.at / out.mass;
    }
    for (int a = 0; a < 6; ++a) {
        fill(a);
        Eigen::VectorXd& r = motion[static_cast<std::size_t>(a)];
        const Eigen::VectorXd f = mass_times(r, density, c.lumped);
        out.moved_mass[static_cast<std::size_t>(a)] = r.dot(f);
        r = f; // from here on the mass times the motion
    }

    for (Eigen::Index i = 0; i < pairs.values.size(); ++i) {
        Mode mode;
        const double lambda = pairs.values[i];
        mode.frequency = std::sqrt(std::max(lambda, 0.0)) / (2.0 * pi);
        mode.shape = t.expand(pairs.vectors.col(i), false);
        for (std::size_t a = 0; a < 6; ++a) mode.participation[a] = mode.shape.dot(motion[a]);
        const bool rigid =
            std::abs(lambda) < found.rigid_below && static_cast<int>(out.rigid.size()) < out.free_motions;
        if (rigid) {
            out.rigid.push_back(std::move(mode));
            continue;
        }
        if (!out.modes.empty()) {
            const Mode& before = out.modes.back();
            mode.cluster = before.cluster + (mode.frequency > before.frequency * (1.0 + 1e-4) ? 1 : 0);
        }
        out.modes.push_back(std::move(mode));
        if (c.up_to <= 0.0 && static_cast<int>(out.modes.size()) == c.modes) break;
    }
    out.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
    return out;
}

} // namespace upright
