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

// Adds the part of the gradient that comes from loads that act on the material: (u + adjoint)' df/drho.
void add_body_loads(const StaticAnalysis& analysis, const ModelCase& c, const CaseResult& result,
                    double factor, const std::vector<double>& slope, std::vector<double>& gradient) {
    const Model& model = analysis.model();
    const int d = model.mesh.dimension();
    const Eigen::VectorXd both = result.displacement + result.adjoint();
    std::vector<Vec3> parts;
    for (const auto& [l, share] : c.loads) {
        const ModelLoad& load = model.loads[l];
        if (!load.of_body()) continue;
        for (std::size_t e = 0; e < gradient.size(); ++e) {
            const auto id = static_cast<ElementId>(e);
            model.body_force(load, id, parts);
            const NodeRange ids = model.mesh.nodes_of(id);
            double work = 0.0;
            for (std::size_t i = 0; i < ids.size(); ++i)
                work += both.segment(static_cast<Eigen::Index>(model.freedom(ids[i], 0)), d)
                            .dot(parts[i].head(d));
            gradient[e] += factor * share * work;
        }
    }
    const std::vector<double> heat = analysis.unit_heat_work(c, both);
    for (std::size_t e = 0; e < heat.size(); ++e) gradient[e] += factor * slope[e] * heat[e];
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
        const Eigen::VectorXd& adjoint = results[c].adjoint();
        const std::vector<double> energy = analysis.unit_energy(results[c].displacement, &adjoint);
        for (std::size_t e = 0; e < energy.size(); ++e) out.gradient[e] -= weight * slope[e] * energy[e];
        add_body_loads(analysis, card, results[c], weight, slope, out.gradient);
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
