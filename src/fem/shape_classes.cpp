#include "fem/shape_classes.hpp"

#include "fem/elasticity.hpp"

#include <map>

namespace upright {

ShapeClasses shape_classes(const Model& model) {
    const Mesh& mesh = model.mesh;
    ShapeClasses out;
    out.of.reserve(mesh.elements());
    std::map<std::pair<int, double>, std::uint32_t> known;
    for (std::size_t e = 0; e < mesh.elements(); ++e) {
        const auto id = static_cast<ElementId>(e);
        const auto next = static_cast<std::uint32_t>(out.example.size());
        if (mesh.on_grid() && same_everywhere(model.material(id))) {
            const int material = model.regions[index(mesh.region[e])].material;
            const auto [found, fresh] = known.emplace(std::pair{material, mesh.depth(id)}, next);
            out.of.push_back(found->second);
            if (fresh) out.example.push_back(id);
        } else {
            out.of.push_back(next);
            out.example.push_back(id);
        }
    }
    return out;
}

} // namespace upright
