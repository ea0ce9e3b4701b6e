#include "model/finished.hpp"

#include "model/thickened.hpp"
#include "study/mesh_word.hpp"

#include <algorithm>
#include <iterator>

namespace upright {

namespace {

// What bounds the cells of each region that is a set of them; null for others, and where none are left.
std::vector<std::shared_ptr<const FacetBody>> bodies_of_cells(const Model& model, const Mesh& mesh) {
    std::vector<std::shared_ptr<const FacetBody>> out(model.regions.size());
    std::vector<bool> of_cells(out.size());
    for (std::size_t r = 0; r < out.size(); ++r) {
        const auto* shape = std::get_if<Shape>(&model.shapes[r].extent);
        of_cells[r] = shape != nullptr && std::holds_alternative<CellSet>(*shape);
    }
    const Neighbours beyond = find_neighbours(mesh);
    std::vector<FacetMesh> borders(out.size());
    for (std::size_t e = 0; e < mesh.elements(); ++e) {
        const auto id = static_cast<ElementId>(e);
        const RegionId region = mesh.region[e];
        if (!of_cells[index(region)]) continue;
        for (int side = 0; side < mesh.sides(id); ++side) {
            const std::int32_t o = beyond.at(id, side);
            if (o >= 0 && mesh.region[static_cast<std::size_t>(o)] == region) continue;
            const std::vector<NodeId> ring = mesh.face_corners({id, side});
            for (std::size_t i = 2; i < ring.size(); ++i)
                borders[index(region)].triangles.push_back({static_cast<std::int32_t>(index(ring[0])),
                                                            static_cast<std::int32_t>(index(ring[i - 1])),
                                                            static_cast<std::int32_t>(index(ring[i]))});
        }
    }
    for (std::size_t r = 0; r < out.size(); ++r) {
        if (borders[r].triangles.empty()) continue;
        borders[r].points = mesh.nodes;
        number_patches(borders[r], sharp_in_file);
        out[r] = std::make_shared<const FacetBody>(model.regions[r].name, std::move(borders[r]));
    }
    return out;
}

bool has_shape(const RegionCard& card) {
    return std::holds_alternative<Shape>(card.extent);
}

} // namespace

Model finished(const Model& model) {
    Model out = model;
    if (made_of_sheets(model)) {
        try {
            out.shapes = model.shapes.with_bodies(bodies_of_cells(model, thickened(model).mesh));
        } catch (const Error&) { // nothing is carved of it, and why is said there
        }
    } else if (model.made_by.kind->from_file) {
        out.shapes = model.shapes.with_bodies(bodies_of_cells(model, model.mesh));
    }
    if (model.finishes.empty()) return out; // what infill there is stays
    std::vector<RegionCard> finishes = model.finishes;
    std::stable_partition(finishes.begin(), finishes.end(), has_shape);
    out.shapes = out.shapes.with(finishes);
    for (const RegionCard& card : finishes) {
        ModelRegion region;
        region.name = card.name;
        region.role = card.role;
        for (const MaterialId m : model.materials.ids())
            if (model.materials[m].name == card.material) region.material = m;
        out.regions.push_back(region);
    }
    out.finishes.clear();
    return out;
}

Study finished(const Study& study) {
    Study out = study;
    std::copy_if(study.finishes.begin(), study.finishes.end(), std::back_inserter(out.regions), has_shape);
    out.finishes.clear();
    return out;
}

} // namespace upright
