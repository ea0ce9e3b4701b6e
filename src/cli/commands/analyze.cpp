// upright analyze: the static and modal cases of the full-material part.
#include "base/files.hpp"
#include "cli/commands/commands.hpp"
#include "figures/analysis_figures.hpp"
#include "figures/drawings.hpp"
#include "model/rigid_freedom.hpp"
#include "model/storage.hpp"
#include "store/analysis_folder.hpp"
#include "study/mesh_word.hpp"
#include "tell/analysis_text.hpp"

#include <chrono>
#include <fmt/format.h>
#include <memory>
#include <omp.h>

namespace upright::cli {

namespace {

struct AnalyzeWish : StudyWish, FigureWish {
    std::vector<std::string> cases, probes, except;
    std::optional<int> refine;
    std::string out;
    bool force = false, no_figures = false;
};

namespace fs = std::filesystem;

std::vector<Vec3> read_probes(const AnalyzeWish& in, bool plane) {
    std::vector<Vec3> out;
    for (const std::string& text : in.probes) {
        Vec3 p = Vec3::Zero();
        const char* at = text.c_str();
        bool good = true;
        const int count = plane ? 2 : 3;
        for (int a = 0; a < count && good; ++a) {
            char* end = nullptr;
            p[a] = std::strtod(at, &end);
            good = end != at && (a + 1 == count ? *end == '\0' : *end == ',');
            at = end + 1;
        }
        if (!good)
            throw Error::usage("--probe " + text + " is not a place",
                               plane ? "Write --probe x,y in the study's length unit"
                                     : "Write --probe x,y,z in the study's length unit");
        out.push_back(p);
    }
    return out;
}

// Every case that is to be solved must be held; a modal one may float.
void require_held(const Model& model, const std::vector<std::string>& chosen) {
    for (const ModelCase& c : model.cases) {
        if (!chosen.empty() && !refers_to(chosen, c.name)) continue;
        for (const FreePart& part : free_motions(model, &c)) {
            if (part.motions.empty()) continue;
            std::string words;
            for (const FreeMotion& m : part.motions)
                words += (words.empty() ? "" : "; ") + m.text(model.units);
            throw Error::input(c.place, "the case \"" + c.name + "\" is not held: free in " + words,
                               "Add a support, or hold more directions");
        }
    }
}

// Bounds on what the analysis finds; mass and volume are for the optimiser.
bool every_bound_holds(const Model& model, const std::vector<Outcome>& outcomes) {
    bool out = true;
    for (const Outcome& o : outcomes) out = out && (o.holds || of_material(model.responses[o.response]));
    return out;
}

std::string size_text(const Model& model) {
    return fmt::format("{} elements, {} nodes, {} displacements", model.mesh.elements(),
                       model.mesh.nodes.size(), model.freedoms());
}

// The analysis and its folder, which is made, or an earlier one cleared, once there is something to put in.
std::vector<Outcome> fill(const AnalyzeWish& in, const Job& job, const AnalysisWish& wish,
                          const std::vector<Vec3>& probes, const fs::path& path, Existing existing,
                          const FigureOptions& options, Console& console) {
    const auto begin = std::chrono::steady_clock::now();
    const Study& study = job.study;
    const Model& model = job.model;
    console.result(fmt::format("{}: {}, mass {}\n", study.title, size_text(model), [&] {
        double mass = 0.0;
        for (const ModelRegion& r : model.regions) mass += r.mass;
        return model.units.mass_text(mass, 5);
    }()));
    const AnalysisReport report = waited(console, "analysing it", [&] { return analyze(model, wish); });
    for (const std::string& note : report.notes) console.remark(note);
    const std::vector<Outcome> outcomes = measure_all(model, report);
    for (const StaticReport& s : report.statics) console.result(static_table(model, report, s, probes));
    for (std::size_t c = 0; c < report.modals.size(); ++c) {
        const auto card =
            std::find_if(model.modal_cases.begin(), model.modal_cases.end(),
                         [&](const ModelModalCase& m) { return m.name == report.modal_names[c]; });
        console.result(modal_table(model, report.modal_names[c], report.modals[c], card->lumped));
    }
    if (!outcomes.empty()) console.result(response_table(model, outcomes));
    if (in.refine) {
        const Study finer = on_cells(study, 1.0 / *in.refine);
        const Model fine = waited(console, "making the finer mesh", [&] { return build_model(finer); });
        console.remark(fmt::format("the same on a mesh {} times as fine: {}", *in.refine, size_text(fine)));
        const AnalysisReport better = waited(console, "analysing it", [&] { return analyze(fine, wish); });
        console.result(
            refinement_table({model, report, outcomes}, {fine, better, measure_all(fine, better)}));
    }
    const AnalysisFolder folder = AnalysisFolder::create(path, existing);
    save_model(folder.model_file(), model, study.resolved);
    write_text(folder.path() / "study.toml", study.resolved);
    folder.write_fields(model, report);
    if (!in.no_figures)
        beside_result(console, [&] {
            for (const fs::path& file : draw_analysis(model, report, folder, options))
                console.remark("figure: " + file.string());
        });
    const double seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
    folder.write_json(model, report, outcomes, seconds);
    return outcomes;
}

int run_analyze(const AnalyzeWish& in, Session& session) {
    Console& console = session.console;
    const FigureOptions options = figure_options(in);
    if (in.refine && *in.refine < 2)
        throw Error::usage(fmt::format("--refine {} is no finer mesh", *in.refine), "Write --refine 2");
    const Job job = load_job(session, in.target, in.settings, true);
    const Study& study = job.study;
    const Model& model = job.model;
    if (model.cases.empty() && model.modal_cases.empty())
        throw Error::input({study.file.string(), 1, 1}, "the study has no case to analyse",
                           "Write a [[case]] with supports and loads, or kind = \"modal\"");
    if (in.refine && fs::path(in.target).extension() == ".h5")
        throw Error::usage("--refine needs the study: a model.h5 has its mesh already",
                           "Name the study file");
    if (in.refine && !study.mesh.kind->refinable)
        throw Error::usage("--refine cannot refine a mesh that comes from a file",
                           "Write a finer mesh file, and compare the two analyses");
    const std::vector<Vec3> probes = read_probes(in, model.mesh.dimension() == 2);
    require_held(model, in.cases);
    AnalysisWish wish;
    wish.cases = in.cases;
    wish.except = in.except;
    wish.solver = solver_options(model.run);
    ::omp_set_num_threads(threads_of(wish.solver));
    require_names(model, wish);
    const fs::path target(in.target);
    const fs::path path = in.out.empty() ? default_analysis_folder(target) : fs::path(in.out);
    std::error_code ignored;
    const bool existed = fs::exists(path, ignored);
    const Existing existing = in.force ? Existing::Replace : Existing::Refuse;
    AnalysisFolder::require_place(path, existing);
    std::vector<Outcome> outcomes;
    try {
        outcomes = fill(in, job, wish, probes, path, existing, options, console);
    } catch (...) {
        if (!existed) fs::remove_all(path, ignored); // nothing half-made stays behind
        throw;
    }
    console.result("analysis: " + path.string());
    write_text(path / "log.txt", console.log());
    return every_bound_holds(model, outcomes) ? 0 : static_cast<int>(ExitCode::BoundBroken);
}

} // namespace

Command analyze_command() {
    return {
        "analyze", "The static and modal cases of the full-material part: the baseline",
        [](Options& options) {
            auto in = std::make_shared<AnalyzeWish>();
            add_study(options, *in);
            options.several("--case", "NAME", in->cases, "A case (several times for several; default: all)");
            options.several("--probe", "X,Y,Z", in->probes,
                            "Read displacement and stress at a place (may be given several times)");
            options.several("--except", "NAME", in->except,
                            "A region, or a surface, whose elements are left out of the largest stress");
            options.value("--refine", "N", in->refine,
                          "Analyse again on a mesh so many times as fine, and tell how every result changes");
            options.value("--out", "DIR", in->out,
                          "Folder of the analysis (default: <study>.analysis beside the study)");
            options.flag("--force", in->force, "Overwrite an earlier analysis");
            options.flag("--no-figures", in->no_figures, "Draw no figures");
            add_figure_options(options, *in);
            return [in](Session& session) { return run_analyze(*in, session); };
        }};
}

} // namespace upright::cli
