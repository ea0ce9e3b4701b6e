#include "part/anchors.hpp"

namespace upright {

namespace {

// The places on which the supports and loads of the cases act.
template <class Cards, class Pick>
std::vector<bool> used_by_cases(const Model& model, const Cards& cards, const Pick& pick) {
    std::vector<bool> out(cards.size(), false);
    for (const ModelCase& c : model.cases) pick(c, out);
    return out;
}

} // namespace

std::vector<Anchor> anchors_of(const Model& model) {
    std::vector<Anchor> out;
    const auto add = [&](const std::string& card, const std::vector<std::string>& on) {
        for (const ModelSurface& s : model.surfaces) {
            if (!refers_to(on, s.name)) continue;
            Anchor anchor{card + " on " + s.name, card, {}};
            for (const MeshFace& f : s.faces)
                anchor.places.push_back(model.mesh.shell()
                                            ? model.mesh.center(f.element)
                                            : Vec3(model.mesh.face_center(f) -
                                                   0.4 * model.mesh.size * model.mesh.face_normal(f)));
            out.push_back(std::move(anchor));
        }
        for (const ModelCoupling& c : model.couplings) {
            if (!refers_to(on, c.name)) continue;
            Anchor anchor{card + " on " + c.name, card, {}};
            for (const NodeId n : c.nodes) anchor.places.push_back(model.mesh.nodes[index(n)]);
            out.push_back(std::move(anchor));
        }
        for (const ModelPoint& p : model.points) {
            if (!refers_to(on, p.name)) continue;
            Anchor anchor{card + " on " + p.name, card, {}};
            anchor.places.push_back(model.mesh.nodes[index(p.node)]);
            out.push_back(std::move(anchor));
        }
    };
    const auto supports =
        used_by_cases(model, model.supports, [](const ModelCase& c, std::vector<bool>& used) {
            for (const SupportId s : c.supports) used[index(s)] = true;
        });
    const auto loads = used_by_cases(model, model.loads, [](const ModelCase& c, std::vector<bool>& used) {
        for (const auto& [l, factor] : c.loads) used[index(l)] = used[index(l)] || factor != 0.0;
    });
    for (const SupportId s : model.supports.ids())
        if (supports[index(s)]) add("support " + model.supports[s].name, model.supports[s].on);
    for (const ModelJoint& j : model.joints)
        for (const CouplingId end : j.ends)
            if (end != CouplingId::None) add("joint " + j.name, {model.couplings[end].name});
    for (const ModelMass& m : model.masses) add("mass " + m.name, m.on);
    for (const LoadId l : model.loads.ids())
        if (loads[index(l)]) add("load " + model.loads[l].name, model.loads[l].on);
    return out;
}

} // namespace upright
