// Loads as forces on freedoms.
#include "model/build/parts.hpp"

#include <Eigen/Geometry>
#include <fmt/format.h>

namespace upright {

namespace {

class LoadBuilder {
  public:
    LoadBuilder(const Model& model, const std::vector<Frame>& frames, const LoadCard& card)
        : model_(model), frames_(frames), card_(card), target_(find_target(model, card.on)),
          forces_(model.freedoms(), 0.0), frame_(frame_named(frames, card.frame)) {
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
        out_.kind = LoadKind::Force;
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
        for (const CouplingId c : target_.couplings)
            push(model_.freedom_of_coupling(c, 0),
                 axes(model_.couplings[c].at) * total / static_cast<double>(target_.couplings.size()));
    }

    void add(const PressureLoad& pressure) {
        out_.kind = LoadKind::Pressure;
        out_.pressure = pressure.value;
        for (const ModelSurface* s : target_.surfaces)
            for (const MeshFace& face : s->faces)
                add_traction(face, [&](const SidePoint& p) { return Vec3(-pressure.value * p.area); });
    }

    void add(const GravityLoad& gravity) {
        out_.kind = LoadKind::Gravity;
        out_.gravity = gravity.acceleration;
    }

    void add(const MomentLoad& moment) {
        out_.kind = LoadKind::Moment;
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
        for (const CouplingId c : target_.couplings)
            turn(model_.freedom_of_coupling(c, d), model_.couplings[c].at, target_.couplings.size());
    }

    void add(const TowardLoad& toward) {
        out_.kind = LoadKind::Toward;
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
        out_.kind = LoadKind::Spin;
        const Frame& frame = *frame_named(frames_, spin.frame);
        out_.spin = Spin{frame.origin, frame.axes.col(2), spin.speed, spin.speed_up};
    }

    void add(const HeatLoad& heat) {
        out_.kind = LoadKind::Heat;
        out_.heat = heat.rise;
    }

    const Model& model_;
    const std::vector<Frame>& frames_;
    const LoadCard& card_;
    Target target_;
    std::vector<double> forces_;
    const Frame* frame_;
    ModelLoad out_;
};

} // namespace

ModelLoad make_load(const Model& model, const std::vector<Frame>& frames, const LoadCard& card) {
    return LoadBuilder(model, frames, card).run();
}

} // namespace upright
