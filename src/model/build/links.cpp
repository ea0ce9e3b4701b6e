// Couplings, joints, masses, bonds.
#include "mesh/side_place.hpp"
#include "model/build/parts.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright {

ModelCoupling make_coupling(const Model& model, const CouplingCard& card) {
    const Mesh& mesh = model.mesh;
    ModelCoupling out;
    out.place = card.place;
    out.name = card.name;
    out.rigid = card.rigid;
    out.surfaces = card.surfaces;
    const Target target = find_target(model, card.surfaces);
    const auto shares = positive_shares(mesh, target.surfaces);
    for (const auto& [n, w] : shares) out.nodes.push_back(n);
    const Average mean = average_of(mesh, shares);
    out.at = mean.center;
    if (card.at.empty()) {
        double area = 0.0;
        out.at = Vec3::Zero();
        for (const ModelSurface* s : target.surfaces) {
            out.at += s->area * s->centroid;
            area += s->area;
        }
        out.at /= area;
    } else {
        for (const ModelPoint& p : model.points)
            if (p.name == card.at) out.at = p.at;
    }
    return out;
}

// The equations of a coupling, once all couplings have their numbers.
void fill_coupling(Model& model, CouplingId c) {
    ModelCoupling& coupling = model.couplings[c];
    const Mesh& mesh = model.mesh;
    const int d = mesh.dimension();
    const auto reference = [&](int component) { return model.freedom_of_coupling(c, component); };
    // Rotation about axis b moves a place at r along axis a by this much.
    const auto turn = [](int a, int b, const Vec3& r) { return Vec3(Vec3::Unit(b).cross(r))[a]; };
    const int first_turn = d == 2 ? 2 : 0;
    const auto turn_freedom = [&](int axis) { return reference(d == 2 ? 2 : 3 + axis); };
    if (coupling.rigid) {
        for (const NodeId n : coupling.nodes) {
            const Vec3 r = mesh.nodes[index(n)] - coupling.at;
            for (int a = 0; a < d; ++a) {
                Equation e;
                e.terms.push_back({model.freedom(n, a), 1.0});
                e.terms.push_back({reference(a), -1.0});
                for (int b = first_turn; b < 3; ++b)
                    if (const double f = turn(a, b, r); f != 0.0) e.terms.push_back({turn_freedom(b), -f});
                coupling.equations.push_back(e);
            }
            if (mesh.freedoms() == 6)
                for (int b = 0; b < 3; ++b)
                    coupling.equations.push_back(
                        {{{model.freedom(n, 3 + b), 1.0}, {reference(3 + b), -1.0}}, 0.0});
        }
        return;
    }
    std::vector<const ModelSurface*> surfaces = find_target(model, coupling.surfaces).surfaces;
    const auto shares = positive_shares(mesh, surfaces);
    const Average mean = average_of(mesh, shares);
    const Vec3 arm = coupling.at - mean.center;
    // Mean rotation: inverse * sum w r x u; mean displacement at the reference: sum w u / W + rotation x arm.
    std::vector<std::vector<Term>> rotation(3);
    for (const auto& [n, w] : shares) {
        const Vec3 r = mesh.nodes[index(n)] - mean.center;
        for (int a = 0; a < d; ++a) {
            const Vec3 part = mean.inverse * (w * r.cross(Vec3(Vec3::Unit(a))));
            for (int b = first_turn; b < 3; ++b)
                if (part[b] != 0.0)
                    rotation[static_cast<std::size_t>(b)].push_back({model.freedom(n, a), part[b]});
        }
    }
    for (int a = 0; a < d; ++a) {
        Equation e;
        e.terms.push_back({reference(a), 1.0});
        for (const auto& [n, w] : shares) e.terms.push_back({model.freedom(n, a), -w / mean.weight});
        for (int b = first_turn; b < 3; ++b)
            if (const double f = turn(a, b, arm); f != 0.0)
                for (const Term& t : rotation[static_cast<std::size_t>(b)])
                    e.terms.push_back({t.freedom, -f * t.factor});
        coupling.equations.push_back(e);
    }
    for (int b = first_turn; b < 3; ++b) {
        Equation e;
        e.terms.push_back({turn_freedom(b), 1.0});
        for (const Term& t : rotation[static_cast<std::size_t>(b)]) e.terms.push_back({t.freedom, -t.factor});
        coupling.equations.push_back(e);
    }
}

