#include "fem/modal_analysis.hpp"

#include "base/angles.hpp"
#include "base/dense.hpp"
#include "base/reduction.hpp"
#include "fem/elasticity.hpp"
#include "fem/element.hpp"
#include "model/rigid_freedom.hpp"
#include "solve/grid_solver.hpp"
#include "solve/lattice_solver.hpp"
#include "solve/lobpcg.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <chrono>
#include <cmath>
#include <deque>
#include <fmt/format.h>
#include <functional>

namespace upright {

namespace {

// The shift for bodies that float: this share of the largest eigenvalue. Modes far below it are rigid.
constexpr double shift_share = 1e-9;

} // namespace

ModalAnalysis::ModalAnalysis(const Model& model, const SolverOptions& options)
    : model_(model), options_(options), classes_(shape_classes(model)) {
    const auto make = [&](ClassMatrices::What what) {
        return std::make_unique<ClassMatrices>(model, classes_, what);
    };
    stiffness_ = make(ClassMatrices::What::Stiffness);
    mass_ = make(ClassMatrices::What::Mass);
    lumped_ = make(ClassMatrices::What::LumpedMass);
}

Eigen::VectorXd ModalAnalysis::mass_times(const Eigen::VectorXd& u, const std::vector<double>& density,
                                          bool lumped_mass) const {
    Eigen::VectorXd out = Eigen::VectorXd::Zero(u.size());
    const int per = model_.mesh.freedoms();
    Eigen::MatrixXd room;
    for (std::size_t e = 0; e < model_.mesh.elements(); ++e) {
        const Eigen::MatrixXd& M = mass(lumped_mass).of(classes_.of[e], room);
        const NodeRange ids = model_.mesh.nodes_of(static_cast<ElementId>(e));
        Eigen::VectorXd local(M.rows());
        for (std::size_t i = 0; i < ids.size(); ++i)
            local.segment(static_cast<Eigen::Index>(i) * per, per) =
                u.segment(static_cast<Eigen::Index>(model_.freedom(ids[i], 0)), per);
        classes_.to_class(static_cast<ElementId>(e), local);
        Eigen::VectorXd f = density[e] * (M * local);
        classes_.from_class(static_cast<ElementId>(e), f);
        for (std::size_t i = 0; i < ids.size(); ++i)
            out.segment(static_cast<Eigen::Index>(model_.freedom(ids[i], 0)), per) +=
                f.segment(static_cast<Eigen::Index>(i) * per, per);
    }
    for (const ModelMass& m : model_.masses)
        for (const Term& t : m.diagonal)
            out[static_cast<Eigen::Index>(t.freedom)] += t.factor * u[static_cast<Eigen::Index>(t.freedom)];
    return out;
}

// The sums of stiffness, and of mass with what rides on the model, and a solver for one with the other.
struct ModalAnalysis::Factored {
    ReducedSystem K, M;
    std::deque<Eigen::MatrixXd> points; // masses on single freedoms
    double shift = 0.0;
    std::unique_ptr<LinearSolver> solver;
};

// Either both live on the lattice, or both are assembled.
struct ModalAnalysis::Iterated {
    SolverKind kind = SolverKind::Aggregation;
    ReducedSystem joints, points;
    std::deque<Eigen::MatrixXd> point_masses;
    GridSystem K_grid, M_grid;
    std::unique_ptr<GridOperator> on_grid, mass_on_grid;
    ReducedSystem K_elements, M_elements;
    std::unique_ptr<AggregationOperator> aggregated;
    std::unique_ptr<LatticeOperator> on_lattice;
    SparseMatrix mass;
    IterativeSystem* K = nullptr;
    // Values of the unknowns to the multigrid's own numbering, and back.
    std::function<void(const double*, double*)> spread, collect;
};

struct ModalAnalysis::Kept {
    explicit Kept(Transform t) : transform(std::move(t)) {}
    Transform transform;
    int free_motions = 0;
    SolverPlan plan;
    std::unique_ptr<Factored> factored;
    std::unique_ptr<Iterated> iterated;
    bool fell_back = false; // the multigrid did not converge once
    Eigen::MatrixXd last;   // elastic shapes of the last solve, in the multigrid's own numbering
};

ModalAnalysis::~ModalAnalysis() = default;

ModalAnalysis::Kept& ModalAnalysis::kept(const ModelModalCase& c) {
    std::unique_ptr<Kept>& slot = kept_[c.name];
    if (slot == nullptr) {
        ModelCase held;
        held.name = c.name;
        held.supports = c.supports;
        slot = std::make_unique<Kept>(model_.transform(held));
        if (slot->transform.unknowns() == 0)
            throw Error::numerics("the modal case \"" + c.name + "\" holds everything", "Hold less");
        for (const FreePart& part : free_motions(model_, &held))
            slot->free_motions += static_cast<int>(part.motions.size());
        slot->plan = plan_solver(model_, classes_, slot->transform.unknowns(), 8, options_);
    }
    return *slot;
}

ModalAnalysis::Found ModalAnalysis::by_lanczos(const ModelModalCase& c, Kept& k,
                                               const std::vector<double>& stiffness,
                                               const std::vector<double>& density) const {
    const Transform& t = k.transform;
    if (k.factored == nullptr) {
        // K, and M beside it: one solver system with a scale for each of the two.
        k.factored = std::make_unique<Factored>();
        Factored& f = *k.factored;
        double largest = 0.0;
        add_elements(f.K, model_, t, classes_, *stiffness_);
        add_elements(f.M, model_, t, classes_, mass(c.lumped));
        Eigen::MatrixXd K_room;
        Eigen::MatrixXd M_room;
        for (std::size_t m = 0; m < stiffness_->size() && k.free_motions > 0; ++m) {
            const Eigen::MatrixXd& K = stiffness_->of(m, K_room);
            const Eigen::MatrixXd& M = mass(c.lumped).of(m, M_room);
            for (Eigen::Index i = 0; i < M.rows(); ++i)
                if (M(i, i) > 0.0) largest = std::max(largest, K(i, i) / M(i, i));
        }
        for (const ModelJoint& joint : model_.joints) f.K.add(t, joint.freedoms, joint.matrix);
        for (const ModelMass& m : model_.masses)
            for (const Term& term : m.diagonal) {
                f.points.push_back(Eigen::MatrixXd::Constant(1, 1, term.factor));
                f.M.add(t, {term.freedom}, f.points.back());
            }
        f.shift = k.free_motions > 0 ? shift_share * largest : 0.0;
        if (f.shift > 0.0) f.K.append(f.M); // the system is K's, with M's elements after them
        f.solver = make_direct_solver(f.K.system(), options_);
    }
    Factored& f = *k.factored;
    std::vector<double> scale_M = density;
    scale_M.resize(f.M.system().elements(), 1.0);
    const std::size_t own = f.K.system().elements() - (f.shift > 0.0 ? f.M.system().elements() : 0);
    std::vector<double> scale_K = stiffness;
    scale_K.resize(own, 1.0);
    if (f.shift > 0.0)
        for (const double m : scale_M) scale_K.push_back(f.shift * m);
    EigenProblem problem;
    problem.mass = f.M.assembled(scale_M);
    problem.shift = f.shift;
    f.solver->update(scale_K);
    problem.inverse = [&](const Eigen::MatrixXd& b) { return f.solver->solve(b); };
    EigenWish wish;
    wish.count = c.up_to > 0.0 ? k.free_motions + 1 : k.free_motions + c.modes;
    const double circular = 2.0 * pi * c.up_to;
    wish.up_to = circular * circular;
    Found out;
    out.pairs = lowest_modes(problem, wish);
    out.method = "block Lanczos on sparse Cholesky";
    out.rigid_below = 1e-2 * problem.shift;
    return out;
}

namespace {

// out = m v for a symmetric matrix, whose columns are its rows.
void symmetric_times(const SparseMatrix& m, const Eigen::MatrixXd& v, Eigen::MatrixXd& out, int threads) {
    out.resize(v.rows(), v.cols());
    constexpr Eigen::Index together = 4;
#pragma omp parallel for num_threads(threads) schedule(static)
    for (Eigen::Index r = 0; r < m.outerSize(); ++r)
        for (Eigen::Index first = 0; first < v.cols(); first += together) {
            const Eigen::Index many = std::min<Eigen::Index>(together, v.cols() - first);
            std::array<const double*, together> columns{};
            std::array<double, together> sums{};
            for (Eigen::Index i = 0; i < together; ++i)
                columns[static_cast<std::size_t>(i)] = v.col(first + std::min(i, many - 1)).data();
            for (SparseMatrix::InnerIterator entry(m, r); entry; ++entry)
                for (std::size_t i = 0; i < together; ++i)
                    sums[i] += entry.value() * columns[i][entry.index()];
            for (Eigen::Index i = 0; i < many; ++i) out(r, first + i) = sums[static_cast<std::size_t>(i)];
        }
}

static_assert(grid::most_together <= static_cast<int>(lattices::most_vectors));

// Columns of any size, as many at once as the system takes.
void precondition(IterativeSystem& system, const Eigen::MatrixXd& r, Eigen::MatrixXd& out) {
    const auto n = static_cast<std::size_t>(r.rows());
    std::vector<Strip<float>> storage;
    std::array<float*, grid::most_together> from{};
    std::array<float*, grid::most_together> to{};
    std::array<double, grid::most_together> size{};
    for (auto& pointers : {&from, &to})
        for (float*& pointer : *pointers) {
            storage.emplace_back(n);
            pointer = storage.back().data();
        }
    for (Eigen::Index first = 0; first < r.cols(); first += grid::most_together) {
        const auto many =
            static_cast<std::size_t>(std::min<Eigen::Index>(grid::most_together, r.cols() - first));
        for (std::size_t i = 0; i < many; ++i) {
            const double* column = r.col(first + static_cast<Eigen::Index>(i)).data();
            const double most = largest_over(
                n, 0.0, [&](std::size_t k) { return std::abs(column[k]); }, system.threads());
            size[i] = most > 0.0 ? most : 1.0;
            const double by = 1.0 / size[i];
            float* load = from[i];
#pragma omp parallel for simd num_threads(system.threads()) schedule(static)
            for (std::size_t k = 0; k < n; ++k) load[k] = static_cast<float>(by * column[k]);
        }
        system.precondition(from.data(), to.data(), static_cast<int>(many));
        for (std::size_t i = 0; i < many; ++i) {
            double* column = out.col(first + static_cast<Eigen::Index>(i)).data();
            const float* answer = to[i];
            const double by = size[i];
#pragma omp parallel for simd num_threads(system.threads()) schedule(static)
            for (std::size_t k = 0; k < n; ++k) column[k] = by * static_cast<double>(answer[k]);
        }
    }
}

} // namespace

ModalAnalysis::Found ModalAnalysis::by_multigrid(const ModelModalCase& c, Kept& k, SolverKind kind,
                                                 const std::vector<double>& stiffness,
                                                 const std::vector<double>& density,
                                                 const ModalAccuracy& accuracy) const {
    const int threads = threads_of(options_);
    const Transform& t = k.transform;
    if (k.iterated == nullptr) {
        auto fresh = std::make_unique<Iterated>();
        Iterated& it = *fresh;
        it.kind = kind;
        for (const ModelJoint& joint : model_.joints) it.joints.add(t, joint.freedoms, joint.matrix);
        for (const ModelMass& m : model_.masses)
            for (const Term& term : m.diagonal) {
                it.point_masses.push_back(Eigen::MatrixXd::Constant(1, 1, term.factor));
                it.points.add(t, {term.freedom}, it.point_masses.back());
            }
        if (kind == SolverKind::GridMultigrid) {
            it.K_grid = make_grid_system(model_, t, classes_, *stiffness_);
            it.K_grid.extra = it.joints.system();
            it.M_grid = make_grid_system(model_, t, classes_, mass(c.lumped));
            it.M_grid.extra = it.points.system();
            if (const std::string unfit = unfit_for_multigrid(it.K_grid); !unfit.empty())
                throw NoConvergence("the grid multigrid does not serve this model: " + unfit);
            grid::MultigridOptions options;
            options.threads = threads;
            options.memory = options_.memory;
            it.on_grid = std::make_unique<GridOperator>(it.K_grid, options);
            it.mass_on_grid = std::make_unique<GridOperator>(it.M_grid, options);
            it.K = it.on_grid.get();
            it.spread = [&it](const double* from, double* to) { it.on_grid->spread_values(from, to); };
            it.collect = [&it](const double* from, double* to) { it.on_grid->collect(from, to); };
        } else {
            add_elements(it.K_elements, model_, t, classes_, *stiffness_);
            add_elements(it.M_elements, model_, t, classes_, mass(c.lumped));
            it.K_elements.append(it.joints);
            it.M_elements.append(it.points);
            if (kind == SolverKind::LatticeMultigrid) {
                it.on_lattice = std::make_unique<LatticeOperator>(it.K_elements.system(),
                                                                  unknown_places(model_, t), threads);
                it.K = it.on_lattice.get();
                it.spread = [&it](const double* from, double* to) { it.on_lattice->spread(from, to); };
                it.collect = [&it](const double* from, double* to) { it.on_lattice->collect(from, to); };
            } else {
                it.aggregated = std::make_unique<AggregationOperator>(it.K_elements.system(),
                                                                      near_kernel(model_, t), threads);
                it.K = it.aggregated.get();
                it.spread = it.collect = [many = t.unknowns()](const double* from, double* to) {
                    std::copy_n(from, many, to);
                };
            }
        }
        k.iterated = std::move(fresh);
    }
    Iterated& it = *k.iterated;
    if (it.on_grid != nullptr) {
        it.on_grid->update(stiffness);
        it.mass_on_grid->update_product(density);
    } else {
        std::vector<double> scale_M = density;
        scale_M.resize(it.M_elements.system().elements(), 1.0);
        it.mass = it.M_elements.assembled(scale_M);
        std::vector<double> scale_K = stiffness;
        scale_K.resize(it.K_elements.system().elements(), 1.0);
        if (it.on_lattice != nullptr)
            it.on_lattice->update(scale_K);
        else
            it.aggregated->update(scale_K);
    }
    const auto n = static_cast<Eigen::Index>(it.K->length());
    const auto u = static_cast<Eigen::Index>(t.unknowns());
    IterativeEigenProblem problem;
    problem.length = n;
    problem.stiffness = [&](Eigen::MatrixXd& v, Eigen::MatrixXd& out) {
        for (Eigen::Index i = 0; i < v.cols(); ++i) it.K->multiply(v.col(i).data(), out.col(i).data());
    };
    problem.mass = [&](Eigen::MatrixXd& v, Eigen::MatrixXd& out) {
        if (it.mass_on_grid == nullptr) {
            Eigen::MatrixXd own(u, v.cols());
            Eigen::MatrixXd force(u, v.cols());
            for (Eigen::Index i = 0; i < v.cols(); ++i) it.collect(v.col(i).data(), own.col(i).data());
            symmetric_times(it.mass, own, force, threads);
            for (Eigen::Index i = 0; i < v.cols(); ++i) it.spread(force.col(i).data(), out.col(i).data());
            return;
        }
        for (Eigen::Index i = 0; i < v.cols(); ++i)
            it.mass_on_grid->multiply(v.col(i).data(), out.col(i).data());
    };
    int asked = 0;
    problem.precondition = [&](const Eigen::MatrixXd& r, Eigen::MatrixXd& out) {
        constexpr int patience = 30; // steps, after which as many are expected still to come
        if (++asked == patience) it.K->strengthen(static_cast<double>(patience * r.cols()));
        precondition(*it.K, r, out);
    };
    if (k.free_motions > 0) {
        // Of the body's rigid motions those that cost no energy under the supports.
        const Eigen::MatrixXd motions = near_kernel(model_, t).motions;
        Eigen::MatrixXd all = Eigen::MatrixXd::Zero(n, motions.cols());
        for (Eigen::Index m = 0; m < motions.cols(); ++m) {
            const Eigen::VectorXd own = motions.col(m);
            it.spread(own.data(), all.col(m).data());
        }
        Eigen::MatrixXd K_all = Eigen::MatrixXd::Zero(n, motions.cols());
        problem.stiffness(all, K_all);
        Eigen::MatrixXd energy = all.transpose() * K_all;
        energy = 0.5 * (energy + energy.transpose()).eval();
        const SymmetricEigen eigen = symmetric_eigen(energy);
        // Their energy against the stiffness of the elements that a support would put in their way.
        std::vector<Eigen::Index> free;
        const double largest = largest_over(model_.mesh.elements(), 0.0, [&](std::size_t e) {
            Eigen::MatrixXd room;
            return stiffness[e] * stiffness_->of(classes_.of[e], room).diagonal().maxCoeff();
        });
        for (Eigen::Index m = 0; m < motions.cols(); ++m)
            if (eigen.values[m] < 1e-5 * largest) free.push_back(m);
        if (static_cast<int>(free.size()) != k.free_motions)
            throw NoConvergence(
                "the body has free motions of its parts, which the eigensolver on multigrid does "
                "not serve");
        problem.rigid = all * eigen.vectors(Eigen::all, free);
    }
    if (accuracy.warm && k.last.rows() == n) problem.start = k.last;
    EigenWish wish;
    wish.count = c.up_to > 0.0 ? 6 : c.modes;
    const double circular = 2.0 * pi * c.up_to;
    wish.up_to = circular * circular;
    wish.tolerance = accuracy.tolerance;
    const EigenPairs elastic = lowest_modes_iterative(problem, wish);
    k.last = elastic.block;
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
        it.collect(from, out.pairs.vectors.col(i).data());
    }
    out.method = fmt::format("block eigensolver on {}", text(kind));
    out.rigid_below = rigid > 0 ? 1e-300 : 0.0;
    return out;
}

