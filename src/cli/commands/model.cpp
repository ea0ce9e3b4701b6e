// upright model: the solver-ready model as files.
#include "base/files.hpp"
#include "cli/commands/commands.hpp"
#include "fem/static_analysis.hpp"
#include "figures/drawings.hpp"
#include "mesh/quality.hpp"
#include "model/storage.hpp"
#include "store/matrix_market.hpp"
#include "store/vtu.hpp"

#include <fmt/format.h>
#include <memory>

namespace upright::cli {

namespace {

struct ModelWish : StudyWish, FigureWish {
    std::string out;
    bool matrices = false, no_figures = false;
};

namespace fs = std::filesystem;

// Every set as an array: regions by number and one array for each surface, coupling and support.
void write_sets(const fs::path& file, const Model& model) {
    const Mesh& mesh = model.mesh;
    std::vector<VtuField> cells;
    VtuField region{"region", 1, {}};
    for (const RegionId r : mesh.region) region.values.push_back(static_cast<double>(index(r)));
    cells.push_back(region);
    cells.push_back({"scaled_jacobian", 1, scaled_jacobians(mesh)});
    for (std::size_t r = 0; r < model.regions.size(); ++r) {
        if (model.regions[r].elements == 0) continue;
        VtuField one{"region " + model.regions[r].name, 1, {}};
        for (const RegionId id : mesh.region) one.values.push_back(index(id) == r ? 1.0 : 0.0);
        cells.push_back(one);
    }
    if (!mesh.thickness.empty()) cells.push_back({"thickness", 1, mesh.thickness});
    std::vector<VtuField> points;
    const auto add = [&](const std::string& name, const std::vector<NodeId>& nodes) {
        VtuField one{name, 1, std::vector<double>(mesh.nodes.size(), 0.0)};
        for (const NodeId n : nodes) one.values[index(n)] = 1.0;
        points.push_back(one);
    };
    for (const ModelSurface& s : model.surfaces) add("surface " + s.name, s.nodes);
    for (const ModelCoupling& c : model.couplings) add("coupling " + c.name, c.nodes);
    for (const ModelSupport& s : model.supports) {
        std::vector<NodeId> nodes;
        for (const Equation& e : s.equations)
            for (const Term& t : e.terms)
                if (t.freedom < model.node_freedoms())
                    nodes.push_back(
                        static_cast<NodeId>(t.freedom / static_cast<std::size_t>(mesh.freedoms())));
        add("support " + s.name, nodes);
    }
    for (const ModelLoad& l : model.loads) {
        if (l.forces.empty()) continue;
        VtuField one{"load " + l.name, 3, std::vector<double>(3 * mesh.nodes.size(), 0.0)};
        for (const Term& t : l.forces)
            if (t.freedom < model.node_freedoms() && model.spot(t.freedom).component < 3)
                one.values[3 * (t.freedom / static_cast<std::size_t>(mesh.freedoms())) +
                           static_cast<std::size_t>(model.spot(t.freedom).component)] += t.factor;
        points.push_back(one);
    }
    write_vtu(file, mesh, points, cells);
}

void write_matrices(const fs::path& folder, const Model& model, Console& console) {
    make_folder(folder);
    const std::string units =
        fmt::format("units {}, {}, {}", model.units.length, model.units.force, model.units.time);
    write_matrix(folder / "stiffness.mtx", stiffness_matrix(model), true,
                 "stiffness of full material on every freedom, joints included; " + units);
    write_matrix(folder / "mass.mtx", mass_matrix(model), true,
                 "consistent mass of full material, point masses included; " + units);
    const std::vector<double> full(model.mesh.elements(), 1.0);
    for (const ModelCase& c : model.cases) {
        const Transform t = model.transform(c);
        const std::string name = file_name(c.name);
        write_matrix(folder / ("transform-" + name + ".mtx"), transform_matrix(t), false,
                     "T of u = T q + g, case " + c.name);
        if (t.moves())
            write_vector(folder / ("offset-" + name + ".mtx"), transform_offset(t),
                         "g of u = T q + g, case " + c.name);
        write_vector(folder / ("load-" + name + ".mtx"), model.forces(c, full),
                     "forces on every freedom, case " + c.name + " (heat left out); " + units);
    }
    console.result("matrices: " + folder.string());
}

int run_model(const ModelWish& in, Session& session) {
    Console& console = session.console;
    const FigureOptions options = figure_options(in);
    const Job job = load_job(session, in.target, in.settings, true);
    const Model& model = job.model;
    const fs::path target(in.target);
    const fs::path folder =
        in.out.empty() ? target.parent_path() / (target.stem().string() + ".model") : fs::path(in.out);
    make_folder(folder);
    const MeshQuality q = mesh_quality(model.mesh);
    console.result(fmt::format("{}: {} elements, {} nodes, {} displacements, {} case{}", job.study.title,
                               model.mesh.elements(), model.mesh.nodes.size(), model.freedoms(),
                               model.cases.size(), model.cases.size() == 1 ? "" : "s"));
    console.result(fmt::format("scaled Jacobian at least {:.3g}, mean {:.3g}; largest aspect {:.3g}{}",
                               q.scaled_jacobian, q.mean_scaled_jacobian, q.aspect,
                               q.smallest_dihedral ? fmt::format("; dihedral angles {:.1f} to {:.1f} deg",
                                                                 *q.smallest_dihedral, *q.largest_dihedral)
                                                   : ""));
    if (!model.mesh.on_grid()) {
        console.remark("the worst elements (number, place of the middle, scaled Jacobian):");
        for (const WorstElement& w : q.worst) {
            const Vec3& c = model.mesh.center(w.element);
            console.remark(fmt::format("  {:>8}  ({:.5g}, {:.5g}, {:.5g})  {:.3f}", index(w.element), c.x(),
                                       c.y(), c.z(), w.scaled_jacobian));
        }
    }
    save_model(folder / "model.h5", model, job.study.resolved);
    write_sets(folder / "model.vtu", model);
    console.result("model: " + (folder / "model.h5").string() +
                   "\nsets:  " + (folder / "model.vtu").string());
    if (in.matrices) write_matrices(folder / "matrices", model, console);
    if (!in.no_figures) {
        beside_result(console, [&] {
            draw_quality(model, q, options, folder / "quality.png");
            console.remark("figure: " + (folder / "quality.png").string());
        });
    }
    return 0;
}

} // namespace

Command model_command() {
    return {"model", "The solver-ready model: model.h5, every set as VTU, mesh quality",
            [](Options& options) {
                auto in = std::make_shared<ModelWish>();
                add_study(options, *in);
                options.value("--out", "DIR", in->out,
                              "Folder for the files (default: <study>.model beside the study)");
                options.flag("--matrices", in->matrices,
                             "Write stiffness, mass, loads and constraint transform in Matrix Market form");
                options.flag("--no-figures", in->no_figures, "Draw no figure of the worst elements");
                add_figure_options(options, *in);
                return [in](Session& session) { return run_model(*in, session); };
            }};
}

} // namespace upright::cli
