#include "response/response.hpp"

namespace upright {

namespace {

bool mass_like(Measure m) {
    return m == Measure::Mass || m == Measure::MassFraction;
}
bool fraction(Measure m) {
    return m == Measure::MassFraction || m == Measure::VolumeFraction;
}

} // namespace

std::vector<double> linear_weights(const Model& model, const ResponseCard& response) {
    std::vector<double> out(model.mesh.elements(), 0.0);
    double total = 0.0;
    std::vector<bool> counted;
    for (const ModelRegion& region : model.regions)
        counted.push_back(response.of.empty() ? region.role == Role::Design
                                              : refers_to(response.of, region.name));
    for (std::size_t e = 0; e < out.size(); ++e) {
        const auto id = static_cast<ElementId>(e);
        if (!counted[index(model.mesh.region[e])]) continue;
        out[e] = model.mesh.volume(id) * (mass_like(response.measure) ? model.material(id).density : 1.0);
        total += out[e];
    }
    if (fraction(response.measure) && total > 0.0)
        for (double& weight : out) weight /= total;
    return out;
}

std::optional<double> upper_bound(const Study& study, const ResponseCard& response) {
    if (!response.max_share) return response.max;
    std::optional<double> out;
    for (const RegionCard& region : study.regions) {
        if (region.role == Role::Void || (!response.of.empty() && !refers_to(response.of, region.name)))
            continue;
        for (const Material& m : study.materials) {
            const std::optional<double>& own = response.max_share->ultimate ? m.ultimate : m.yield;
            if (m.name != region.material || !own) continue;
            const double limit = response.max_share->share * *own;
            if (!out || limit < *out) out = limit;
        }
    }
    return out;
}

} // namespace upright