ModalAnalysis::UnitEnergies ModalAnalysis::unit_energies(const Eigen::VectorXd& shape,
                                                         bool lumped_mass) const {
    UnitEnergies out;
    out.strain.resize(model_.mesh.elements());
    out.kinetic.resize(model_.mesh.elements());
    const int per = model_.mesh.freedoms();
#pragma omp parallel for num_threads(threads_of(options_)) schedule(static)
    for (std::size_t e = 0; e < out.strain.size(); ++e) {
        const std::uint32_t number = classes_.of[e];
        const ClassMatrices& masses = mass(lumped_mass);
        const NodeRange ids = model_.mesh.nodes_of(static_cast<ElementId>(e));
        Eigen::VectorXd local(per * static_cast<Eigen::Index>(ids.size()));
        for (std::size_t i = 0; i < ids.size(); ++i)
            local.segment(static_cast<Eigen::Index>(i) * per, per) =
                shape.segment(static_cast<Eigen::Index>(model_.freedom(ids[i], 0)), per);
        classes_.to_class(static_cast<ElementId>(e), local);
        if (stiffness_->made(number)) {
            out.strain[e] = stiffness_->work(number, local.data(), local.data());
            out.kinetic[e] = masses.work(number, local.data(), local.data());
        } else {
            out.strain[e] = local.dot(stiffness_->kept()[number] * local);
            out.kinetic[e] = local.dot(masses.kept()[number] * local);
        }
    }
    return out;
}

