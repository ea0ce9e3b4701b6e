// Supports and symmetry planes.
#include "model/build/parts.hpp"

#include <algorithm>
#include <cmath>

namespace upright {

ModelSupport make_support(const Model& model, const std::vector<Frame>& frames, const SupportCard& card) {
    ModelSupport out;
    out.place = card.place;
    out.name = card.name;
    out.on = card.on;
    out.hold = card.hold;
    out.move = card.move;
    const Frame* frame = frame_named(frames, card.frame);
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
    for (const CouplingId c : target.couplings)
        hold(model.freedom_of_coupling(c, 0), model.couplings[c].at, model.freedom_of_coupling(c, d));
    std::sort(out.held.begin(), out.held.end());
    return out;
}

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
        for (const CouplingId c : target.couplings)
            cuts = cuts || at_plane(model.couplings[c].at) ||
                   std::any_of(model.couplings[c].nodes.begin(), model.couplings[c].nodes.end(), node);
        if (cuts) out.push_back(cut);
    }
    return out;
}

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

} // namespace upright