ModelJoint make_joint(const Model& model, const JointCard& card) {
    ModelJoint out;
    out.name = card.name;
    out.axis = card.axis;
    out.stiffness = {card.axial, card.shear, card.torsion, card.bending};
    for (std::size_t k = 0; k < 2; ++k)
        for (const CouplingId c : model.couplings.ids())
            if (!card.between[k].empty() && model.couplings[c].name == card.between[k]) out.ends[k] = c;
    const int d = model.mesh.dimension();
    const int per = model.reference_freedoms();
    // The springs sit at the first end that is a coupling; the other end reaches there like a rigid arm.
    const Vec3 at = model.couplings[out.ends[0] != CouplingId::None ? out.ends[0] : out.ends[1]].at;
    const Mat3 along = card.axis * card.axis.transpose();
    Eigen::MatrixXd springs = Eigen::MatrixXd::Zero(per, per);
    const Mat3 linear = card.axial * along + card.shear * (Mat3::Identity() - along);
    const Mat3 angular = card.torsion * along + card.bending * (Mat3::Identity() - along);
    springs.topLeftCorner(d, d) = linear.topLeftCorner(d, d);
    // In the plane every turn is about z.
    if (d == 2)
        springs(2, 2) = std::abs(card.axis.z()) > 0.5 ? card.torsion : card.bending;
    else
        springs.bottomRightCorner(3, 3) = angular;
    Eigen::MatrixXd motion = Eigen::MatrixXd::Zero(per, 0);
    for (std::size_t k = 0; k < 2; ++k) {
        const CouplingId c = out.ends[k];
        if (c == CouplingId::None) continue;
        const double sign = k == 0 ? 1.0 : -1.0;
        const Vec3 arm = at - model.couplings[c].at;
        Eigen::MatrixXd B = Eigen::MatrixXd::Identity(per, per);
        for (int a = 0; a < d; ++a)
            for (int b = d == 2 ? 2 : 0; b < 3; ++b)
                B(a, d == 2 ? 2 : 3 + b) += Vec3(Vec3::Unit(b).cross(arm))[a];
        motion.conservativeResize(Eigen::NoChange, motion.cols() + per);
        motion.rightCols(per) = sign * B;
        for (int i = 0; i < per; ++i) out.freedoms.push_back(model.freedom_of_coupling(c, i));
    }
    out.matrix = motion.transpose() * springs * motion;
    return out;
}

ModelMass make_mass(const Model& model, const MassCard& card) {
    ModelMass out;
    out.name = card.name;
    out.on = card.on;
    out.value = card.value;
    out.inertia = card.inertia;
    const Target target = find_target(model, card.on);
    require_near(model, target, card.on_place);
    const std::size_t places =
        target.points.size() + target.couplings.size() + (target.surfaces.empty() ? 0 : 1);
    if (places > 1)
        throw Error::input(card.on_place,
                           "the mass sits on several places at once, which leaves open how it is shared",
                           "Write one [[mass]] for each");
    const bool turns = !target.couplings.empty() || (model.mesh.shell() && !target.points.empty());
    if (card.inertia.norm() > 0.0 && !turns)
        throw Error::input(card.on_place, "an inertia needs a place that can turn, and this has no rotations",
                           "Put the mass on a [[coupling]]");
    const auto put = [&](std::size_t freedom, const Vec3& at, double mass) {
        out.shares.push_back({freedom, at, mass});
        for (int a = 0; a < model.mesh.dimension(); ++a)
            out.diagonal.push_back({freedom + static_cast<std::size_t>(a), mass});
    };
    if (!target.surfaces.empty()) {
        double area = 0.0;
        const auto shares = positive_shares(model.mesh, target.surfaces);
        for (const auto& [n, w] : shares) area += w;
        for (const auto& [n, w] : shares)
            put(model.freedom(n, 0), model.mesh.nodes[index(n)], card.value * w / area);
    }
    std::size_t turning = 0;
    for (const ModelPoint* p : target.points) {
        put(model.freedom(p->node, 0), model.mesh.nodes[index(p->node)], card.value);
        turning = model.freedom(p->node, 3);
    }
    for (const CouplingId c : target.couplings) {
        put(model.freedom_of_coupling(c, 0), model.couplings[c].at, card.value);
        turning = model.freedom_of_coupling(c, model.mesh.dimension() == 2 ? 2 : 3);
    }
    if (card.inertia.norm() > 0.0) {
        if (model.mesh.dimension() == 2)
            out.diagonal.push_back({turning, card.inertia.z()});
        else
            for (int a = 0; a < 3; ++a)
                out.diagonal.push_back({turning + static_cast<std::size_t>(a), card.inertia[a]});
    }
    return out;
}