void ModalAnalysis::find_moved(std::vector<Mode>& modes, const std::vector<double>& density,
                               bool lumped_mass) const {
    for (Mode& mode : modes) {
        const std::vector<double> moved = unit_energies(mode.shape, lumped_mass).kinetic;
        double mass = 0.0;
        double first = 0.0;
        double second = 0.0;
        Vec3 at = Vec3::Zero();
        const auto add = [&](double m, double work, const Vec3& where) {
            if (!(m > 0.0)) return;
            mass += m;
            first += work;
            second += work * work / m;
            at += work * where;
        };
        for (std::size_t e = 0; e < moved.size(); ++e) {
            const auto id = static_cast<ElementId>(e);
            add(density[e] * model_.mesh.volume(id) * model_.material(id).density, density[e] * moved[e],
                model_.mesh.center(id));
        }
        for (const ModelMass& m : model_.masses)
            for (const ModelMass::Share& s : m.shares) {
                double square = 0.0;
                for (int a = 0; a < model_.mesh.dimension(); ++a) {
                    const double u = mode.shape[static_cast<Eigen::Index>(s.freedom) + a];
                    square += u * u;
                }
                add(s.mass, s.mass * square, s.at);
            }
        if (!(second > 0.0)) continue;
        mode.moved_share = first * first / (mass * second);
        mode.moved_at = at / first;
    }
}

