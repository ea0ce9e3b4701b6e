#include "model/model.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

namespace upright {

bool ModelSupport::moves() const {
    return std::any_of(move.begin(), move.end(), [](double m) { return m != 0.0; });
}

Vec3 ModelLoad::acceleration(const Vec3& at) const {
    Vec3 out = Vec3::Zero();
    if (gravity) out += *gravity;
    if (spin) {
        const Vec3 r = at - spin->origin;
        out += spin->speed * spin->speed * (r - spin->axis * r.dot(spin->axis));
        out -= spin->speed_up * spin->axis.cross(r);
    }
    return out;
}

Model::Spot Model::spot(std::size_t freedom) const {
    const auto per = static_cast<std::size_t>(mesh.freedoms());
    if (freedom < node_freedoms()) return {mesh.nodes[freedom / per], static_cast<int>(freedom % per)};
    const std::size_t rest = freedom - node_freedoms();
    const auto each = static_cast<std::size_t>(reference_freedoms());
    int component = static_cast<int>(rest % each);
    if (each == 3 && component == 2) component = 5;
    return {couplings[static_cast<CouplingId>(rest / each)].at, component};
}

namespace {

// Every freedom of a model by itself, measured by what it is.
Transform unlinked(const Model& model) {
    std::vector<double> scale(model.freedoms(), 1.0);
    const double length = model.mesh.bounds.diagonal();
    for (std::size_t i = 0; i < scale.size(); ++i)
        if ((model.mesh.shell() || i >= model.node_freedoms()) && model.spot(i).component >= 3)
            scale[i] = 1.0 / length;
    return Transform(std::move(scale));
}

void add_links(const Model& model, Transform& out) {
    for (const ModelBond& b : model.bonds)
        for (const Equation& e : b.equations) out.add(e, "the bond \"" + b.name + "\"");
    for (const bool rigid : {true, false})
        for (const ModelCoupling& coupling : model.couplings)
            if (coupling.rigid == rigid)
                for (const Equation& e : coupling.equations)
                    out.add(e, "the coupling \"" + coupling.name + "\"", coupling.place);
}

} // namespace

Transform Model::transform(const ModelCase& c) const {
    Transform out = unlinked(*this);
    for (const Equation& e : symmetry) out.add(e, "the symmetry plane");
    for (const SupportId s : c.supports)
        for (const Equation& e : supports[s].equations)
            out.add(e, "the support \"" + supports[s].name + "\"", supports[s].place);
    add_links(*this, out);
    out.finish();
    return out;
}

Transform Model::links() const {
    Transform out = unlinked(*this);
    add_links(*this, out);
    out.finish();
    return out;
}

CouplingId Model::coupling_at(const ModelPoint& point) const {
    for (const CouplingId c : couplings.ids())
        if ((couplings[c].at - point.at).norm() <= 1e-9 * mesh.bounds.diagonal()) return c;
    return CouplingId::None;
}

void Model::body_force(const ModelLoad& load, ElementId e, std::vector<Vec3>& out) const {
    const NodeRange ids = mesh.nodes_of(e);
    out.assign(ids.size(), Vec3::Zero());
    const double density = material(e).density;
    if (!load.spin) {
        for (std::size_t i = 0; i < ids.size(); ++i)
            out[i] = density * mesh.node_volume(e, i) * *load.gravity;
        return;
    }
    // The acceleration is linear in place: integrated by the element's rule.
    const ElementKind kind = mesh.kind(e);
    const KindTraits& t = traits(kind);
    Eigen::VectorXd N;
    Eigen::MatrixXd G;
    Eigen::MatrixXd x(3, t.nodes);
    for (std::size_t i = 0; i < ids.size(); ++i)
        x.col(static_cast<Eigen::Index>(i)) = mesh.nodes[index(ids[i])];
    for (const RulePoint& p : integration_rule(kind)) {
        interpolate(kind, p.at, N, G);
        const Eigen::MatrixXd J = x * G.transpose();
        double det = 0.0;
        if (t.dimension == 3)
            det = J.determinant();
        else
            det = Vec3(J.col(0)).cross(Vec3(J.col(1))).norm();
        const Vec3 force = density * p.weight * det * mesh.depth(e) * load.acceleration(x * N);
        for (std::size_t i = 0; i < ids.size(); ++i) out[i] += N[static_cast<Eigen::Index>(i)] * force;
    }
}

Eigen::VectorXd Model::forces(const ModelCase& c, const std::vector<double>& density) const {
    const int d = mesh.dimension();
    Eigen::VectorXd out(static_cast<Eigen::Index>(freedoms()));
#pragma omp parallel for simd schedule(static)
    for (Eigen::Index i = 0; i < out.size(); ++i) out[i] = 0.0;
    std::vector<Vec3> parts;
    for (const auto& [l, factor] : c.loads) {
        const ModelLoad& load = loads[l];
        for (const Term& f : load.forces) out[static_cast<Eigen::Index>(f.freedom)] += factor * f.factor;
        if (!load.of_body()) continue;
        for (std::size_t e = 0; e < mesh.elements(); ++e) {
            const auto id = static_cast<ElementId>(e);
            body_force(load, id, parts);
            const NodeRange ids = mesh.nodes_of(id);
            for (std::size_t i = 0; i < ids.size(); ++i)
                out.segment(static_cast<Eigen::Index>(freedom(ids[i], 0)), d) +=
                    factor * density[e] * parts[i].head(d);
        }
        for (const ModelMass& mass : masses)
            for (const ModelMass::Share& s : mass.shares)
                out.segment(static_cast<Eigen::Index>(s.freedom), d) +=
                    factor * s.mass * load.acceleration(s.at).head(d);
    }
    return out;
}

namespace {

Resultant of_forces(const Model& model, const std::vector<Term>& forces) {
    Resultant out;
    for (const Term& f : forces) {
        const Model::Spot spot = model.spot(f.freedom);
        if (spot.component >= 3) {
            out.moment[spot.component - 3] += f.factor;
            continue;
        }
        const Vec3 force = f.factor * Vec3::Unit(spot.component);
        out.force += force;
        out.moment += spot.at.cross(force);
    }
    return out;
}

} // namespace

Resultant resultant(const Model& model, const ModelLoad& load) {
    Resultant out = of_forces(model, load.forces);
    if (!load.of_body()) return out;
    std::vector<Vec3> parts;
    const int d = model.mesh.dimension();
    for (std::size_t e = 0; e < model.mesh.elements(); ++e) {
        const auto id = static_cast<ElementId>(e);
        model.body_force(load, id, parts);
        const NodeRange ids = model.mesh.nodes_of(id);
        for (std::size_t i = 0; i < ids.size(); ++i) {
            Vec3 f = parts[i];
            if (d == 2) f.z() = 0.0;
            out.force += f;
            out.moment += model.mesh.nodes[index(ids[i])].cross(f);
        }
    }
    for (const ModelMass& mass : model.masses)
        for (const ModelMass::Share& s : mass.shares) {
            const Vec3 f = s.mass * load.acceleration(s.at);
            out.force += f;
            out.moment += s.at.cross(f);
        }
    return out;
}

Resultant resultant(const Model& model, const ModelCase& c) {
    Resultant out;
    for (const auto& [l, factor] : c.loads) {
        const Resultant one = resultant(model, model.loads[l]);
        out.force += factor * one.force;
        out.moment += factor * one.moment;
    }
    return out;
}

} // namespace upright
