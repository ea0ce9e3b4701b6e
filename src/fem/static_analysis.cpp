#include "fem/static_analysis.hpp"

#include "base/instruction_sets.hpp"
#include "base/reduction.hpp"
#include "fem/case_groups.hpp"
#include "fem/elasticity.hpp"
#include "fem/element.hpp"
#include "fem/support_forces.hpp"

#include <algorithm>
#include <array>
#include <cmath>

namespace upright {

namespace {

// With more elements the working room of a solve is a fifth of all that a run needs: others have it in turn,
// which costs a solve a few hundredths of its time.
constexpr std::size_t frugal_from = 500000;

} // namespace

double StaticAnalysis::rise(const ModelCase& c) const {
    double out = 0.0;
    for (const auto& [l, factor] : c.loads) out += factor * model_.loads[l].heat;
    return out;
}

StaticAnalysis::StaticAnalysis(const Model& model, const SolverOptions& options)
    : model_(model), options_(options), threads_(threads_of(options)), classes_(shape_classes(model)) {
    const Mesh& mesh = model.mesh;
    stiffness_ = std::make_unique<ClassMatrices>(model, classes_, ClassMatrices::What::Stiffness);
    stress_.resize(classes_.example.size());
    for (std::size_t number = 0; number < stress_.size(); ++number) {
        if (stiffness_->made(number)) continue;
        const ElementId id = classes_.example[number];
        stress_[number] = element_for(mesh.kind(id))
                              .stress(places_of(mesh, id), elasticity(model, id), mesh.depth(id),
                                      model.formulation, natural_center(mesh.kind(id)));
    }
    boxes_ = std::make_unique<BoxEnergies>(mesh, classes_, stiffness_->kept());
    for (std::vector<CaseId>& cases : cases_by_supports(model)) {
        groups_.emplace_back(model.transform(model.cases[cases.front()]));
        groups_.back().cases = std::move(cases);
    }
    SolverOptions for_solves = options;
    for_solves.frugal = model.mesh.elements() > frugal_from;
    for (Group& group : groups_)
        group.solver = std::make_unique<ConstrainedSolver>(
            model, group.transform, classes_, *stiffness_,
            group.cases.size() + (group.transform.moves() ? 1 : 0), for_solves);
}

Eigen::VectorXd StaticAnalysis::stiffness_times(const Eigen::VectorXd& u,
                                                const std::vector<double>& stiffness) const {
    Eigen::VectorXd out = Eigen::VectorXd::Zero(u.size());
    const int per = model_.mesh.freedoms();
    for (std::size_t e = 0; e < model_.mesh.elements(); ++e) {
        const auto id = static_cast<ElementId>(e);
        Eigen::VectorXd local = element_displacement(u, id);
        classes_.to_class(id, local);
        Eigen::VectorXd f(local.size());
        if (stiffness_->made(classes_.of[e]))
            stiffness_->times(classes_.of[e], local.data(), f.data());
        else
            f = stiffness_->kept()[classes_.of[e]] * local;
        f *= stiffness[e];
        classes_.from_class(id, f);
        const NodeRange ids = model_.mesh.nodes_of(id);
        for (std::size_t i = 0; i < ids.size(); ++i)
            out.segment(static_cast<Eigen::Index>(model_.freedom(ids[i], 0)), per) +=
                f.segment(static_cast<Eigen::Index>(i) * per, per);
    }
    for (const ModelJoint& joint : model_.joints) {
        const Eigen::VectorXd f = joint_forces(joint, u);
        for (std::size_t i = 0; i < joint.freedoms.size(); ++i)
            out[static_cast<Eigen::Index>(joint.freedoms[i])] += f[static_cast<Eigen::Index>(i)];
    }
    return out;
}

// The forces of the group's cases, on the unknowns. Those that no design changes are found once.
void StaticAnalysis::take_loads(Group& group, const std::vector<double>& stiffness,
                                const std::vector<double>& density) {
    const Transform& t = group.transform;
    group.forces.resize(group.cases.size());
    for (std::size_t i = 0; i < group.cases.size(); ++i) {
        const ModelCase& c = model_.cases[group.cases[i]];
        Forces& forces = group.forces[i];
        if (forces.fixed) continue;
        forces.all = this->forces(c, stiffness, density);
        forces.fixed = std::none_of(c.loads.begin(), c.loads.end(), [&](const auto& load) {
            return model_.loads[load.first].of_body() || model_.loads[load.first].heat != 0.0;
        });
        if (!forces.fixed) continue;
        for (Eigen::Index f = 0; f < forces.all.size(); ++f)
            if (forces.all[f] != 0.0) forces.some.push_back({static_cast<std::size_t>(f), forces.all[f]});
        const Eigen::VectorXd gathered = t.gather(forces.all);
        for (Eigen::Index u = 0; u < gathered.size(); ++u)
            if (gathered[u] != 0.0) forces.gathered.emplace_back(u, gathered[u]);
        forces.all.resize(0);
    }
    if (!t.moves()) return;
    // The enforced motion alone is one more right-hand side, the same for every case.
    const Eigen::VectorXd enforced =
        t.expand(Eigen::VectorXd::Zero(static_cast<Eigen::Index>(t.unknowns())), true);
    group.enforced = -t.gather(stiffness_times(enforced, stiffness));
}

Loads StaticAnalysis::loads_of(const Group& group) {
    const auto unknowns = static_cast<Eigen::Index>(group.transform.unknowns());
    const std::size_t cases = group.cases.size();
    const auto fill = [&group, unknowns, cases](Eigen::Index column, double* to) {
        Eigen::Map<Eigen::VectorXd> out(to, unknowns);
        const auto i = static_cast<std::size_t>(column);
        if (i == cases) {
            out = group.enforced;
        } else if (!group.forces[i].fixed) {
            out = group.transform.gather(group.forces[i].all);
        } else {
            out.setZero();
            for (const auto& [u, force] : group.forces[i].gathered) out[u] = force;
        }
    };
    return {unknowns, static_cast<Eigen::Index>(cases) + (group.transform.moves() ? 1 : 0), fill};
}

double StaticAnalysis::Forces::times(const Eigen::VectorXd& u) const {
    double out = 0.0;
    for (const Term& f : some) out += f.factor * u[static_cast<Eigen::Index>(f.freedom)];
    return out + sum_of_blocks(static_cast<std::size_t>(all.size()), [&](std::size_t from, std::size_t to) {
               const auto first = static_cast<Eigen::Index>(from);
               const auto many = static_cast<Eigen::Index>(to - from);
               return all.segment(first, many).dot(u.segment(first, many));
           });
}

void StaticAnalysis::solve(const std::vector<double>& stiffness, const std::vector<double>& density,
                           const Accuracy& accuracy, std::vector<CaseResult>& out) {
    out.resize(model_.cases.size());
    for (Group& group : groups_) {
        const Transform& t = group.transform;
        take_loads(group, stiffness, density);
        group.solver->update(stiffness);
        // Nobody needs the last displacements while new ones are found.
        for (const CaseId c : group.cases) out[index(c)] = CaseResult();
        group.solver->solve(loads_of(group), {accuracy.energy, 0.0, accuracy.warm}, group.last);
        const Eigen::MatrixXd& solution = group.last;
        for (std::size_t i = 0; i < group.cases.size(); ++i) {
            CaseResult& result = out[index(group.cases[i])];
            t.expand(solution.col(static_cast<Eigen::Index>(i)), false, result.displacement);
            result.unmoved.resize(0);
            if (t.moves()) {
                result.unmoved = result.displacement;
                result.displacement += t.expand(solution.col(solution.cols() - 1), true);
            }
            result.compliance = group.forces[i].times(result.displacement);
            if (!std::isfinite(result.compliance))
                throw Error::numerics("the case \"" + model_.cases[group.cases[i]].name +
                                          "\" has no finite result",
                                      "Look for loads or material data of absurd size");
        }
    }
}

std::vector<CaseResult> StaticAnalysis::solve(const std::vector<double>& stiffness,
                                              const std::vector<double>& density, const Accuracy& accuracy) {
    std::vector<CaseResult> out;
    solve(stiffness, density, accuracy, out);
    return out;
}

std::vector<Eigen::VectorXd> StaticAnalysis::solve_adjoints(const std::vector<AdjointLoad>& loads,
                                                            const Accuracy& accuracy) {
    std::vector<Eigen::VectorXd> out(loads.size());
    for (Group& group : groups_) {
        std::vector<std::size_t> mine;
        for (std::size_t i = 0; i < loads.size(); ++i)
            if (std::find(group.cases.begin(), group.cases.end(), loads[i].in_case) != group.cases.end())
                mine.push_back(i);
        if (mine.empty()) continue;
        const Transform& t = group.transform;
        Eigen::MatrixXd sides(static_cast<Eigen::Index>(t.unknowns()),
                              static_cast<Eigen::Index>(mine.size()));
        for (std::size_t i = 0; i < mine.size(); ++i)
            sides.col(static_cast<Eigen::Index>(i)) = t.gather(loads[mine[i]].load);
        group.solver->solve(Loads(sides), {accuracy.energy, 0.0, accuracy.warm}, group.last_adjoints);
        for (std::size_t i = 0; i < mine.size(); ++i)
            out[mine[i]] = t.expand(group.last_adjoints.col(static_cast<Eigen::Index>(i)), false);
    }
    return out;
}

Eigen::MatrixXd StaticAnalysis::answers(CaseId c, const Eigen::MatrixXd& loads, const Accuracy& accuracy) {
    const auto group = std::find_if(groups_.begin(), groups_.end(), [&](const Group& g) {
        return std::find(g.cases.begin(), g.cases.end(), c) != g.cases.end();
    });
    const Transform& t = group->transform;
    Eigen::MatrixXd sides(static_cast<Eigen::Index>(t.unknowns()), loads.cols());
    for (Eigen::Index k = 0; k < loads.cols(); ++k) sides.col(k) = t.gather(loads.col(k));
    Eigen::MatrixXd found;
    group->solver->solve(Loads(sides), {accuracy.energy, 0.0, false}, found);
    Eigen::MatrixXd out(loads.rows(), loads.cols());
    for (Eigen::Index k = 0; k < loads.cols(); ++k) out.col(k) = t.expand(found.col(k), false);
    return out;
}

std::vector<Eigen::MatrixXd> StaticAnalysis::warm_state() const {
    std::vector<Eigen::MatrixXd> out;
    for (const Group& group : groups_) {
        // Exact solvers start from nothing.
        const bool keeps = group.solver->cost().iterations > 0;
        out.push_back(keeps ? group.last : Eigen::MatrixXd());
        out.push_back(keeps ? group.last_adjoints : Eigen::MatrixXd());
    }
    return out;
}

void StaticAnalysis::set_warm_state(std::vector<Eigen::MatrixXd> state) {
    if (state.size() != 2 * groups_.size()) return;
    for (std::size_t g = 0; g < groups_.size(); ++g) {
        const auto unknowns = static_cast<Eigen::Index>(groups_[g].transform.unknowns());
        const auto sides =
            static_cast<Eigen::Index>(groups_[g].cases.size() + (groups_[g].transform.moves() ? 1 : 0));
        const bool fits = state[2 * g].rows() == unknowns && state[2 * g].cols() == sides &&
                          (state[2 * g + 1].size() == 0 || state[2 * g + 1].rows() == unknowns);
        if (!fits) continue; // the next solve starts from nothing
        groups_[g].last = std::move(state[2 * g]);
        groups_[g].last_adjoints = std::move(state[2 * g + 1]);
    }
}

Eigen::VectorXd StaticAnalysis::element_displacement(const Eigen::VectorXd& u, ElementId e) const {
    const int per = model_.mesh.freedoms();
    const NodeRange ids = model_.mesh.nodes_of(e);
    Eigen::VectorXd out(per * static_cast<Eigen::Index>(ids.size()));
    for (std::size_t i = 0; i < ids.size(); ++i)
        out.segment(static_cast<Eigen::Index>(i) * per, per) =
            u.segment(static_cast<Eigen::Index>(model_.freedom(ids[i], 0)), per);
    return out;
}

namespace {

// v' k u of an element of 8 nodes, whose displacements begin at three times their numbers.
UPRIGHT_CLONES double energy_of_hex(const double* k, const double* u, const double* v, const NodeId* nodes) {
    Eight force[3] = {};
    for (std::size_t n = 0; n < 8; ++n)
        for (std::size_t c = 0; c < 3; ++c) {
            const Eight* column = reinterpret_cast<const Eight*>(k + (3 * n + c) * 24);
            const double x = u[3 * index(nodes[n]) + c];
            force[0] += column[0] * x;
            force[1] += column[1] * x;
            force[2] += column[2] * x;
        }
    double sum = 0.0;
    for (std::size_t n = 0; n < 8; ++n) {
        const double* x = v + 3 * index(nodes[n]);
        for (std::size_t c = 0; c < 3; ++c) sum += x[c] * force[(3 * n + c) / 8][(3 * n + c) % 8];
    }
    return sum;
}

template <int N>
double energy_of(const Eigen::MatrixXd& k, const double* u, const double* v, const std::size_t* at) {
    using Vector = Eigen::Matrix<double, N, 1>;
    Vector a;
    Vector b;
    for (int i = 0; i < N; ++i) {
        a[i] = u[at[i]];
        b[i] = v[at[i]];
    }
    return b.dot(Eigen::Map<const Eigen::Matrix<double, N, N>>(k.data()) * a);
}

} // namespace

std::vector<double> StaticAnalysis::unit_energy(const Eigen::VectorXd& u, const Eigen::VectorXd* v) const {
    std::vector<double> out;
    unit_energy(u, v, out);
    return out;
}

void StaticAnalysis::unit_energy(const Eigen::VectorXd& u, const Eigen::VectorXd* v,
                                 std::vector<double>& out) const {
    const Mesh& mesh = model_.mesh;
    out.resize(mesh.elements());
    const double* first = u.data();
    const double* second = v == nullptr ? first : v->data();
    if (boxes_->serve()) {
        boxes_->find(first, second, out.data(), threads_);
        return;
    }
    const auto per = static_cast<std::size_t>(mesh.freedoms());
    const auto one_element = [&](std::size_t e) {
        const auto id = static_cast<ElementId>(e);
        if (stiffness_->made(classes_.of[e])) {
            const NodeRange ids = mesh.nodes_of(id);
            double one[30];
            double two[30];
            for (std::size_t i = 0; i < ids.size(); ++i)
                for (std::size_t c = 0; c < 3; ++c) {
                    one[3 * i + c] = first[3 * index(ids[i]) + c];
                    two[3 * i + c] = second[3 * index(ids[i]) + c];
                }
            out[e] = stiffness_->work(classes_.of[e], one, v == nullptr ? one : two);
            return;
        }
        const Eigen::MatrixXd& k = stiffness_->kept()[classes_.of[e]];
        if (classes_.turn(id) != nullptr) {
            Eigen::VectorXd one = element_displacement(u, id);
            classes_.to_class(id, one);
            if (v == nullptr) {
                out[e] = one.dot(k * one);
            } else {
                Eigen::VectorXd two = element_displacement(*v, id);
                classes_.to_class(id, two);
                out[e] = two.dot(k * one);
            }
            return;
        }
        const NodeRange ids = mesh.nodes_of(id);
        if (k.rows() == 24 && ids.size() == 8) {
            out[e] = energy_of_hex(k.data(), first, second, ids.begin());
            return;
        }
        std::array<std::size_t, 64> at{};
        for (std::size_t i = 0; i < ids.size(); ++i)
            for (std::size_t c = 0; c < per; ++c) at[i * per + c] = index(ids[i]) * per + c;
        switch (k.rows()) {
        case 8:
            out[e] = energy_of<8>(k, first, second, at.data());
            break;
        default:
            out[e] = (v == nullptr ? element_displacement(u, id) : element_displacement(*v, id))
                         .dot(k * element_displacement(u, id));
        }
    };
#pragma omp parallel for num_threads(threads_) schedule(static)
    for (std::size_t e = 0; e < out.size(); ++e) one_element(e);
}

Eigen::VectorXd StaticAnalysis::forces(const ModelCase& c, const std::vector<double>& stiffness,
                                       const std::vector<double>& density) const {
    Eigen::VectorXd out = model_.forces(c, density);
    const double rise = this->rise(c);
    if (rise == 0.0) return out;
    const int per = model_.mesh.freedoms();
    for (std::size_t e = 0; e < model_.mesh.elements(); ++e) {
        const auto id = static_cast<ElementId>(e);
        const Eigen::VectorXd f = element_for(model_.mesh.kinds[e])
                                      .expansion(places_of(model_.mesh, id), elasticity(model_, id),
                                                 free_strain(model_, id), model_.mesh.depth(id));
        const NodeRange ids = model_.mesh.nodes_of(id);
        for (std::size_t i = 0; i < ids.size(); ++i)
            out.segment(static_cast<Eigen::Index>(model_.freedom(ids[i], 0)), per) +=
                rise * stiffness[e] * f.segment(static_cast<Eigen::Index>(i) * per, per);
    }
    return out;
}

std::vector<double> StaticAnalysis::unit_heat_work(const ModelCase& c, const Eigen::VectorXd& u) const {
    const double rise = this->rise(c);
    std::vector<double> out;
    if (rise == 0.0) return out;
    for (std::size_t e = 0; e < model_.mesh.elements(); ++e) {
        const auto id = static_cast<ElementId>(e);
        out.push_back(rise * element_for(model_.mesh.kinds[e])
                                 .expansion(places_of(model_.mesh, id), elasticity(model_, id),
                                            free_strain(model_, id), model_.mesh.depth(id))
                                 .dot(element_displacement(u, id)));
    }
    return out;
}

Eigen::VectorXd StaticAnalysis::residual(const CaseResult& result, const ModelCase& c,
                                         const std::vector<double>& stiffness,
                                         const std::vector<double>& density) const {
    return stiffness_times(result.displacement, stiffness) - forces(c, stiffness, density);
}

Eigen::VectorXd StaticAnalysis::reactions(const CaseResult& result, const ModelCase& c,
                                          const std::vector<double>& stiffness,
                                          const std::vector<double>& density) const {
    const SupportForces holding(model_, c);
    const Eigen::VectorXd forces = holding.of(residual(result, c, stiffness, density));
    Eigen::VectorXd out = Eigen::VectorXd::Zero(static_cast<Eigen::Index>(model_.freedoms()));
    for (std::size_t e = 0; e < holding.held().size(); ++e)
        for (const Term& t : holding.held()[e].equation->terms)
            out[static_cast<Eigen::Index>(t.freedom)] += forces[static_cast<Eigen::Index>(e)] * t.factor;
    for (const ModelJoint& joint : model_.joints) {
        if (!joint.grounded()) continue;
        const Eigen::VectorXd f = joint_forces(joint, result.displacement);
        for (std::size_t i = 0; i < joint.freedoms.size(); ++i)
            out[static_cast<Eigen::Index>(joint.freedoms[i])] -= f[static_cast<Eigen::Index>(i)];
    }
    return out;
}

Eigen::VectorXd StaticAnalysis::joint_forces(const ModelJoint& joint, const Eigen::VectorXd& u) {
    Eigen::VectorXd local(static_cast<Eigen::Index>(joint.freedoms.size()));
    for (std::size_t i = 0; i < joint.freedoms.size(); ++i)
        local[static_cast<Eigen::Index>(i)] = u[static_cast<Eigen::Index>(joint.freedoms[i])];
    return joint.matrix * local;
}

double StaticAnalysis::joint_energy(const Eigen::VectorXd& u) const {
    double out = 0.0;
    for (const ModelJoint& joint : model_.joints) {
        const Eigen::VectorXd f = joint_forces(joint, u);
        for (std::size_t i = 0; i < joint.freedoms.size(); ++i)
            out += 0.5 * f[static_cast<Eigen::Index>(i)] * u[static_cast<Eigen::Index>(joint.freedoms[i])];
    }
    return out;
}

std::array<double, 2> StaticAnalysis::von_mises_at(ElementId e, const Eigen::VectorXd& u, double rise,
                                                   Eigen::MatrixXd* derivative) const {
    const std::uint32_t number = classes_.of[index(e)];
    const bool made = stiffness_->made(number);
    const Eigen::MatrixXd& S = stress_[number];
    // Everything in the axes of the class, where the size of a stress is the same.
    const ElementId example = classes_.example[classes_.of[index(e)]];
    Eigen::VectorXd local = element_displacement(u, e);
    classes_.to_class(e, local);
    Eigen::VectorXd s = made ? Eigen::VectorXd(stiffness_->stress(number, local.data())) : S * local;
    if (rise != 0.0) {
        const Eigen::MatrixXd D = elasticity(model_, example);
        const Eigen::VectorXd strain = free_strain(model_, example);
        const Eigen::VectorXd free = D.topLeftCorner(strain.size(), strain.size()) * strain * rise;
        for (Eigen::Index i = 0; i < s.size(); ++i) s[i] -= free[i % free.size()];
    }
    const int layers = stress_layers();
    const Eigen::Index each = s.size() / layers;
    const bool strain_plane = model_.family == ElementFamily::PlaneStrain;
    if (derivative != nullptr) derivative->setZero(local.size(), layers);
    std::array<double, 2> out{};
    for (int l = 0; l < layers; ++l) {
        const Eigen::VectorXd one = s.segment(l * each, each);
        const double across = strain_plane ? stress_across_plane(model_, e, one, rise) : 0.0;
        const double size = plane_von_mises(one, across);
        out[static_cast<std::size_t>(l)] = size;
        if (derivative == nullptr || size == 0.0) continue;
        // d(size)/d(stress): 3/2 deviator / size, shears twice.
        Eigen::VectorXd by_stress(each);
        if (each == 6) {
            const double mean = (one[0] + one[1] + one[2]) / 3.0;
            for (int i = 0; i < 3; ++i) by_stress[i] = 1.5 * (one[i] - mean) / size;
            for (int i = 3; i < 6; ++i) by_stress[i] = 3.0 * one[i] / size;
        } else {
            const double mean = (one[0] + one[1] + across) / 3.0;
            for (int i = 0; i < 2; ++i) by_stress[i] = 1.5 * (one[i] - mean) / size;
            by_stress[2] = 3.0 * one[2] / size;
            if (strain_plane) // the stress across follows those in the plane, linearly
                for (Eigen::Index i = 0; i < 3; ++i)
                    by_stress[i] += 1.5 * (across - mean) / size *
                                    stress_across_plane(model_, e, Eigen::Vector3d::Unit(i), 0.0);
        }
        if (made) {
            stiffness_->stress_transposed(number, by_stress, derivative->col(l).data());
            continue;
        }
        derivative->col(l) = S.middleRows(l * each, each).transpose() * by_stress;
        classes_.from_class(e, derivative->col(l));
    }
    return out;
}

std::vector<double> StaticAnalysis::von_mises_stress(const Eigen::VectorXd& displacement,
                                                     const ModelCase* c) const {
    const double rise = c == nullptr ? 0.0 : this->rise(*c);
    std::vector<double> out(model_.mesh.elements());
#pragma omp parallel for num_threads(threads_) schedule(static)
    for (std::size_t e = 0; e < out.size(); ++e) {
        const auto sizes = von_mises_at(static_cast<ElementId>(e), displacement, rise, nullptr);
        out[e] = std::max(sizes[0], sizes[1]);
    }
    return out;
}

SolverCost StaticAnalysis::cost() const {
    SolverCost out;
    for (const Group& group : groups_) {
        const SolverCost one = group.solver->cost();
        out.unknowns = std::max(out.unknowns, one.unknowns);
        if (out.method.empty()) out.method = one.method;
        out.iterations = std::max(out.iterations, one.iterations);
        out.levels = std::max(out.levels, one.levels);
        out.bytes += one.bytes;
        out.factor_bytes += one.factor_bytes;
        out.factor_flops += one.factor_flops;
        out.prepare_seconds += one.prepare_seconds;
        out.factor_seconds += one.factor_seconds;
        out.solve_seconds += one.solve_seconds;
    }
    return out;
}

std::vector<SolverPlan> StaticAnalysis::plans() const {
    std::vector<SolverPlan> out;
    for (const Group& group : groups_) out.push_back(group.solver->plan());
    return out;
}

std::vector<std::string> StaticAnalysis::take_notes() {
    std::vector<std::string> out;
    for (Group& group : groups_)
        for (const std::string& note : group.solver->take_notes()) out.push_back(note);
    return out;
}

} // namespace upright