namespace {

// The area that each node of a bond's side stands for: what tells the finer side.
double area_per_node(const std::vector<const ModelSurface*>& surfaces) {
    double area = 0.0;
    std::size_t nodes = 0;
    for (const ModelSurface* s : surfaces) {
        area += s->area;
        nodes += s->nodes.size();
    }
    return area / static_cast<double>(std::max<std::size_t>(1, nodes));
}

// The motion of a node that a side carries along, as terms on the side's nodes for each of its freedoms:
// shape functions at the place beside it, and across a gap the turn of the side there, so that a rigid motion
// of the side is one of the node as well.
std::vector<Equation> follow_side(const Model& model, NodeId n, const SidePlace& side) {
    const Mesh& mesh = model.mesh;
    const int d = mesh.dimension();
    const Vec3 off = mesh.nodes[index(n)] - side.place;
    const bool apart = off.norm() > 1e-9 * mesh.size;
    const double across = apart ? off.dot(side.normal) : 0.0;
    std::vector<Equation> out(static_cast<std::size_t>(mesh.freedoms()));
    for (int a = 0; a < mesh.freedoms(); ++a)
        out[static_cast<std::size_t>(a)].terms.push_back({model.freedom(n, a), 1.0});
    const auto add = [&](int a, NodeId of, int b, double factor) {
        if (factor != 0.0) out[static_cast<std::size_t>(a)].terms.push_back({model.freedom(of, b), -factor});
    };
    for (std::size_t i = 0; i < side.nodes.size(); ++i) {
        const auto k = static_cast<Eigen::Index>(i);
        const NodeId of = side.nodes[i];
        for (int a = 0; a < mesh.freedoms(); ++a) add(a, of, a, side.values[k]);
        if (!apart) continue;
        if (mesh.shell()) { // whose nodes turn themselves
            for (int b = 0; b < 3; ++b) {
                const Vec3 arm = Vec3(Vec3::Unit(b)).cross(off);
                for (int a = 0; a < 3; ++a) add(a, of, 3 + b, side.values[k] * arm[a]);
            }
            continue;
        }
        for (int t = 0; t < side.tangents; ++t) {
            const Vec3& along = side.along[static_cast<std::size_t>(t)];
            const double slope = side.slopes(t, k);
            // What lies beyond the side's border goes on straight; a turn takes the normal along.
            for (int a = 0; a < d; ++a) {
                add(a, of, a, slope * off.dot(along));
                for (int b = 0; b < d; ++b) add(a, of, b, -across * slope * along[a] * side.normal[b]);
            }
        }
    }
    return out;
}

} // namespace

// Ties the nodes of one surface to the sides of another that lie within the gap. The finer of the two
// follows: were the coarser one to follow, sides of the finer one between its nodes would carry nothing.
ModelBond make_bond(const Model& model, const BondCard& card) {
    const Mesh& mesh = model.mesh;
    ModelBond out;
    out.name = card.name;
    out.between = card.between;
    if (area_per_node(find_target(model, {card.between[0]}).surfaces) >
        (1.0 + 1e-6) * area_per_node(find_target(model, {card.between[1]}).surfaces))
        std::swap(out.between[0], out.between[1]);
    std::vector<MeshFace> sides;
    for (const ModelSurface* s : find_target(model, {out.between[1]}).surfaces)
        sides.insert(sides.end(), s->faces.begin(), s->faces.end());
    const SideFinder finder(mesh, std::move(sides));
    double nearest = 1e300;
    std::vector<NodeId> nodes;
    for (const ModelSurface* s : find_target(model, {out.between[0]}).surfaces)
        nodes.insert(nodes.end(), s->nodes.begin(), s->nodes.end());
    std::sort(nodes.begin(), nodes.end());
    nodes.erase(std::unique(nodes.begin(), nodes.end()), nodes.end());
    for (const NodeId n : nodes) {
        const SidePlace side = finder.nearest(mesh.nodes[index(n)]);
        nearest = std::min(nearest, side.distance);
        if (side.distance > card.gap) {
            ++out.loose;
            continue;
        }
        // A node that both sides share hangs together already.
        if (std::find(side.nodes.begin(), side.nodes.end(), n) != side.nodes.end()) continue;
        ++out.tied;
        out.widest = std::max(out.widest, side.distance);
        for (Equation& e : follow_side(model, n, side)) out.equations.push_back(std::move(e));
    }
    if (out.tied == 0)
        throw Error::input(
            card.place,
            fmt::format(
                "the bond \"{}\" ties nothing: \"{}\" and \"{}\" are {:.4g} {} apart and the gap is {:.4g}",
                card.name, card.between[0], card.between[1], nearest, model.units.length, card.gap),
            "Write a larger gap, or name the surfaces that face each other");
    return out;
}

} // namespace upright