std::vector<Eigen::MatrixXd> ModalAnalysis::warm_state() const {
    std::vector<Eigen::MatrixXd> out;
    for (const ModelModalCase& c : model_.modal_cases) {
        const auto at = kept_.find(c.name);
        out.push_back(at == kept_.end() ? Eigen::MatrixXd() : at->second->last);
    }
    return out;
}

void ModalAnalysis::set_warm_state(const std::vector<Eigen::MatrixXd>& state) {
    for (const ModalCaseId c : model_.modal_cases.ids())
        if (index(c) < state.size()) kept(model_.modal_cases[c]).last = state[index(c)];
}

ModalResult ModalAnalysis::solve(const ModelModalCase& c, const std::vector<double>& stiffness,
                                 const std::vector<double>& density, const ModalAccuracy& accuracy) {
    const auto begin = std::chrono::steady_clock::now();
    Kept& k = kept(c);
    const Transform& t = k.transform;
    ModalResult out;
    out.unknowns = t.unknowns();
    out.free_motions = k.free_motions;
    Found found;
    if (k.plan.kind != SolverKind::Direct && !k.fell_back) {
        try {
            found = by_multigrid(c, k, k.plan.kind, stiffness, density, accuracy);
        } catch (const NoConvergence& failed) {
            out.notes.push_back(std::string(failed.what()) + " A factorisation takes over.");
            k.fell_back = true;
            k.iterated.reset();
        }
    }
    if (found.method.empty()) found = by_lanczos(c, k, stiffness, density);
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
    if (accuracy.masses) {
        fill(0);
        const Eigen::VectorXd along_x = mass_times(motion[0], density, c.lumped);
        out.mass = inner_product(model_.freedoms(), motion[0].data(), along_x.data());
        for (std::size_t f = 0; f < model_.freedoms(); ++f) {
            const Model::Spot spot = model_.spot(f);
            if (spot.component == 0) out.center += along_x[static_cast<Eigen::Index>(f)] * spot.at / out.mass;
        }
        for (int a = 0; a < 6; ++a) {
            fill(a);
            Eigen::VectorXd& r = motion[static_cast<std::size_t>(a)];
            const Eigen::VectorXd f = mass_times(r, density, c.lumped);
            out.moved_mass[static_cast<std::size_t>(a)] =
                inner_product(model_.freedoms(), r.data(), f.data());
            r = f; // from here on the mass times the motion
        }
    }

    for (Eigen::Index i = 0; i < pairs.values.size(); ++i) {
        Mode mode;
        const double lambda = pairs.values[i];
        mode.frequency = std::sqrt(std::max(lambda, 0.0)) / (2.0 * pi);
        mode.shape = t.expand(pairs.vectors.col(i), false);
        for (std::size_t a = 0; a < 6 && accuracy.masses; ++a)
            mode.participation[a] = inner_product(model_.freedoms(), mode.shape.data(), motion[a].data());
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
    if (accuracy.masses) find_moved(out.modes, density, c.lumped);
    out.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
    return out;
}

} // namespace upright
