#include "design/repeat_boxes.hpp"

namespace upright {

std::optional<Bounds> design_box(const Model& model, const std::string& region) {
    Bounds out;
    bool any = false;
    for (std::size_t e = 0; e < model.mesh.elements(); ++e) {
        const ModelRegion& one = model.regions[index(model.mesh.region[e])];
        if (one.role != Role::Design || !refers_to(region, one.name)) continue;
        any = true;
        for (const NodeId n : model.mesh.nodes_of(static_cast<ElementId>(e)))
            out.include(model.mesh.nodes[index(n)]);
    }
    if (!any) return std::nullopt;
    return out;
}

Vec3 into_first(const Vec3& p, const Bounds& first, const Bounds& other, bool mirrored) {
    Vec3 out = first.low + (p - other.low);
    if (!mirrored) return out;
    // Across the axis along which the two lie farthest apart.
    int axis = 0;
    (other.low - first.low).cwiseAbs().maxCoeff(&axis);
    out[axis] = first.high[axis] - (p[axis] - other.low[axis]);
    return out;
}

} // namespace upright
