#include "mesh/fitted_mesh.hpp"
#include "mesh/generators.hpp"
#include "mesh/side_place.hpp"
#include "model/model.hpp"
#include "study/measure_word.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>

namespace upright {

namespace {

ModelSurface make_surface(const Mesh& mesh, const std::string& name, std::vector<MeshFace> faces) {
    ModelSurface out;
    out.name = name;
    out.faces = std::move(faces);
    for (const MeshFace& f : out.faces) {
        for (const SidePoint& p : mesh.face_points(f)) {
            out.area += p.area.norm();
            out.centroid += p.area.norm() * p.place;
            out.normal += p.area;
        }
        for (const NodeId node : mesh.face_nodes(f)) out.nodes.push_back(node);
    }
    out.centroid /= out.area;
    out.normal /= out.area;
    std::sort(out.nodes.begin(), out.nodes.end());
    out.nodes.erase(std::unique(out.nodes.begin(), out.nodes.end()), out.nodes.end());
    return out;
}

ModelPoint make_point(const Model& model, const PointCard& card) {
    ModelPoint out;
    out.name = card.name;
    if (const Vec3* at = std::get_if<Vec3>(&card.at)) {
        out.at = *at;
    } else {
        double area = 0.0;
        for (const ModelSurface& surface : model.surfaces) {
            if (!refers_to(std::get<std::string>(card.at), surface.name)) continue;
            out.at += surface.area * surface.centroid;
            area += surface.area;
        }
        out.at /= area;
    }
    out.off = 1e300;
    for (std::size_t n = 0; n < model.mesh.nodes.size(); ++n) {
        const double d = (model.mesh.nodes[n] - out.at).norm();
        if (d < out.off) {
            out.off = d;
            out.node = static_cast<NodeId>(n);
        }
    }
    return out;
}

// The surfaces, points and couplings that names refer to.
struct Target {
    std::vector<const ModelSurface*> surfaces;
    std::vector<const ModelPoint*> points;
    std::vector<std::size_t> couplings;
};

Target find_target(const Model& model, const std::vector<std::string>& names) {
    Target out;
    for (const ModelSurface& s : model.surfaces)
        if (refers_to(names, s.name)) out.surfaces.push_back(&s);
    for (const ModelPoint& p : model.points)
        if (refers_to(names, p.name)) out.points.push_back(&p);
    for (std::size_t c = 0; c < model.couplings.size(); ++c)
        if (refers_to(names, model.couplings[c].name)) out.couplings.push_back(c);
    return out;
}

void require_near(const Model& model, const ModelPoint& p, const Place& place) {
    if (p.off > model.node_reach())
        throw Error::input(
            place,
            fmt::format("the point \"{}\" lies {:g} {} off the body, which is more than one cell", p.name,
                        p.off, model.units.length),
            "Move it onto the body, or let a [[coupling]] carry it; loads, supports and readings are at "
            "nodes");
}

void require_near(const Model& model, const Target& target, const Place& place) {
    for (const ModelPoint* p : target.points) require_near(model, *p, place);
}

// How a force and a moment at a place spread over weighted nodes (the transpose of their mean motion).
struct Average {
    Vec3 center = Vec3::Zero();
    double weight = 0.0;
    Mat3 inverse = Mat3::Zero(); // of the second moments
};

Average average_of(const Mesh& mesh, const std::vector<std::pair<NodeId, double>>& shares) {
    Average out;
    for (const auto& [n, w] : shares) {
        out.weight += w;
        out.center += w * mesh.nodes[index(n)];
    }
    out.center /= out.weight;
    Mat3 second = Mat3::Zero();
    for (const auto& [n, w] : shares) {
        const Vec3 r = mesh.nodes[index(n)] - out.center;
        second += w * (r.squaredNorm() * Mat3::Identity() - r * r.transpose());
    }
    // Nodes on a line resist no rotation about it: that direction is left out.
    const Eigen::SelfAdjointEigenSolver<Mat3> eigen(second);
    for (int i = 0; i < 3; ++i)
        if (eigen.eigenvalues()[i] > 1e-9 * eigen.eigenvalues()[2])
            out.inverse += eigen.eigenvectors().col(i) * eigen.eigenvectors().col(i).transpose() /
                           eigen.eigenvalues()[i];
    return out;
}

// Weights for averages: the share of the area, which is zero or less at corners of second-order faces, so
// that these take what their faces' middles leave: equal parts of the face.
std::vector<std::pair<NodeId, double>> positive_shares(const Mesh& mesh,
                                                       const std::vector<const ModelSurface*>& surfaces) {
    std::map<NodeId, double> sums;
    for (const ModelSurface* s : surfaces)
        for (const MeshFace& face : s->faces) {
            const std::vector<NodeId> nodes = mesh.face_nodes(face);
            const double part = mesh.face_area(face) / static_cast<double>(nodes.size());
            for (const NodeId n : nodes) sums[n] += part;
        }
    return {sums.begin(), sums.end()};
}

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
void fill_coupling(Model& model, std::size_t c) {
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
        for (std::size_t c = 0; c < model.couplings.size(); ++c)
            if (!card.between[k].empty() && model.couplings[c].name == card.between[k])
                out.ends[k] = static_cast<int>(c);
    const int d = model.mesh.dimension();
    const int per = model.reference_freedoms();
    // The springs sit at the first end that is a coupling; the other end reaches there like a rigid arm.
    const Vec3 at =
        model.couplings[static_cast<std::size_t>(out.ends[0] >= 0 ? out.ends[0] : out.ends[1])].at;
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
        if (out.ends[k] < 0) continue;
        const auto c = static_cast<std::size_t>(out.ends[k]);
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
    for (const std::size_t c : target.couplings) {
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

ModelSupport make_support(const Model& model, const Study& study, const SupportCard& card) {
    ModelSupport out;
    out.place = card.place;
    out.name = card.name;
    out.on = card.on;
    out.hold = card.hold;
    out.move = card.move;
    const Frame* frame = card.frame.empty() ? nullptr : &study.frame(card.frame);
    out.frame = card.frame;
    out.cylindrical = frame != nullptr && frame->cylindrical;
    const std::array<const char*, 6> words =
        out.cylindrical ? std::array<const char*, 6>{"r", "t", "z", "rr", "rt", "rz"}
                        : std::array<const char*, 6>{"x", "y", "z", "rx", "ry", "rz"};
    for (std::size_t i = 0; i < 6; ++i)
        if (card.hold[i]) out.words.emplace_back(words[i]);
    const Target target = find_target(model, card.on);
    require_near(model, target, card.on_place);
    const int d = model.mesh.dimension();
    const bool turns = std::any_of(card.hold.begin() + 3, card.hold.end(), [](bool h) { return h; });
    if (turns && !model.mesh.shell() && (!target.surfaces.empty() || !target.points.empty()))
        throw Error::input(card.on_place, "nodes of a solid have no rotations to hold",
                           "Hold the displacements of a surface, or a [[coupling]]");
    // `first` is the freedom of x; `rotations` that of the first rotation, or none.
    const auto hold = [&](std::size_t first, const Vec3& at, std::optional<std::size_t> rotations) {
        ++out.nodes;
        const Mat3 axes = frame != nullptr ? frame->at(at) : Mat3::Identity();
        for (int i = 0; i < 6; ++i) {
            if (!card.hold[static_cast<std::size_t>(i)]) continue;
            Equation e;
            e.value = card.move[static_cast<std::size_t>(i)];
            if (i >= 3 && d == 2) {
                e.terms.push_back({*rotations, 1.0});
            } else {
                const Vec3 direction = axes.col(i % 3);
                for (int a = 0; a < (i < 3 ? d : 3); ++a)
                    if (std::abs(direction[a]) > 1e-14)
                        e.terms.push_back(
                            {(i < 3 ? first : *rotations) + static_cast<std::size_t>(a), direction[a]});
            }
            if (e.terms.size() == 1) {
                e.value /= e.terms[0].factor;
                e.terms[0].factor = 1.0;
                out.held.push_back(e.terms[0].freedom);
            }
            out.equations.push_back(e);
        }
    };
    std::vector<NodeId> nodes;
    for (const ModelSurface* s : target.surfaces) nodes.insert(nodes.end(), s->nodes.begin(), s->nodes.end());
    for (const ModelPoint* p : target.points) nodes.push_back(p->node);
    std::sort(nodes.begin(), nodes.end());
    nodes.erase(std::unique(nodes.begin(), nodes.end()), nodes.end());
    for (const NodeId n : nodes)
        hold(model.freedom(n, 0), model.mesh.nodes[index(n)],
             model.mesh.shell() ? std::optional(model.freedom(n, 3)) : std::nullopt);
    for (const std::size_t c : target.couplings)
        hold(model.freedom_of_coupling(c, 0), model.couplings[c].at, model.freedom_of_coupling(c, d));
    std::sort(out.held.begin(), out.held.end());
    return out;
}

} // namespace

std::vector<SymmetryCut> cutting_planes(const Model& model, const std::vector<std::string>& on) {
    const Target target = find_target(model, on);
    std::vector<SymmetryCut> out;
    for (const SymmetryCut& cut : model.mesh.symmetry) {
        const auto at_plane = [&](const Vec3& p) {
            return std::abs(p[cut.axis] - cut.at) <= 1e-6 * model.mesh.size;
        };
        const auto node = [&](NodeId n) { return at_plane(model.mesh.nodes[index(n)]); };
        bool cuts = false;
        for (const ModelSurface* s : target.surfaces)
            cuts = cuts || std::any_of(s->nodes.begin(), s->nodes.end(), node);
        for (const ModelPoint* p : target.points) cuts = cuts || node(p->node);
        for (const std::size_t c : target.couplings)
            cuts = cuts || at_plane(model.couplings[c].at) ||
                   std::any_of(model.couplings[c].nodes.begin(), model.couplings[c].nodes.end(), node);
        if (cuts) out.push_back(cut);
    }
    return out;
}

namespace {

class LoadBuilder {
  public:
    LoadBuilder(const Model& model, const Study& study, const LoadCard& card)
        : model_(model), study_(study), card_(card), target_(find_target(model, card.on)),
          forces_(model.freedoms(), 0.0), frame_(card.frame.empty() ? nullptr : &study.frame(card.frame)) {
        require_near(model, target_, card.on_place);
    }

    ModelLoad run() {
        out_.name = card_.name;
        out_.on = card_.on;
        std::visit([this](const auto& kind) { add(kind); }, card_.kind);
        if (card_.covers == Covers::Whole) {
            // The modelled part takes its share of a total on what a symmetry plane cuts.
            const double share = 1.0 / (1 << cutting_planes(model_, card_.on).size());
            for (double& f : forces_) f *= share;
        }
        for (std::size_t i = 0; i < forces_.size(); ++i)
            if (forces_[i] != 0.0) out_.forces.push_back({i, forces_[i]});
        return std::move(out_);
    }

  private:
    Mat3 axes(const Vec3& at) const { return frame_ != nullptr ? frame_->at(at) : Mat3::Identity(); }

    void push(std::size_t first, const Vec3& force) {
        for (int a = 0; a < model_.mesh.dimension(); ++a)
            forces_[first + static_cast<std::size_t>(a)] += force[a];
    }

    // Adds a traction that depends on place and outward normal to the nodes of a face, consistently.
    template <class Traction> void add_traction(const MeshFace& face, const Traction& traction) {
        const std::vector<NodeId> nodes = model_.mesh.face_nodes(face);
        for (const SidePoint& p : model_.mesh.face_points(face)) {
            const Vec3 force = traction(p);
            for (std::size_t i = 0; i < nodes.size(); ++i)
                push(model_.freedom(nodes[i], 0), p.values[static_cast<Eigen::Index>(i)] * force);
        }
    }

    void one_kind_of_target() const {
        const int kinds = (target_.surfaces.empty() ? 0 : 1) + (target_.points.empty() ? 0 : 1) +
                          (target_.couplings.empty() ? 0 : 1);
        if (kinds > 1)
            throw Error::input(
                card_.on_place,
                "the load acts on surfaces, points or couplings at once, which leaves open how it is shared",
                "Write two loads");
    }

    // A total force spreads over the area of all its surfaces together, or over its points or couplings in
    // equal shares.
    void add(const ForceLoad& force) {
        out_.kind = "force";
        spread(force.total, force.each_face);
    }

    void spread(const Vec3& total, bool each_face) {
        one_kind_of_target();
        double area = 0.0;
        for (const ModelSurface* s : target_.surfaces) area += s->area;
        for (const ModelSurface* s : target_.surfaces)
            for (const MeshFace& face : s->faces) {
                const double over = each_face ? model_.mesh.face_area(face) : area;
                add_traction(face, [&](const SidePoint& p) {
                    return Vec3(axes(p.place) * total * (p.area.norm() / over));
                });
            }
        for (const ModelPoint* p : target_.points) {
            const Vec3& at = model_.mesh.nodes[index(p->node)];
            push(model_.freedom(p->node, 0), axes(at) * total / static_cast<double>(target_.points.size()));
        }
        for (const std::size_t c : target_.couplings)
            push(model_.freedom_of_coupling(c, 0),
                 axes(model_.couplings[c].at) * total / static_cast<double>(target_.couplings.size()));
    }

    void add(const PressureLoad& pressure) {
        out_.kind = "pressure";
        out_.pressure = pressure.value;
        for (const ModelSurface* s : target_.surfaces)
            for (const MeshFace& face : s->faces)
                add_traction(face, [&](const SidePoint& p) { return Vec3(-pressure.value * p.area); });
    }

    void add(const GravityLoad& gravity) {
        out_.kind = "gravity";
        out_.gravity = gravity.acceleration;
    }

    void add(const MomentLoad& moment) {
        out_.kind = "moment";
        one_kind_of_target();
        const int d = model_.mesh.dimension();
        if (!target_.surfaces.empty()) {
            double area = 0.0;
            for (const ModelSurface* s : target_.surfaces) area += s->area;
            const auto shares = positive_shares(model_.mesh, target_.surfaces);
            const Average mean = average_of(model_.mesh, shares);
            const Vec3 turn = mean.inverse * (axes(mean.center) * moment.total);
            for (const auto& [n, w] : shares)
                push(model_.freedom(n, 0), w * turn.cross(model_.mesh.nodes[index(n)] - mean.center));
            return;
        }
        if (!target_.points.empty() && !model_.mesh.shell())
            throw Error::input(card_.on_place,
                               "a point of a solid or plane model has no rotation to take a moment",
                               "Put the moment on a surface or a [[coupling]]");
        const auto turn = [&](std::size_t rotations, const Vec3& at, std::size_t count) {
            const Vec3 m = axes(at) * moment.total / static_cast<double>(count);
            if (d == 2)
                forces_[rotations] += m.z();
            else
                for (int a = 0; a < 3; ++a) forces_[rotations + static_cast<std::size_t>(a)] += m[a];
        };
        for (const ModelPoint* p : target_.points)
            turn(model_.freedom(p->node, 3), model_.mesh.nodes[index(p->node)], target_.points.size());
        for (const std::size_t c : target_.couplings)
            turn(model_.freedom_of_coupling(c, d), model_.couplings[c].at, target_.couplings.size());
    }

    void add(const TowardLoad& toward) {
        out_.kind = "toward";
        const auto place = [&](const std::variant<Vec3, std::string>& at) {
            if (const Vec3* p = std::get_if<Vec3>(&at)) return *p;
            for (const ModelPoint& p : model_.points)
                if (refers_to(std::get<std::string>(at), p.name)) return p.at;
            return Vec3(Vec3::Zero());
        };
        const Vec3 way = place(toward.to) - place(toward.from);
        if (way.norm() <= 1e-12 * model_.mesh.bounds.diagonal())
            throw Error::input(card_.place, "the load \"" + card_.name + "\" goes from a place to itself");
        spread(toward.size * way.normalized(), false);
    }

    void add(const SpinLoad& spin) {
        out_.kind = "spin";
        const Frame& frame = study_.frame(spin.frame);
        out_.spin = Spin{frame.origin, frame.axes.col(2), spin.speed, spin.speed_up};
    }

    void add(const HeatLoad& heat) {
        out_.kind = "heat";
        out_.heat = heat.rise;
    }

    const Model& model_;
    const Study& study_;
    const LoadCard& card_;
    Target target_;
    std::vector<double> forces_;
    const Frame* frame_;
    ModelLoad out_;
};

std::vector<Equation> hold_symmetry(const Model& model) {
    std::vector<Equation> out;
    const Mesh& mesh = model.mesh;
    for (const SymmetryCut& cut : mesh.symmetry)
        for (std::size_t n = 0; n < mesh.nodes.size(); ++n) {
            if (std::abs(mesh.nodes[n][cut.axis] - cut.at) > 1e-6 * mesh.size) continue;
            const auto id = static_cast<NodeId>(n);
            out.push_back({{{model.freedom(id, cut.axis), 1.0}}, 0.0});
            // A plate that is mirrored does not turn about axes in the plane.
            if (mesh.shell())
                for (int a = 0; a < 3; ++a)
                    if (a != cut.axis) out.push_back({{{model.freedom(id, 3 + a), 1.0}}, 0.0});
        }
    return out;
}

void add_regions(Model& model) {
    for (std::size_t e = 0; e < model.mesh.elements(); ++e) {
        ModelRegion& region = model.regions[index(model.mesh.region[e])];
        const double volume = model.mesh.volume(static_cast<ElementId>(e));
        ++region.elements;
        region.volume += volume;
        region.mass += volume * model.material(static_cast<ElementId>(e)).density;
    }
}

std::vector<std::size_t> supports_of(const Study& study, const std::vector<std::string>& names) {
    std::vector<std::size_t> out;
    for (std::size_t s = 0; s < study.supports.size(); ++s)
        if (refers_to(names, study.supports[s].name)) out.push_back(s);
    return out;
}

void add_cases(Model& model, const Study& study) {
    for (const ModalCase& card : study.modal_cases)
        model.modal_cases.push_back({card.name, supports_of(study, card.supports), card.modes,
                                     card.up_to.value_or(0.0), card.lumped});
    for (const StaticCase& card : study.cases) {
        ModelCase c;
        c.name = card.name;
        c.weight = card.weight;
        c.supports = supports_of(study, card.supports);
        for (const auto& [name, factor] : card.loads)
            for (std::size_t l = 0; l < study.loads.size(); ++l)
                if (study.loads[l].name == name) c.loads.emplace_back(l, factor);
        model.cases.push_back(c);
    }
}

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

// What painting did to the regions.
void count_cells(Model& model, const Study& study, const Painting& painting, const Cells& cells) {
    for (std::size_t r = 0; r < model.regions.size(); ++r) {
        ModelRegion& region = model.regions[r];
        const std::vector<bool>& covered = painting.covered[r];
        for (std::size_t c = 0; c < covered.size(); ++c) {
            if (!covered[c]) continue;
            ++region.painted;
            if (region.role == Role::Void) {
                for (std::size_t before = 0; before < r; ++before)
                    if (study.regions[before].role != Role::Void && painting.covered[before][c]) {
                        ++region.taken;
                        // Cells of a plane are as thick as the mesh until they are painted.
                        region.taken_volume +=
                            cells.volume(c) *
                            (cells.plane() && study.mesh.kind != MeshKind::File
                                 ? study.thickness(static_cast<RegionId>(before)) / study.mesh.thickness
                                 : 1.0);
                        break;
                    }
            } else if (const RegionId owner = painting.owner[c];
                       owner != RegionId::None && index(owner) > r &&
                       study.regions[index(owner)].role == Role::Void) {
                ++region.lost;
            }
        }
    }
}

std::vector<std::vector<MeshFace>> faces_of(const Painting& painting,
                                            const std::vector<std::int32_t>& number) {
    std::vector<std::vector<MeshFace>> out;
    for (const std::vector<CellFace>& list : painting.surfaces) {
        out.emplace_back();
        for (const CellFace& f : list) out.back().push_back({static_cast<ElementId>(number[f.cell]), f.side});
    }
    return out;
}

// Symmetry planes of a mesh that was made elsewhere: they must lie on its boundary.
void add_cuts(Mesh& mesh, const Study& study) {
    for (const SymmetryPlane& plane : study.symmetry) {
        const double low = mesh.bounds.low[plane.axis];
        const double high = mesh.bounds.high[plane.axis];
        const double slack = 1e-6 * mesh.bounds.diagonal();
        const bool at_low = std::abs(plane.at - low) < slack;
        if (!at_low && std::abs(plane.at - high) > slack)
            throw Error::input(
                plane.place,
                fmt::format("the symmetry plane {} = {:g} is no side of the mesh, which spans {:g} to {:g}",
                            "xyz"[plane.axis], plane.at, low, high),
                "A mesh from a file is taken as it is: it must be the modelled part");
        mesh.symmetry.push_back({plane.axis, at_low ? low : high, !at_low});
    }
}

// Regions painted on a mesh that is there; its solid part remains.
void paint_mesh(Model& model, const Study& study, Mesh raw, bool stairs, const MeshSets* sets,
                std::vector<std::vector<MeshFace>>& surfaces) {
    Painting painting;
    std::vector<std::int32_t> number;
    {
        const MeshCells cells(raw, stairs, sets);
        painting = paint(study, cells);
        count_cells(model, study, painting, cells);
    }
    number = keep_solid(raw, study, painting);
    surfaces = faces_of(painting, number);
    model.extents = std::move(painting.extents);
    model.mesh = std::move(raw);
}

// Layers under surfaces can only be found on the mesh: elements of which half lies within the depth of the
// picked faces. None elsewhere, as painting in order has them.
std::vector<RegionId> surface_layers(const Study& study, const Mesh& mesh, RegionExtents& extents) {
    const MeshCells cells(mesh, false);
    Painting painting = paint(study, cells);
    std::vector<RegionId> out = std::move(painting.owner);
    for (RegionId& r : out)
        if (r != RegionId::None &&
            !(index(r) < painting.extents.skins.size() && painting.extents.skins[index(r)]))
            r = RegionId::None;
    extents = std::move(painting.extents);
    return out;
}

bool has_surface_layers(const Study& study) {
    return std::any_of(study.regions.begin(), study.regions.end(),
                       [&](const RegionCard& card) { return is_surface_layer(study, card); });
}

// A fitted mesh comes with its regions; what else painting tells is asked of the elements' middles.
void make_fitted(Model& model, const Study& study, std::vector<std::vector<MeshFace>>& surfaces) {
    model.extents = find_rings(study);
    FittedMesh fitted = make_fitted_mesh(study, model.extents);
    model.mesh = std::move(fitted.mesh);
    model.remarks = std::move(fitted.remarks);
    if (has_surface_layers(study)) {
        const std::vector<RegionId> layers = surface_layers(study, model.mesh, model.extents);
        std::vector<std::size_t> count(study.regions.size(), 0);
        for (std::size_t e = 0; e < layers.size(); ++e)
            if (layers[e] != RegionId::None) {
                model.mesh.region[e] = layers[e];
                ++count[index(layers[e])];
            }
        for (std::size_t r = 0; r < count.size(); ++r)
            if (count[r] > 0)
                model.remarks.push_back(
                    fmt::format("the layer \"{}\" under a surface takes whole elements: its "
                                "inner border is no smooth face",
                                study.regions[r].name));
    }
    Painting painting;
    painting.extents = model.extents;
    painting.owner = model.mesh.region;
    for (std::size_t r = 0; r < study.regions.size(); ++r) {
        std::vector<bool> covered(model.mesh.elements(), false);
        if (study.regions[r].role != Role::Void)
            for (std::size_t e = 0; e < covered.size(); ++e)
                covered[e] = model.mesh.region[e] == static_cast<RegionId>(r) ||
                             region_distance(study, model.extents, static_cast<RegionId>(r),
                                             model.mesh.centers[e]) <= 0.0;
        painting.covered.push_back(std::move(covered));
    }
    const MeshCells cells(model.mesh, false);
    pick_surfaces(study, cells, painting);
    count_cells(model, study, painting, cells);
    std::vector<std::int32_t> number(model.mesh.elements());
    for (std::size_t e = 0; e < number.size(); ++e) number[e] = static_cast<std::int32_t>(e);
    surfaces = faces_of(painting, number);
}

void make_mesh(Model& model, const Study& study, std::vector<std::vector<MeshFace>>& surfaces) {
    switch (study.mesh.kind) {
    case MeshKind::Grid: {
        if (study.mesh.shell())
            return paint_mesh(model, study, make_shell_mesh(study, make_cell_grid(study)), true, nullptr,
                              surfaces);
        Painting painting = paint(study, make_cell_grid(study));
        model.mesh = make_grid_mesh(study, painting);
        count_cells(model, study, painting, GridCells(painting.grid));
        surfaces = faces_of(painting, model.mesh.element_of);
        model.extents = std::move(painting.extents);
        return;
    }
    case MeshKind::Polar:
        return paint_mesh(model, study, make_polar_mesh(study), true, nullptr, surfaces);
    case MeshKind::File: {
        FileMesh file = read_mesh_file(*study.mesh.file, study.mesh.place, study.mesh.file_scale,
                                       study.mesh.sweep ? ElementFamily::PlaneStress : study.mesh.family);
        if (study.mesh.sweep) {
            const std::size_t layers = static_cast<std::size_t>(study.mesh.sweep->layers);
            file.mesh = sweep(file.mesh, study.mesh.sweep->along, study.mesh.sweep->layers);
            for (auto& [name, values] : file.sets.cells) {
                const std::vector<double> one = values;
                for (std::size_t k = 1; k < layers; ++k) values.insert(values.end(), one.begin(), one.end());
            }
            for (auto& [name, values] : file.sets.points) {
                const std::vector<double> one = values;
                for (std::size_t k = 0; k < layers; ++k) values.insert(values.end(), one.begin(), one.end());
            }
        }
        add_cuts(file.mesh, study);
        return paint_mesh(model, study, std::move(file.mesh), false, &file.sets, surfaces);
    }
    case MeshKind::Fitted:
        return make_fitted(model, study, surfaces);
    }
}

} // namespace

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
    return {couplings[rest / each].at, component};
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
    for (const std::size_t s : c.supports)
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

int Model::coupling_at(const ModelPoint& point) const {
    for (std::size_t c = 0; c < couplings.size(); ++c)
        if ((couplings[c].at - point.at).norm() <= 1e-9 * mesh.bounds.diagonal()) return static_cast<int>(c);
    return -1;
}

void Model::body_force(const ModelLoad& load, ElementId e, std::vector<Vec3>& out) const {
    const NodeRange ids = mesh.nodes_of(e);
    out.assign(ids.size(), Vec3::Zero());
    const double density = material(e).density;
    const std::size_t first = mesh.starts[index(e)];
    if (!load.spin) {
        for (std::size_t i = 0; i < ids.size(); ++i)
            out[i] = density * mesh.node_volumes[first + i] * *load.gravity;
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

Model build_model(const Study& study) {
    Model model;
    model.units = study.units;
    model.family = study.mesh.family;
    model.formulation = study.mesh.formulation;
    model.materials = study.materials;
    for (const RegionCard& card : study.regions) {
        ModelRegion region;
        region.name = card.name;
        region.role = card.role;
        for (std::size_t m = 0; m < study.materials.size(); ++m)
            if (study.materials[m].name == card.material) region.material = static_cast<int>(m);
        model.regions.push_back(region);
    }
    std::vector<std::vector<MeshFace>> surfaces;
    make_mesh(model, study, surfaces);
    add_regions(model);
    for (std::size_t s = 0; s < study.surfaces.size(); ++s)
        model.surfaces.push_back(make_surface(model.mesh, study.surfaces[s].name, std::move(surfaces[s])));
    for (const PointCard& card : study.points) model.points.push_back(make_point(model, card));
    for (const CouplingCard& card : study.couplings) model.couplings.push_back(make_coupling(model, card));
    for (std::size_t c = 0; c < model.couplings.size(); ++c) fill_coupling(model, c);
    for (const JointCard& card : study.joints) model.joints.push_back(make_joint(model, card));
    for (const MassCard& card : study.masses) model.masses.push_back(make_mass(model, card));
    for (const BondCard& card : study.bonds) model.bonds.push_back(make_bond(model, card));
    for (const SupportCard& card : study.supports) model.supports.push_back(make_support(model, study, card));
    model.symmetry = hold_symmetry(model);
    for (const LoadCard& card : study.loads) model.loads.push_back(LoadBuilder(model, study, card).run());
    for (const ResponseCard& card : study.responses)
        if (card.measure->at_place)
            for (const ModelPoint& p : model.points)
                if (refers_to(card.at, p.name) && model.coupling_at(p) < 0)
                    require_near(model, p, card.at_place);
    add_cases(model, study);
    return model;
}

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
