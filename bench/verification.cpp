// Measures the program against closed forms and published values and prints the table of
// docs/verification.md.
#include "base/angles.hpp"
#include "cantilever.hpp"
#include "optimized.hpp"
#include "published.hpp"

#include "design/interpolation.hpp"
#include "fem/elasticity.hpp"
#include "fem/element.hpp"
#include "figures/chart.hpp"
#include "kinds/kinds.hpp"
#include "optimize/moving_asymptotes.hpp"
#include "optimize/run.hpp"
#include "part/extract.hpp"
#include "response/case_report.hpp"
#include "response/design_measures.hpp"

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

OptimizeResult optimized(const Model& model) {
    StaticAnalysis analysis(model, {});
    Quiet quiet;
    return optimize(analysis, quiet);
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

// Two boxes of 10 x 10 x 10 that a bond ties, pulled by 1000 over E 1000: the compliance is 200, the
// stress 10.
void bonds(std::vector<Row>& rows) {
    for (const auto& [words, mesh, allowed] :
         {std::tuple{"hex8, sides that match", "size = 5\n", "1e-8"},
          std::tuple{"hex20, sides that match", "size = 5\norder = 2\n", "1e-8"},
          std::tuple{"tet4, sides of other sizes",
                     "kind = \"fitted\"\nsize = 5\n[[mesh.refine]]\non = \"two\"\nsize = 2.5\n", "1 %"},
          std::tuple{"tet10, sides of other sizes",
                     "kind = \"fitted\"\nsize = 5\norder = 2\n[[mesh.refine]]\non = \"two\"\nsize = 2.5\n",
                     "1 %"}}) {
        std::string text = "units = [\"mm\", \"N\", \"s\"]\n[[material]]\nname = \"m\"\nE = 1000\nnu = "
                           "0.3\ndensity = 1e-9\n";
        for (const auto& [name, from] : {std::pair{"one", 0}, std::pair{"two", 15}})
            text += fmt::format(
                "[[region]]\nname = \"{}\"\nrole = \"design\"\nmaterial = \"m\"\nbox = [[{}, 0, 0], [{}, "
                "10, 10]]\n",
                name, from, from + 10);
        const auto surface = [&](const char* name, const char* of, const char* facing) {
            text += fmt::format("[[surface]]\nname = \"{}\"\nof = {}\nfacing = {}\n", name, of, facing);
        };
        surface("left", "\"one\"", "[-1, 0, 0]");
        surface("a", "\"one\"", "[1, 0, 0]");
        surface("b", "\"two\"", "[-1, 0, 0]");
        surface("right", "\"two\"", "[1, 0, 0]");
        surface("front", "[\"one\", \"two\"]", "[0, -1, 0]");
        surface("below", "[\"one\", \"two\"]", "[0, 0, -1]");
        text += "[[bond]]\nname = \"glue\"\nbetween = [\"a\", \"b\"]\ngap = 5.5\n";
        for (const auto& [name, hold] :
             {std::pair{"left", "x"}, std::pair{"front", "y"}, std::pair{"below", "z"}})
            text += fmt::format("[[support]]\nname = \"{0}\"\non = \"{0}\"\nhold = [\"{1}\"]\n", name, hold);
        text += "[[load]]\nname = \"f\"\non = \"right\"\nforce = [1000, 0, 0]\n[[case]]\nname = "
                "\"c\"\nsupports = "
                "[\"left\", \"front\", \"below\"]\nloads = { f = 1 }\n[mesh]\n";
        const Model model = build_model(study_of(text + mesh));
        const AnalysisReport report = analyze(model, {});
        rows.push_back({"two bonded boxes in tension, a gap of 5 between them: compliance", words, 200.0,
                        report.statics[0].compliance, allowed});
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
        const Eigen::VectorXd load = model.forces(model.cases.at(c), density);
        const Eigen::VectorXd both =
            load + analysis.reactions(results[c], model.cases.at(c), density, density);
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

// Constant stress on a distorted element of every kind.
void patch(std::vector<Row>& rows) {
    for (int k = 0; k < element_kinds; ++k) {
        const auto kind = static_cast<ElementKind>(k);
        const KindTraits& t = traits(kind);
        if (t.shell) continue;
        Mesh mesh = published::unit_mesh(kind, {1, 1, 1});
        for (std::size_t n = 0; n < mesh.nodes.size(); ++n)
            for (int a = 0; a < t.dimension; ++a)
                mesh.nodes[n][a] += 0.06 * std::sin(3.0 * static_cast<double>(n) + 5.0 * a);
        mesh.finish();
        const auto D =
            elastic_matrix(t.dimension == 2 ? ElementFamily::PlaneStress : ElementFamily::Solid, 0.3);
        const Eigen::MatrixXd x = places_of(mesh, ElementId{0});
        Eigen::MatrixXd field(t.dimension, t.dimension);
        for (int a = 0; a < t.dimension; ++a)
            for (int c = 0; c < t.dimension; ++c) field(a, c) = 0.01 * (1 + a) - 0.007 * c;
        const Eigen::MatrixXd moved = field * x;
        const Eigen::VectorXd u = Eigen::Map<const Eigen::VectorXd>(moved.data(), moved.size());
        const Element& element = element_for(kind);
        const Eigen::VectorXd stress =
            element.stress(x, D, 1.0, Formulation::Enhanced, natural_center(kind)) * u;
        const Eigen::VectorXd strain = D.ldlt().solve(stress);
        const double energy = u.dot(element.stiffness(x, D, 1.0, Formulation::Enhanced) * u);
        rows.push_back({fmt::format("energy of a linear field on a distorted element, {}", t.name),
                        "1 element, every node out of place", mesh.volume(0) * strain.dot(stress), energy,
                        "1e-10"});
    }
}

void half_beam(std::vector<Row>& rows) {
    const Study study =
        load_study(std::filesystem::path(UPRIGHT_SOURCE_EXAMPLES) / "half-beam" / "half-beam.toml");
    const Model model = build_model(study);
    const OptimizeResult result = optimized(model);
    rows.push_back(
        {fmt::format("half beam, compliance after {} iterations (Andreassen et al. 2011, density filter)",
                     result.state.iteration),
         "60 x 20 quad4, plain", 233.71, result.row().goal, "0.5 %"});
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
    const OptimizeResult a = optimized(straight_model);
    const OptimizeResult b = optimized(mirrored_model);
    double worst = 0.0;
    for (std::size_t j = 0; j < 20; ++j)
        for (std::size_t i = 0; i < 60; ++i)
            worst = std::max(worst, std::abs(a.density[j * 60 + i] - b.density[j * 60 + 59 - i]));
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
    DesignMeasures measures(analysis);
    const std::vector<bool> all(measures.columns().size(), true);
    const auto value = [&](const std::vector<double>& at) {
        measures.analyse(at, 3.0, {});
        return measures.readings().front().value;
    };
    measures.analyse(density, 3.0, {});
    const Smooth found = measures.smooth(all, {true, false}).front();
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
         "12 x 3 x 3 hex8 with a hole", 0.0, worst, "1e-5", true});
}

// What the optimiser reaches where the optimum is known.
void optima(std::vector<Row>& rows) {
    {
        MmaState state;
        std::vector<double> x(5, 5.0);
        double weight = 0.0;
        for (int i = 0; i < 12; ++i) {
            MmaValues v;
            const std::array<double, 5> share{61, 37, 19, 7, 1};
            v.gradient.emplace_back();
            v.constraint = {-1.0};
            for (std::size_t j = 0; j < 5; ++j) {
                v.goal += 0.0624 * x[j];
                v.goal_gradient.push_back(0.0624);
                v.constraint[0] += share[j] / std::pow(x[j], 3);
                v.gradient[0].push_back(-3.0 * share[j] / std::pow(x[j], 4));
            }
            x = mma_step({x, std::vector<double>(5, 1.0), std::vector<double>(5, 10.0), 1.0, v}, {}, state).x;
            weight = 0.0;
            for (const double one : x) weight += 0.0624 * one;
        }
        rows.push_back({"cantilever of five segments (Svanberg 1987): weight", "12 steps", 1.33996, weight,
                        "1e-4 of it"});
    }
    {
        const Study study = study_of(bench::hinged_beam(0.05, 100));
        const Model model = build_model(study);
        const OptimizeResult result = optimized(model);
        const double circular = 2.0 * pi;
        rows.push_back({"beam 8 x 1, ends held at mid-height: first circular frequency of the uniform start, "
                        "rad/s (Du & Olhoff 2007)",
                        "160 x 20 plain quad4", 68.7, circular * result.state.history.front().goal, "1 %"});
        rows.push_back({"the same, raised with half the material, sharpened", "160 x 20 plain quad4", 174.7,
                        circular * result.readings.front().value, "5 %"});
    }
    const Study least = study_of(bench::l_bracket(1.0, true));
    const Model model = build_model(least);
    const OptimizeResult light = optimized(model);
    const double weight = light.readings[0].value;
    rows.push_back({"L-shaped bracket, least mass: largest stress of any dense element over its bound",
                    "6400 quad4", 1.0, light.readings[1].value / 144.0, "2 %"});
    const Study stiff = study_of(bench::l_bracket(1.0, false, weight));
    const OptimizeResult other = optimized(build_model(stiff));
    rows.push_back(
        {"its mass over that of the stiffest design of the same mass, thickened to the same stress",
         "6400 quad4", 1.0, 144.0 / other.readings[1].value, "less than 1"});
}

void symmetry(std::vector<Row>& rows) {
    const std::string text =
        cantilever("enhanced", 6.0, 1.0, 0.25) +
        "[[response]]\nname = \"c\"\nmeasure = \"compliance\"\n[[response]]\nname = "
        "\"v\"\nmeasure = \"volume-fraction\"\nmax = 0.4\n"
        "[goal]\nminimize = \"c\"\n[run]\niterations = 30\nsharpen = false\nfilter = 0.7\n";
    const Study whole = study_of(text);
    const Study half =
        study_of(text + "[symmetry]\nplanes = [\"y = 0.5\"]\n", {"load.pull.force=[0, 0, -0.5]"});
    const Model whole_model = build_model(whole);
    const Model half_model = build_model(half);
    rows.push_back({"optimised compliance of a half model, twice, against the whole model", "24 x 4 x 4 hex8",
                    optimized(whole_model).row().goal, 2.0 * optimized(half_model).row().goal, "1e-6"});
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
    const Part part = PartField(model, std::vector<double>(model.mesh.elements(), 1.0)).extract({});
    rows.push_back({fmt::format("volume of a carved ring, radii 20 and 8, height 30 ({})",
                                part.closed ? "closed" : "NOT CLOSED"),
                    "cells of 2", 30 * pi * (400.0 - 64.0), part.volume, "1 %"});
}

using Problem = std::function<std::vector<published::Reading>(ElementKind, int)>;

void publish(std::vector<Row>& rows, const std::string& name, const std::string& mesh,
             const std::string& allowed, const std::vector<published::Reading>& readings) {
    for (const published::Reading& r : readings)
        rows.push_back({name + ": " + r.what, mesh, r.expected, r.found, allowed});
}

void published_values(std::vector<Row>& rows) {
    using K = ElementKind;
    const auto mesh = [](K kind, int a, int b, int c = 0) {
        return c > 0 ? fmt::format("{} x {} x {} {}", a, b, c, traits(kind).name)
                     : fmt::format("{} x {} {}", a, b, traits(kind).name);
    };
    for (const auto& [kind, n] :
         {std::pair{K::Quad4, 16}, std::pair{K::Quad8, 8}, std::pair{K::Tri3, 20}, std::pair{K::Tri6, 8}})
        publish(rows, "LE1, elliptic membrane", mesh(kind, 2 * n, n), "1 %",
                published::elliptic_membrane(kind, n));
    publish(rows, "LE10, thick elliptic plate", mesh(K::Hex20, 12, 6, 6), "1 %",
            published::elliptic_plate(K::Hex20, 6));
    publish(rows, "LE10, thick elliptic plate", mesh(K::Hex8, 16, 8, 8), "(first order, for comparison)",
            published::elliptic_plate(K::Hex8, 8));
    for (const auto& [kind, n] : {std::pair{K::Quad8, 4}, std::pair{K::Quad4, 16}})
        publish(rows, "FV32, tapered membrane", mesh(kind, 2 * n, n), "1 %",
                published::tapered_membrane(kind, n));
    publish(rows, "FV12, free thin plate", mesh(K::ShellQuad4, 24, 24), "1 %",
            published::free_plate(K::ShellQuad4, 24));
    for (const auto& [kind, n] : {std::pair{K::Quad4, 32}, std::pair{K::Quad8, 8}, std::pair{K::Tri6, 8},
                                  std::pair{K::Hex20, 8}, std::pair{K::Tet10, 8}})
        publish(rows, "Lam\u00e9, thick cylinder, plane strain", mesh(kind, 2 * n, n), "1 %",
                published::thick_cylinder(kind, n));
    for (const auto& [kind, n] :
         {std::pair{K::Quad4, 16}, std::pair{K::Quad8, 10}, std::pair{K::Tri6, 10}, std::pair{K::Hex20, 10}})
        publish(rows, "spinning disk, radii 0.1 and 0.5", mesh(kind, 2 * n, n), "1 %",
                published::spinning_disk(kind, n));
    for (const auto& [kind, n] : {std::pair{K::Quad4, 8}, std::pair{K::Quad8, 8}, std::pair{K::Tri6, 8}})
        publish(rows, "Kirsch, hole in a plate 20 times as wide", mesh(kind, 2 * n, 2 * n), "1 %",
                published::hole_in_plate(kind, n));
    publish(rows, "curved cantilever", mesh(K::Quad4, 12, 2), "1 %",
            published::curved_cantilever(K::Quad4, 2));
    publish(rows, "curved cantilever", mesh(K::Hex20, 36, 6, 6), "1 % (see below)",
            published::curved_cantilever(K::Hex20, 6));
    for (const bool clamped : {false, true})
        publish(rows, clamped ? "beam, both ends clamped" : "beam, simply supported", mesh(K::Quad8, 40, 2),
                "1 %", published::beam_frequencies(K::Quad8, 2, clamped));
    publish(rows, "beam 8 x 1, both ends held at mid-height, density one half", mesh(K::Quad4, 320, 40),
            "1 %", published::uniform_start(K::Quad4, 40));
    publish(rows, "barrel vault roof", mesh(K::ShellQuad4, 16, 16), "1 %",
            published::barrel_vault(K::ShellQuad4, 16));
    publish(rows, "barrel vault roof", mesh(K::ShellTri3, 16, 16), "1.5 %",
            published::barrel_vault(K::ShellTri3, 16));
    publish(rows, "barrel vault roof", mesh(K::ShellTri3, 32, 32), "1 %",
            published::barrel_vault(K::ShellTri3, 32));
    publish(rows, "hemisphere with a hole", mesh(K::ShellTri3, 16, 16), "1.5 %",
            published::pinched_hemisphere(K::ShellTri3, 16));
    publish(rows, "hemisphere with a hole", mesh(K::ShellTri3, 32, 32), "1 %",
            published::pinched_hemisphere(K::ShellTri3, 32));
    publish(rows, "hemisphere with a hole", mesh(K::ShellQuad4, 24, 24), "1 %",
            published::pinched_hemisphere(K::ShellQuad4, 24));
    publish(rows, "twisted beam", mesh(K::ShellQuad4, 12, 2), "1 %",
            published::twisted_beam(K::ShellQuad4, 2));
    publish(rows, "twisted beam", mesh(K::Hex20, 24, 4, 2), "1 %", published::twisted_beam(K::Hex20, 4));
}

struct Rate {
    ElementKind kind;
    double expected, found, effectivity;
};

// The energy error of the thick cylinder under refinement: h^2 for first-order elements, h^4 for second.
std::vector<Rate> rates(std::vector<ChartLine>& lines) {
    std::vector<Rate> out;
    for (const ElementKind kind :
         {ElementKind::Tri3, ElementKind::Quad4, ElementKind::Wedge6, ElementKind::Tet4, ElementKind::Hex8,
          ElementKind::Tri6, ElementKind::Quad8, ElementKind::Tet10, ElementKind::Hex20}) {
        const bool second = traits(kind).nodes > traits(kind).corners;
        ChartLine line{traits(kind).name, {}, second ? 4.0 : 2.0};
        for (const int n : {2, 4, 8})
            line.points.emplace_back(1.0 / n, published::thick_cylinder_energy_error(kind, n));
        out.push_back({kind, line.slope, std::log2(line.points[1].second / line.points[2].second),
                       published::thick_cylinder_effectivity(kind, 8)});
        // Solids lie on their plane twins; the chart shows one of each.
        if (traits(kind).dimension == 2 || kind == ElementKind::Tet4 || kind == ElementKind::Tet10)
            lines.push_back(line);
    }
    return out;
}

std::string table(const std::vector<Row>& rows) {
    std::string out = "| what | mesh | expected | found | error | allowed |\n|---|---|---|---|---|---|\n";
    for (const Row& row : rows) {
        const double error =
            row.absolute ? std::abs(row.found - row.expected) : std::abs(row.found / row.expected - 1.0);
        const std::string shown = row.absolute   ? fmt::format("{:.1e}", error)
                                  : error < 1e-5 ? fmt::format("{:.1e}", error)
                                                 : fmt::format("{:.2f} %", 100 * error);
        out += fmt::format("| {} | {} | {:.6g} | {:.6g} | {} | {} |\n", row.what, row.mesh, row.expected,
                           row.found, shown, row.allowed);
    }
    return out;
}

} // namespace

