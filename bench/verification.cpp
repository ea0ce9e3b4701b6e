// Measures the program against closed forms and published values and prints the table of
// docs/verification.md.
#include "cantilever.hpp"

#include "design/interpolation.hpp"
#include "fem/elasticity.hpp"
#include "fem/element.hpp"
#include "optimize/run.hpp"
#include "part/extract.hpp"
#include "study/study.hpp"

#include <Eigen/Dense>
#include <Eigen/Geometry>

#include <cmath>
#include <cstdio>
#include <filesystem>
#include <fmt/format.h>
#include <fstream>
#include <functional>
#include <vector>

namespace {

using namespace upright;
using bench::cantilever;
using bench::study_of;

struct Row {
    std::string what, mesh;
    double expected, found;
    std::string allowed;   // what the issue or the theory allows
    bool absolute = false; // the error is a difference, not a ratio
};

class Quiet : public OptimizeObserver {
  public:
    void note(const std::string& /*sentence*/) override {}
    bool stop_requested() const override { return false; }
    void iteration(const OptimizerState& /*state*/) override {}
};

OptimizeResult optimized(const Study& study, const Model& model) {
    StaticAnalysis analysis(model, {});
    Quiet quiet;
    return optimize(study, analysis, quiet);
}

double mean_tip(const Model& model, const CaseResult& result) {
    double out = 0.0;
    const ModelSurface& tip = model.surfaces[1];
    for (const NodeId n : tip.nodes) out += result.displacement[3 * static_cast<Eigen::Index>(index(n)) + 2];
    return out / static_cast<double>(tip.nodes.size());
}

void beams(std::vector<Row>& rows) {
    for (const auto& [formulation, size] : {std::pair{"enhanced", 1.0}, std::pair{"enhanced", 0.5},
                                            std::pair{"enhanced", 0.25}, std::pair{"plain", 0.25}}) {
        const double length = 40.0;
        const Model model = build_model(study_of(cantilever(formulation, length, 1.0, size)));
        StaticAnalysis analysis(model, {});
        const std::vector<double> full(model.mesh.elements(), 1.0);
        const double exact =
            length * length * length / (3 * 210000.0 / 12.0) + length / (5.0 / 6.0 * 210000.0 / 2.6);
        rows.push_back(
            {fmt::format("cantilever 40 x 1 x 1, tip deflection, {} cells", formulation),
             fmt::format("{:g} cells through the depth", 1.0 / size), -exact,
             mean_tip(model, analysis.solve(full, full)[0]),
             formulation == std::string("enhanced") ? "2 %" : "(plain cells lock; shown for comparison)"});
    }
}

void equilibrium(std::vector<Row>& rows) {
    const Model model = build_model(study_of(cantilever("enhanced", 12.0, 1.0, 0.25)));
    StaticAnalysis analysis(model, {});
    std::vector<double> density(model.mesh.elements());
    for (std::size_t e = 0; e < density.size(); ++e)
        density[e] = 0.3 + 0.6 * std::abs(std::sin(static_cast<double>(e)));
    const auto results = analysis.solve(density, density);
    double worst = 0.0;
    for (std::size_t c = 0; c < results.size(); ++c) {
        const Eigen::VectorXd load = model.forces(model.cases[c], density);
        const Eigen::VectorXd both = load + analysis.reactions(results[c], model.cases[c], density, density);
        Vec3 force = Vec3::Zero();
        Vec3 applied = Vec3::Zero();
        for (std::size_t n = 0; n < model.mesh.nodes.size(); ++n) {
            force += both.segment<3>(3 * static_cast<Eigen::Index>(n));
            applied += load.segment<3>(3 * static_cast<Eigen::Index>(n));
        }
        worst = std::max(worst, force.norm() / applied.norm());
    }
    rows.push_back({"reactions plus loads, over the loads, two cases with gravity", "48 x 4 x 4 cells", 0.0,
                    worst, "1e-8", true});
}

// The rigid-body and constant-strain checks of the elements stand in tests/fem; here the worst numbers.
void patch(std::vector<Row>& rows) {
    for (const ElementKind kind : {ElementKind::Quad4, ElementKind::Hex8})
        for (const Formulation formulation : {Formulation::Plain, Formulation::Enhanced}) {
            const Element& element = element_for(kind);
            const int d = element.dimension();
            Eigen::MatrixXd corners(d, element.nodes());
            const int ring[4][2] = {{0, 0}, {1, 0}, {1, 1}, {0, 1}};
            for (int c = 0; c < element.nodes(); ++c) {
                corners(0, c) = ring[c % 4][0];
                corners(1, c) = ring[c % 4][1];
                if (d == 3) corners(2, c) = c < 4 ? 0 : 1;
                for (int a = 0; a < d; ++a) corners(a, c) += 0.15 * std::sin(3.0 * c + 5.0 * a);
            }
            const Eigen::MatrixXd D =
                elastic_matrix(d == 2 ? ElementFamily::PlaneStress : ElementFamily::Solid, 0.3);
            const Eigen::MatrixXd K = element.stiffness(corners, D, 1.0, formulation);
            // The energy of a linear field is volume * strain energy density exactly.
            Eigen::MatrixXd field(d, d);
            for (int a = 0; a < d; ++a)
                for (int b = 0; b < d; ++b) field(a, b) = 0.01 * (1 + a) - 0.007 * b;
            Eigen::VectorXd u(d * element.nodes());
            for (int c = 0; c < element.nodes(); ++c) u.segment(d * c, d) = field * corners.col(c);
            const Eigen::VectorXd strain = element.center_strain(corners) * u;
            // Volume from the same stiffness: the ratio of two constant-strain energies is that of their
            // densities.
            Eigen::VectorXd v(d * element.nodes());
            for (int c = 0; c < element.nodes(); ++c) {
                v.segment(d * c, d).setZero();
                v[d * c] = 0.01 * corners(0, c);
            }
            const Eigen::VectorXd unit = element.center_strain(corners) * v;
            const double expected = strain.dot(D * strain) / unit.dot(D * unit);
            rows.push_back({fmt::format("constant strain on a distorted cell, {} {}",
                                        kind == ElementKind::Quad4 ? "quad4" : "hex8",
                                        formulation == Formulation::Plain ? "plain" : "enhanced"),
                            "1 cell, every corner out of place", expected, u.dot(K * u) / v.dot(K * v),
                            "1e-10"});
        }
}

void half_beam(std::vector<Row>& rows) {
    const Study study =
        load_study(std::filesystem::path(UPRIGHT_SOURCE_EXAMPLES) / "half-beam" / "half-beam.toml");
    const Model model = build_model(study);
    const OptimizeResult result = optimized(study, model);
    rows.push_back(
        {fmt::format("half beam, compliance after {} iterations (Andreassen et al. 2011, density filter)",
                     result.state.iteration),
         "60 x 20 quad4, plain", 233.71, result.state.history.back().goal, "0.5 %"});
    // The same, mirrored.
    std::string text;
    {
        std::ifstream in(study.file);
        text.assign(std::istreambuf_iterator<char>(in), {});
    }
    const Study mirrored = study_of(text, {"surface.mid-span.facing=[1, 0]", "point.load-corner.at=[60, 20]",
                                           "point.roller-corner.at=[0, 0]", "run.iterations=60"});
    const Study straight = study_of(text, {"run.iterations=60"});
    const Model mirrored_model = build_model(mirrored);
    const Model straight_model = build_model(straight);
    const OptimizeResult a = optimized(straight, straight_model);
    const OptimizeResult b = optimized(mirrored, mirrored_model);
    double worst = 0.0;
    for (std::size_t j = 0; j < 20; ++j)
        for (std::size_t i = 0; i < 60; ++i)
            worst = std::max(worst, std::abs(a.state.density[j * 60 + i] - b.state.density[j * 60 + 59 - i]));
    rows.push_back({"half beam mirrored: largest difference of a density after 60 iterations",
                    "60 x 20 quad4", 0.0, worst, "1e-6", true});
}

void sensitivities(std::vector<Row>& rows) {
    const Study study =
        study_of(cantilever("enhanced", 4.0, 1.0, 0.34) +
                     "[[response]]\nname = \"c\"\nmeasure = \"compliance\"\n"
                     "[[region]]\nname = \"hole\"\nrole = \"void\"\nbox = [[1, 0.4, 0], [2, 1, 0.5]]\n",
                 {"load.weight.gravity=[2e7, 1e7, -5e7]"});
    const Model model = build_model(study);
    StaticAnalysis analysis(model, {});
    std::vector<double> density(model.mesh.elements());
    for (std::size_t e = 0; e < density.size(); ++e)
        density[e] = 0.2 + 0.7 * std::abs(std::sin(3.1 * static_cast<double>(e)));
    const auto value = [&](const std::vector<double>& at) {
        return measure(analysis, study.responses[0], analysis.solve(stiffness_share(at, 3.0), at), at, 3.0,
                       false)
            .value;
    };
    const Measured found =
        measure(analysis, study.responses[0], analysis.solve(stiffness_share(density, 3.0), density), density,
                3.0, true);
    double worst = 0.0;
    double largest = 0.0;
    for (const double g : found.gradient) largest = std::max(largest, std::abs(g));
    for (std::size_t e = 0; e < density.size(); ++e) {
        const auto difference = [&](double step) {
            std::vector<double> up = density;
            std::vector<double> down = density;
            up[e] += step;
            down[e] -= step;
            return (value(up) - value(down)) / (2 * step);
        };
        const double expected = (4.0 * difference(1e-4) - difference(2e-4)) / 3.0;
        worst = std::max(worst, std::abs(found.gradient[e] - expected) /
                                    std::max(std::abs(expected), 0.01 * largest));
    }
    rows.push_back(
        {"sensitivities of compliance with gravity, against central differences, worst of all elements",
         "12 x 3 x 3 hex8 with a hole", 0.0, worst, "1e-6", true});
}

void symmetry(std::vector<Row>& rows) {
    const std::string text = cantilever("enhanced", 6.0, 1.0, 0.25) +
                             "[[response]]\nname = \"c\"\nmeasure = \"compliance\"\n[[response]]\nname = "
                             "\"v\"\nmeasure = \"volume-fraction\"\nmax = 0.4\n"
                             "[goal]\nminimize = \"c\"\n[run]\niterations = 30\nfilter = 0.7\n";
    const Study whole = study_of(text);
    const Study half =
        study_of(text + "[symmetry]\nplanes = [\"y = 0.5\"]\n", {"load.pull.force=[0, 0, -0.5]"});
    const Model whole_model = build_model(whole);
    const Model half_model = build_model(half);
    rows.push_back({"optimised compliance of a half model, twice, against the whole model", "24 x 4 x 4 hex8",
                    optimized(whole, whole_model).state.history.back().goal,
                    2.0 * optimized(half, half_model).state.history.back().goal, "1e-6"});
}

void carving(std::vector<Row>& rows) {
    const Study study = study_of(R"(units = ["mm", "N", "s"]
[[region]]
name = "post"
role = "keep"
material = "structural steel S355"
cylinder = { from = [0, 0, 0], to = [0, 0, 30], radius = 20 }
[[region]]
name = "hole"
role = "void"
cylinder = { from = [0, 0, 0], to = [0, 0, 30], radius = 8 }
[mesh]
size = 2
)");
    const Model model = build_model(study);
    const Part part = PartField(study, model, std::vector<double>(model.mesh.elements(), 1.0)).extract({});
    rows.push_back({fmt::format("volume of a carved ring, radii 20 and 8, height 30 ({})",
                                part.closed ? "closed" : "NOT CLOSED"),
                    "cells of 2", 30 * 3.14159265358979 * (400.0 - 64.0), part.volume, "1 %"});
}

} // namespace

