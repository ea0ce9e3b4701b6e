#include "model/finished.hpp"

namespace upright {

Model finished(const Model& model) {
    Model out = model;
    if (model.finishes.empty()) return out; // what infill there is stays
    out.shapes = model.shapes.with(model.finishes);
    for (const RegionCard& card : model.finishes) {
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
    out.regions.insert(out.regions.end(), study.finishes.begin(), study.finishes.end());
    out.finishes.clear();
    return out;
}

} // namespace upright
