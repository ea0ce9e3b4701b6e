#include "fem/error_estimate.hpp"

#include "fem/element.hpp"

#include <Eigen/Dense>
#include <array>
#include <cmath>

namespace upright {

namespace {

std::vector<Vec3> natural_points(ElementKind kind) {
    std::vector<Vec3> out;
    for (const RulePoint& p : integration_rule(kind)) out.push_back(p.at);
    return out;
}

// In the axes of space.
using Places = Eigen::Matrix<double, 3, Eigen::Dynamic, 0, 3, 20>;

// Of a solid, from its places, their displacements and the gradients of the interpolation by natural
// coordinates.
Voigt solid_stress(const Elastic6& D, const Places& x, const Places& u, const Places& natural, Mat3& J) {
    J = x.lazyProduct(natural.transpose());
    const Mat3 H = Mat3(u.lazyProduct(natural.transpose())) * J.inverse();
    Voigt strain;
    strain << H(0, 0), H(1, 1), H(2, 2), H(0, 1) + H(1, 0), H(1, 2) + H(2, 1), H(2, 0) + H(0, 2);
    return D * strain;
}

} // namespace

ErrorEstimate estimate_error(const StaticAnalysis& analysis, const ModelCase& c, const Eigen::VectorXd& u,
                             const RegionNodes& nodes, const StressField& field,
                             const std::vector<Voigt>& recovered) {
    const Model& model = analysis.model();
    const Mesh& mesh = model.mesh;
    ErrorEstimate out;
    out.element.resize(mesh.elements());
    const auto layers = static_cast<std::size_t>(field.layers);
    // Interpolation at the points of each kind's rule.
    struct Sample {
        Eigen::VectorXd N;
        Eigen::MatrixXd G;
        double weight = 0.0;
    };
    std::array<std::vector<Sample>, element_kinds> samples;
    std::array<std::vector<Vec3>, element_kinds> natural;
    for (const ElementKind kind : mesh.kinds) {
        auto& list = samples[static_cast<std::size_t>(kind)];
        if (!list.empty()) continue;
        natural[static_cast<std::size_t>(kind)] = natural_points(kind);
        for (const RulePoint& p : integration_rule(kind)) {
            Sample s;
            interpolate(kind, p.at, s.N, s.G);
            s.weight = p.weight;
            list.push_back(s);
        }
    }
    const bool solid = mesh.dimension() == 3 && !mesh.shell();
    const double rise = analysis.rise(c);
    std::vector<Elastic6> compliance(model.materials.size(), Elastic6::Zero());
    std::vector<bool> have(model.materials.size(), false);
    for (std::size_t i = 0; i < mesh.elements(); ++i) {
        const auto material = static_cast<std::size_t>(model.regions[index(mesh.region[i])].material);
        if (have[material] || !same_everywhere(model.material(static_cast<ElementId>(i)))) continue;
        compliance[material] = compliance_in_space(model, static_cast<ElementId>(i));
        have[material] = true;
    }
    std::vector<double> energy_of(mesh.elements(), 0.0);
#pragma omp parallel for schedule(static)
    for (std::size_t i = 0; i < mesh.elements(); ++i) {
        const auto e = static_cast<ElementId>(i);
        const ElementKind kind = mesh.kinds[i];
        const std::vector<Sample>& list = samples[static_cast<std::size_t>(kind)];
        const auto material = static_cast<std::size_t>(model.regions[index(mesh.region[i])].material);
        const Elastic6 C = have[material] ? compliance[material] : compliance_in_space(model, e);
        Eigen::MatrixXd x = places_of(mesh, e);
        if (mesh.shell()) x = (shell_axes(x).transpose() * x).topRows(2);
        const double depth = mesh.dimension() == 2 || mesh.shell() ? mesh.depth(e) : 1.0;
        const std::size_t first = mesh.start(i);
        const bool second = traits(kind).nodes > traits(kind).corners;
        std::vector<Voigt> true_stress;
        Elastic6 D;
        Places in_space;
        Places moved;
        Voigt free = Voigt::Zero();
        if (second && solid) {
            D = elasticity(model, e);
            in_space = x;
            moved = Eigen::Map<const Places>(analysis.element_displacement(u, e).data(), 3, x.cols());
            if (rise != 0.0) free = D * free_strain(model, e) * rise;
        } else if (second) {
            true_stress = stress_at(analysis, c, u, e, natural[static_cast<std::size_t>(kind)]);
        }
        for (std::size_t k = 0; k < list.size(); ++k) {
            const Sample& p = list[k];
            Mat3 J;
            Voigt own = Voigt::Zero();
            if (second && solid) own = solid_stress(D, in_space, moved, p.G, J) - free;
            const double volume =
                p.weight * (second && solid ? J.determinant() : (x * p.G.transpose()).determinant()) * depth;
            std::array<Voigt, 2> found{Voigt::Zero(), Voigt::Zero()};
            std::array<Voigt, 2> better{Voigt::Zero(), Voigt::Zero()};
            for (std::size_t n = 0; n < mesh.start(i + 1) - first; ++n)
                for (std::size_t l = 0; l < layers; ++l) {
                    const double N = p.N[static_cast<Eigen::Index>(n)];
                    found[l] += N * field.at_nodes[(first + n) * layers + l];
                    better[l] += N * recovered[static_cast<std::size_t>(nodes.of[first + n]) * layers + l];
                }
            if (second) found[0] = solid ? own : true_stress[k];
            const auto energy = [&](const Voigt& upper, const Voigt& lower) {
                if (layers == 1) return upper.dot(C * upper);
                const Voigt membrane = 0.5 * (upper + lower);
                const Voigt bending = 0.5 * (upper - lower);
                return membrane.dot(C * membrane) + bending.dot(C * bending) / 3.0;
            };
            out.element[i] += volume * energy(better[0] - found[0], better[1] - found[1]);
            energy_of[i] += volume * energy(found[0], found[1]);
        }
    }
    // In the order of the elements, whatever the threads.
    double whole = 0.0;
    double total = 0.0;
    for (std::size_t i = 0; i < mesh.elements(); ++i) {
        whole += energy_of[i];
        total += out.element[i];
    }
    out.error = std::sqrt(std::max(0.0, total));
    out.energy_norm = std::sqrt(std::max(0.0, whole));
    const double both = std::sqrt(total + whole);
    out.relative = both > 0.0 ? out.error / both : 0.0;
    return out;
}

} // namespace upright