int main(int argc, char** argv) {
    std::vector<Row> values;
    published_values(values);
    std::vector<ChartLine> lines;
    const std::vector<Rate> found = rates(lines);
    std::vector<Row> rows;
    for (const auto& part :
         {patch, beams, bonds, equilibrium, sensitivities, half_beam, symmetry, optima, carving})
        part(rows);
    std::string out =
        "# Verification\n\nMeasured by `scripts/verification`, which writes this page and its "
        "chart anew. Nothing here is typed by hand.\n\n## Published values and closed forms\n\n" +
        table(values);
    out +=
        "\nStress is the average at the nodes, read where the definition says. The problems are defined in "
        "`bench/published.cpp`. LE1, LE10, FV12 and FV32 are the standard benchmarks of those numbers; the "
        "converged fourth and fifth frequency of FV12 is that of Leissa (1973), 4.190 Hz. Curved cantilever, "
        "barrel vault, hemisphere and twisted beam: MacNeal & Harder (1985). In the plane, curved-beam "
        "theory "
        "with shear gives 0.0886 for the curved cantilever, and fine meshes go there instead of the "
        "published "
        "0.08734; out of the plane it gives 0.500.\n\n## Rates of convergence\n\n"
        "Thick cylinder: error of the strain energy on meshes of 2, 4 and 8 elements through the wall. The "
        "effectivity is the estimated error in the energy norm over the true one, on the finest.\n\n"
        "| element | theory | found | effectivity of the error estimate |\n|---|---|---|---|\n";
    for (const Rate& r : found)
        out += fmt::format("| {} | h^{:g} | h^{:.2f} | {:.2f} |\n", traits(r.kind).name, r.expected, r.found,
                           r.effectivity);
    out += "\n![Error of the strain energy over the size of elements](charts/convergence.png)\n\n## The "
           "rest\n\n" +
           table(rows);
    out += "\nBeam theory is that of Timoshenko: F L³ / 3 E I + F L / (5/6 G A). The patch test itself, with "
           "the middle node of a patch of distorted cells "
           "out of place, and the count of rigid-body modes stand in `tests/fem/`. The value "
           "for the half beam is the one that E. Andreassen, A. Clausen, "
           "M. Schevenels, B. S. Lazarov and O. Sigmund print for the density filter at 60 x 20 cells and a "
           "radius of 2.4 (Structural and Multidisciplinary Optimization 43, 2011).\n";
    if (argc > 1) {
        std::ofstream(argv[1]) << out;
        FigureOptions options;
        draw_convergence("Thick cylinder: error of the strain energy",
                         "size of elements over the thickness of the wall", "relative error", lines, options,
                         std::filesystem::path(argv[1]).parent_path() / "charts" / "convergence.png");
    } else {
        std::fputs(out.c_str(), stdout);
    }
    return 0;
}
