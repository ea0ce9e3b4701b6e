#include "fem/modal_analysis.hpp"

#include "fem/elasticity.hpp"
#include "fem/element.hpp"
#include "model/rigid_freedom.hpp"
#include "solve/lanczos.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <chrono>
#include <cmath>
#include <map>

namespace upright {

namespace {

constexpr double pi = 3.14159265358979323846;
// The shift for bodies that float: this share of the largest eigenvalue. Modes far below it are rigid.
constexpr double shift_share = 1e-9;

} // namespace

ModalAnalysis::ModalAnalysis(const Model& model, const SolverOptions& options)
    : model_(model), options_(options) {
    const Mesh& mesh = model.mesh;
    std::map<std::pair<int, double>, std::size_t> known;
    for (std::size_t e = 0; e < mesh.elements(); ++e) {
        const auto id = static_cast<ElementId>(e);
        std::size_t at = stiffness_.size();
        bool fresh = true;
        if (mesh.on_grid() && same_everywhere(model.material(id))) {
            const auto found =
                known.emplace(std::pair{model.regions[index(mesh.region[e])].material, mesh.depth(id)}, at);
            at = found.first->second;
            fresh = found.second;
        }
        of_.push_back(at);
        if (!fresh) continue;
        const Element& element = element_for(mesh.kinds[e]);
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
        const Eigen::MatrixXd& M = lumped_mass ? lumped_[of_[e]] : mass_[of_[e]];
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

    // K, and M beside it: one solver system with a scale for each of the two.
    ReducedSystem K;
    ReducedSystem M;
    double largest = 0.0;
    for (std::size_t e = 0; e < model_.mesh.elements(); ++e) {
        const std::vector<std::size_t> freedoms = model_.freedoms_of(static_cast<ElementId>(e));
        const Eigen::MatrixXd& mass = c.lumped ? lumped_[of_[e]] : mass_[of_[e]];
        K.add(t, freedoms, stiffness_[of_[e]]);
        M.add(t, freedoms, mass);
        for (Eigen::Index i = 0; i < mass.rows(); ++i)
            if (mass(i, i) > 0.0) largest = std::max(largest, stiffness_[of_[e]](i, i) / mass(i, i));
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
    problem.shift = out.free_motions > 0 ? shift_share * largest : 0.0;
    if (problem.shift > 0.0) {
        for (std::size_t e = 0; e < M.system().elements(); ++e) {
            // The system is K's, with M's elements after them.
            scale_K.push_back(problem.shift * scale_M[e]);
        }
        K.append(M);
    }
    const std::unique_ptr<LinearSolver> solver = make_direct_solver(K.system(), options_);
    solver->update(scale_K);
    problem.inverse = [&](const Eigen::MatrixXd& f) { return solver->solve(f); };
    EigenWish wish;
    wish.count = c.up_to > 0.0 ? out.free_motions + 1 : out.free_motions + c.modes;
    const double circular = 2.0 * pi * c.up_to;
    wish.up_to = circular * circular;
    const EigenPairs pairs = lowest_modes(problem, wish);
    out.steps = pairs.steps;

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
        const bool rigid = problem.shift > 0.0 && std::abs(lambda) < 1e-2 * problem.shift &&
                           static_cast<int>(out.rigid.size()) < out.free_motions;
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
