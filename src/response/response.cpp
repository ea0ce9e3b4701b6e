#include "response/response.hpp"

#include "design/interpolation.hpp"

#include <algorithm>
#include <cmath>

namespace upright {

namespace {

bool mass_like(Measure m) {
    return m == Measure::Mass || m == Measure::MassFraction;
}
bool fraction(Measure m) {
    return m == Measure::MassFraction || m == Measure::VolumeFraction;
}

// Adds the part of the gradient that comes from loads which weigh with the material.
void add_gravity(const Model& model, const ModelCase& c, const Eigen::VectorXd& u, double factor,
                 std::vector<double>& gradient) {
    const int d = model.mesh.dimension();
    const int corners = model.mesh.nodes_per_element();
    Vec3 acceleration = Vec3::Zero();
    for (const auto& [l, share] : c.loads)
        if (model.loads[l].gravity) acceleration += share * *model.loads[l].gravity;
    if (acceleration == Vec3::Zero()) return;
    for (std::size_t e = 0; e < gradient.size(); ++e) {
        const auto id = static_cast<ElementId>(e);
        const double share = model.material(id).density * model.mesh.volume(id) / corners;
        double work = 0.0;
        for (int a = 0; a < corners; ++a)
            work += u.segment(static_cast<Eigen::Index>(index(model.mesh.node(id, a))) * d, d)
                        .dot(acceleration.head(d));
        gradient[e] += factor * 2.0 * share * work;
    }
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

Measured compliance(const StaticAnalysis& analysis, const ResponseCard& response,
                    const std::vector<CaseResult>& results, const std::vector<double>& density,
                    double penalty, bool with_gradient) {
    const Model& model = analysis.model();
    Measured out;
    const std::vector<double> slope =
        with_gradient ? stiffness_slope(density, penalty) : std::vector<double>{};
    if (with_gradient) out.gradient.assign(density.size(), 0.0);
    for (std::size_t c = 0; c < results.size(); ++c) {
        const ModelCase& card = model.cases[c];
        const bool one = !response.in_case.empty();
        if (one && !refers_to(response.in_case, card.name)) continue;
        const double weight = one ? 1.0 : card.weight;
        if (weight == 0.0) continue;
        out.value += weight * results[c].compliance;
        if (!with_gradient) continue;
        const std::vector<double> energy = analysis.unit_energy(results[c].displacement);
        for (std::size_t e = 0; e < energy.size(); ++e) out.gradient[e] -= weight * slope[e] * energy[e];
        add_gravity(model, card, results[c].displacement, weight, out.gradient);
    }
    return out;
}

Measured measure(const StaticAnalysis& analysis, const ResponseCard& response,
                 const std::vector<CaseResult>& results, const std::vector<double>& density, double penalty,
                 bool with_gradient) {
    if (response.measure == Measure::Compliance)
        return compliance(analysis, response, results, density, penalty, with_gradient);
    Measured out;
    out.gradient = linear_weights(analysis.model(), response);
    for (std::size_t e = 0; e < density.size(); ++e) out.value += out.gradient[e] * density[e];
    if (!with_gradient) out.gradient.clear();
    return out;
}

bool holds(const ResponseCard& response, double value) {
    const auto slack = [](double bound) { return bound_tolerance * std::abs(bound); };
    if (response.max && value > *response.max + slack(*response.max)) return false;
    return !(response.min && value < *response.min - slack(*response.min));
}

} // namespace upright