int main(int argc, char** argv) {
    std::vector<Row> rows;
    for (const auto& part : {patch, beams, equilibrium, sensitivities, half_beam, symmetry, carving})
        part(rows);
    std::string out = "# Verification\n\nMeasured by `scripts/verification`, which writes this page anew. "
                      "Nothing here is typed by hand.\n\n"
                      "| what | mesh | expected | found | error | allowed |\n|---|---|---|---|---|---|\n";
    for (const Row& row : rows) {
        const double error =
            row.absolute ? std::abs(row.found - row.expected) : std::abs(row.found / row.expected - 1.0);
        const std::string shown = row.absolute   ? fmt::format("{:.1e}", error)
                                  : error < 1e-5 ? fmt::format("{:.1e}", error)
                                                 : fmt::format("{:.2f} %", 100 * error);
        out += fmt::format("| {} | {} | {:.6g} | {:.6g} | {} | {} |\n", row.what, row.mesh, row.expected,
                           row.found, shown, row.allowed);
    }
    out += "\nBeam theory is that of Timoshenko: F L³ / 3 E I + F L / (5/6 G A). The patch test itself, with "
           "the middle node of a patch of distorted cells "
           "out of place, and the count of rigid-body modes stand in `tests/fem/brick_test.cpp`. The value "
           "for the half beam is the one that E. Andreassen, A. Clausen, "
           "M. Schevenels, B. S. Lazarov and O. Sigmund print for the density filter at 60 x 20 cells and a "
           "radius of 2.4 (Structural and Multidisciplinary Optimization 43, 2011).\n";
    if (argc > 1)
        std::ofstream(argv[1]) << out;
    else
        std::fputs(out.c_str(), stdout);
    return 0;
}
