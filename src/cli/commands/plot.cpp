// upright plot: figures of a run or of an analysis.
#include "base/nearest.hpp"
#include "cli/commands/commands.hpp"
#include "cli/commands/plot_more.hpp"
#include "cli/commands/plot_part.hpp"
#include "cli/commands/restarts.hpp"
#include "figures/analysis_figures.hpp"
#include "figures/chart.hpp"
#include "figures/directions.hpp"
#include "figures/drawings.hpp"
#include "figures/scene.hpp"
#include "model/storage.hpp"
#include "response/buckling.hpp"
#include "store/run_report.hpp"
#include "store/step_fields.hpp"
#include "store/vtu.hpp"

#include <algorithm>
#include <fmt/format.h>
#include <memory>

namespace upright::cli {

namespace {

struct PlotWish : FigureWish {
    std::string target, what, of_case, out, along, mass, cut;
    std::optional<int> mode, iteration, restart;
    bool animate = false, sheet = false;
    int frames = 24;
    std::optional<double> at;
};

namespace fs = std::filesystem;

void require_served(const std::string& what, const std::vector<std::string>& served, const std::string& of) {
    if (std::find(served.begin(), served.end(), what) != served.end()) return;
    static const std::vector<std::string> all{"density",    "displacement", "stress",   "history",
                                              "mode",       "thickness",    "overhang", "draft",
                                              "directions", "buckling"};
    if (std::find(all.begin(), all.end(), what) == all.end())
        throw Error::usage("--what " + what + " is not a figure", suggestion(what, all));
    std::string list;
    for (const std::string& word : served) list += (list.empty() ? "" : ", ") + word;
    throw Error::usage("--what " + what + " is no figure of " + of, "Served there: " + list);
}

// The cases that --case names; all without it.
template <class Case>
std::vector<const Case*> chosen_cases(const std::vector<Case>& cases, const std::string& name,
                                      const char* kind) {
    std::vector<const Case*> out;
    std::vector<std::string> names;
    for (const Case& c : cases) {
        names.push_back(c.name);
        if (name.empty() || refers_to(name, c.name)) out.push_back(&c);
    }
    if (names.empty()) throw Error::usage(std::string("there is no ") + kind + " case here");
    if (out.empty())
        throw Error::usage(std::string("there is no ") + kind + " case \"" + name + "\"",
                           suggestion(name, names));
    return out;
}

// The picture of one case; a file that was asked for gets the case's name when there are several.
fs::path picture(const PlotWish& in, const fs::path& figures, const std::string& what,
                 const std::string& of_case, bool several) {
    const std::string extension = in.animate ? ".gif" : ".png";
    if (in.out.empty())
        return figures / (what + (of_case.empty() ? "" : "-" + file_name(of_case)) + extension);
    fs::path out(in.out);
    if (!several || of_case.empty()) return out;
    return out.parent_path() / (out.stem().string() + "-" + file_name(of_case) + out.extension().string());
}

// The picture of a mode or of a shape of buckling, one of `there`; of several cases one each.
fs::path shape_picture(const PlotWish& in, const fs::path& figures, const std::string& of_case, int number,
                       std::size_t there, bool several, const std::string& suffix = {}) {
    if (number < 1 || number > static_cast<int>(there))
        throw Error::usage(fmt::format("the case \"{}\" has no {} {}", of_case, in.what, number),
                           fmt::format("It has 1 to {}", there));
    if (!in.out.empty()) return picture(in, figures, in.what, of_case, several);
    return figures / fmt::format("{}-{}-{}{}{}", in.what, file_name(of_case), number, suffix,
                                 in.animate ? ".gif" : ".png");
}

void require_options(const PlotWish& in) {
    const std::string extension = fs::path(in.out).extension();
    if (!in.out.empty() && extension != ".png" && !(in.animate && extension == ".gif") &&
        !(in.what == "history" && extension == ".svg"))
        throw Error::usage("--out " + in.out + " is not a " + (in.animate ? "GIF or PNG" : "PNG") + " file",
                           in.animate ? "Write a name that ends in .gif, or in .png for one picture a frame"
                                      : "Write a name that ends in .png");
    const bool shape = in.what == "mode" || in.what == "buckling";
    if (in.animate && in.what != "displacement" && !shape && in.what != "density")
        throw Error::usage("--animate goes with --what density, displacement, mode or buckling");
    if (in.sheet && in.what != "density") throw Error::usage("--sheet goes with --what density");
    if (in.animate && in.sheet) throw Error::usage("--animate and --sheet exclude each other");
    if ((in.animate || in.sheet) && in.what == "density" && in.iteration)
        throw Error::usage("--iteration is one of those that --animate and --sheet show", "Leave it out");
    if (!in.cut.empty() && in.what != "density" && in.what != "displacement" && in.what != "stress" && !shape)
        throw Error::usage("--cut goes with --what density, displacement, stress, mode or buckling");
    if (!in.mass.empty() && in.at)
        throw Error::usage("--at and --mass each say what is shown", "Write one of them");
    if (in.frames < 2 || in.frames > 200)
        throw Error::usage(fmt::format("--frames {} is out of range", in.frames), "Write between 2 and 200");
    if (in.mode && !shape) throw Error::usage("--mode goes with --what mode or buckling");
}

// The cases of a run, or the one named, in which a response looks for buckling. Throws where there is none.
std::vector<const ModelCase*> buckling_cases(const Model& model, const std::string& of_case) {
    const std::vector<int> wanted = buckling_wanted(model);
    std::vector<const ModelCase*> out = chosen_cases(model.cases.all(), of_case, "static");
    out.erase(std::remove_if(out.begin(), out.end(),
                             [&](const ModelCase* c) {
                                 return wanted[static_cast<std::size_t>(c - &model.cases.all()[0])] == 0;
                             }),
              out.end());
    if (out.empty())
        throw Error::usage(of_case.empty() ? "no response of this run looks for buckling"
                                           : "no response looks for buckling in the case \"" + of_case + "\"",
                           "Give the study a response with measure = \"buckling\", and run it again");
    return out;
}

// Draws or animates one field.
void show(const PlotWish& in, const Job& job, ResultFigure figure, bool swings, const fs::path& file,
          Console& console) {
    FigureOptions options = figure_options(in);
    if (!in.cut.empty()) apply_cut(read_cut(in.cut, job.model, options), job.model, figure);
    if (!in.animate) {
        draw_result(job.model, figure, options, file);
        console.result(file.string());
        return;
    }
    for (const fs::path& written : animate_result(job.model, figure, options, swings, in.frames, file))
        console.result(written.string());
}

int plot_analysis(const PlotWish& in, Session& session) {
    Console& console = session.console;
    if (in.iteration) throw Error::usage("--iteration goes with a run; this is an analysis");
    const AnalysisFolder folder = AnalysisFolder::open(in.target);
    const Job job = load_job(session, folder.model_file());
    // Those that were analysed.
    const auto kept = [&](auto cases) {
        cases.erase(std::remove_if(cases.begin(), cases.end(),
                                   [&](const auto& c) { return !folder.has_case(c.name); }),
                    cases.end());
        return cases;
    };
    const std::vector<ModelCase> statics = kept(job.model.cases.all());
    const std::vector<ModelModalCase> modals = kept(job.model.modal_cases.all());
    const fs::path figures = folder.path() / "figures";
    if (in.what == "mode") {
        const auto cases = chosen_cases(modals, in.of_case, "modal");
        const int mode = in.mode.value_or(1);
        for (const ModelModalCase* c : cases) {
            const std::vector<double> frequencies = folder.read_frequencies(c->name);
            const fs::path file =
                shape_picture(in, figures, c->name, mode, frequencies.size(), cases.size() > 1);
            show(in, job,
                 mode_figure(job.model, *c, mode, frequencies[static_cast<std::size_t>(mode) - 1],
                             folder.read_mode(c->name, mode)),
                 true, file, console);
        }
        return 0;
    }
    const auto cases = chosen_cases(statics, in.of_case, "static");
    if (in.what == "buckling") {
        const int mode = in.mode.value_or(1);
        std::vector<std::pair<const ModelCase*, std::vector<double>>> found;
        for (const ModelCase* c : cases)
            if (std::vector<double> factors = folder.read_buckling_factors(c->name); !factors.empty())
                found.emplace_back(c, std::move(factors));
        if (found.empty())
            throw Error::usage("there is no buckling in this analysis",
                               "Give the study a response with measure = \"buckling\", and analyse again");
        for (const auto& [c, factors] : found) {
            const fs::path file = shape_picture(in, figures, c->name, mode, factors.size(), found.size() > 1);
            show(in, job,
                 buckling_figure(job.model, *c, mode, factors[static_cast<std::size_t>(mode) - 1],
                                 folder.read_buckling(c->name, mode)),
                 true, file, console);
        }
        return 0;
    }
    const RegionNodes nodes = region_nodes(job.model.mesh);
    for (const ModelCase* c : cases) {
        const AnalysisFolder::StaticFields fields = folder.read_static(c->name);
        const fs::path file = picture(in, figures, in.what, c->name, cases.size() > 1);
        if (in.what == "directions") {
            draw_directions(job.model, *c, std::vector<bool>(job.model.mesh.elements(), true),
                            fields.displacement, "", figure_options(in), file);
            console.result(file.string());
            continue;
        }
        show(in, job,
             in.what == "displacement" ? deformed_figure(job.model, *c, fields.displacement)
                                       : nodal_stress_figure(job.model, *c, nodes, fields.von_mises),
             false, file, console);
    }
    return 0;
}

int plot_run(const PlotWish& in, Session& session) {
    Console& console = session.console;
    const FigureOptions options = figure_options(in);
    threshold(in.at);
    const bool per_case = in.what == "displacement" || in.what == "stress" || in.what == "mode" ||
                          in.what == "directions" || in.what == "buckling";
    if (!in.of_case.empty() && !per_case)
        throw Error::usage("--case goes with --what displacement, stress, directions, mode or buckling");
    const bool of_part = in.what == "thickness" || in.what == "overhang" || in.what == "draft";
    if (in.iteration && in.what == "history")
        throw Error::usage("--iteration does not go with --what history",
                           "Leave it out: it shows all of them");
    if (!in.along.empty() && !of_part) throw Error::usage("--along goes with --what overhang or draft");
    const RunFolder folder =
        RunFolder::open(restart_of(find_run(in.target, console), in.restart), Access::Reading);
    const Job job = load_run(session, folder);
    const fs::path figures = folder.path() / "figures";
    if (in.what == "history") {
        const fs::path file = picture(in, figures, "history", "", false);
        draw_history(job.model, folder.read_history(), options, file, folder.result_iteration());
        console.result(file.string());
        return 0;
    }
    const Model& model = job.model;
    const double at = in.mass.empty()
                          ? threshold(in.at, folder, in.iteration)
                          : threshold_of_mass(in.mass, model, design_values(folder, model, in.iteration));
    if (!in.mass.empty()) console.remark(fmt::format("material of that mass is denser than {:.4g}", at));
    const std::vector<double> density = read_design(folder, model, in.iteration);
    if (in.what == "density" && (in.animate || in.sheet)) {
        const fs::path file = picture(in, figures, in.sheet ? "iterations" : "density", "", false);
        plot_iterations(in.sheet, folder, model, at, options, file);
        console.result(file.string());
        return 0;
    }
    if (in.what == "density" && !in.cut.empty()) {
        const fs::path file = picture(in, figures, "density-cut", "", false);
        const CutPlane cut = read_cut(in.cut, model, options);
        ResultFigure figure;
        figure.title = model.title + ": density, cut at " + cut.words;
        figure.subtitle = fmt::format("cells denser than {:.3g}; {}", at, state_text(folder, in.iteration));
        figure.quantity = "density";
        figure.shown = denser_than(density, at);
        figure.peak_words.clear();
        figure.scale_end = 1.0;
        apply_cut(cut, model, figure);
        const auto means = cell_means(model, density, figure.shown);
        figure.value = [means](NodeId n, RegionId) { return (*means)[index(n)]; };
        for (const SupportId id : model.supports.ids()) figure.supports.push_back(id);
        draw_result(model, figure, options, file);
        console.result(file.string());
        return 0;
    }
    if (in.what == "density") {
        const std::string name = in.iteration ? "density-" + std::to_string(*in.iteration) : "density";
        const fs::path file = picture(in, figures, name, "", false);
        draw_density(model, design_values(folder, model, in.iteration), at, state_text(folder, in.iteration),
                     options, file);
        console.result(file.string());
        return 0;
    }
    if (of_part) {
        const std::string name = in.iteration ? in.what + "-" + std::to_string(*in.iteration) : in.what;
        const fs::path file = picture(in, figures, name, "", false);
        plot_part({in.what, in.along, at, state_text(folder, in.iteration)}, model,
                  design_values(folder, model, in.iteration), options, file);
        console.result(file.string());
        return 0;
    }
    // Whose displacements, stresses and modes the run has kept.
    const int iteration = in.iteration.value_or(folder.result_iteration());
    std::vector<const ModelCase*> buckling; // cases that a response looks for it in
    if (in.what == "buckling") buckling = buckling_cases(model, in.of_case);
    const bool again = iteration != folder.result_iteration() || in.what == "buckling";
    StepFields fields_of_step;
    if (again) {
        console.remark(fmt::format("analysing iteration {} again: its fields were not kept", iteration));
        fields_of_step = analyse_step(model, folder.read_step(iteration), in.what == "mode");
    }
    const std::string suffix = in.iteration && again ? "-" + std::to_string(iteration) : "";
    const auto with_state = [&](ResultFigure figure) {
        if (again)
            figure.subtitle += fmt::format("; iteration {}, analysed again, of the densities", iteration);
        else if (folder.threshold())
            figure.subtitle += "; analysed in black and white";
        return figure;
    };
    if (in.what == "mode") {
        const int mode = in.mode.value_or(1);
        const auto chosen = chosen_cases(model.modal_cases.all(), in.of_case, "modal");
        for (const ModelModalCase* c : chosen) {
            std::vector<double> frequencies = folder.frequencies(c->name);
            const ModalResult* found = nullptr;
            if (again) {
                found = &fields_of_step.modals[static_cast<std::size_t>(c - &model.modal_cases.all()[0])];
                frequencies.clear();
                for (const Mode& m : found->modes) frequencies.push_back(m.frequency);
            }
            if (frequencies.empty())
                throw Error::input({folder.path().string()}, "this run has kept no modes yet",
                                   "Let it end: optimize --resume");
            const std::vector<bool> shown = denser_than(density, at);
            const fs::path file =
                shape_picture(in, figures, c->name, mode, frequencies.size(), chosen.size() > 1, suffix);
            const auto shape =
                again ? at_nodes(model.mesh, found->modes[static_cast<std::size_t>(mode) - 1].shape)
                      : read_vtu(folder.case_file(c->name), model.mesh, mode_field(mode), true).values;
            show(in, job,
                 with_state(mode_figure(model, *c, mode, frequencies[static_cast<std::size_t>(mode) - 1],
                                        shape, shown)),
                 true, file, console);
        }
        return 0;
    }
    if (in.what == "buckling") {
        const int mode = in.mode.value_or(1);
        for (const ModelCase* c : buckling) {
            const auto number = static_cast<std::size_t>(c - &model.cases.all()[0]);
            const std::vector<BucklingMode>& modes = fields_of_step.buckling[number].modes;
            if (modes.empty()) {
                console.result(fmt::format("{} does not buckle below {:g} times its loads", c->name,
                                           most_buckling_factor));
                continue;
            }
            const fs::path file =
                shape_picture(in, figures, c->name, mode, modes.size(), buckling.size() > 1, suffix);
            const BucklingMode& one = modes[static_cast<std::size_t>(mode) - 1];
            show(in, job,
                 with_state(buckling_figure(model, *c, mode, one.factor, at_nodes(model.mesh, one.shape),
                                            denser_than(density, at))),
                 true, file, console);
        }
        return 0;
    }
    const auto cases = chosen_cases(model.cases.all(), in.of_case, "static");
    for (const ModelCase* c : cases) {
        const fs::path file = picture(in, figures, in.what, c->name + suffix, cases.size() > 1);
        const fs::path fields = folder.case_file(c->name);
        const auto number = static_cast<std::size_t>(c - &model.cases.all()[0]);
        const auto values = [&](const char* name, bool nodes) {
            if (again) return nodes ? fields_of_step.displacement[number] : fields_of_step.von_mises[number];
            return read_vtu(fields, model.mesh, name, nodes).values;
        };
        if (in.what == "directions") {
            draw_directions(model, *c, denser_than(density, at), values("displacement", true),
                            fmt::format("; cells denser than {:.3g}", at), options, file);
            console.result(file.string());
            continue;
        }
        show(in, job,
             with_state(in.what == "displacement"
                            ? displacement_figure(model, *c, density, at, values("displacement", true))
                            : stress_figure(model, *c, density, at, values("von_mises", false))),
             false, file, console);
    }
    return 0;
}

int run_plot(PlotWish in, Session& session) {
    const bool analysis = AnalysisFolder::is_one(in.target);
    if (in.what.empty()) in.what = analysis ? "displacement" : "density";
    if (analysis)
        require_served(in.what, {"displacement", "stress", "mode", "buckling", "directions"}, "an analysis");
    else
        require_served(in.what,
                       {"density", "displacement", "stress", "mode", "history", "thickness", "overhang",
                        "draft", "directions", "buckling"},
                       "a run");
    require_options(in);
    figure_options(in);
    return analysis ? plot_analysis(in, session) : plot_run(in, session);
}

} // namespace

Command plot_command() {
    return {
        "plot", "A figure of a run or of an analysis", [](Options& options) {
            auto in = std::make_shared<PlotWish>();
            options.word("RUN", in->target, "The folder of the run or analysis", true);
            options.value(
                "--what", "WHAT", in->what,
                "density (default), displacement, stress, mode, buckling, history; directions of the "
                "main stress; thickness, overhang or draft of "
                "the part; of an analysis (RUN/verify is one) displacement (default), stress, mode "
                "or buckling");
            options.value("--case", "NAME", in->of_case, "The case (default: all)");
            options.value(
                "--mode", "K", in->mode,
                "The mode, counted from 1 after the rigid ones, or the shape of buckling (default: 1)");
            options.flag("--animate", in->animate,
                         "The kept designs, a displacement or a mode as an animated GIF; the latter as one "
                         "picture for each frame where --out ends in .png");
            options.flag("--sheet", in->sheet, "With density: the kept iterations side by side");
            options.value("--cut", "PLANE", in->cut,
                          "Cells cut away: \"x = 100\" towards the reader, \"x < 100\" or \"x > 100\" keeps "
                          "that side");
            options.value("--mass", "MASS", in->mass,
                          "Show as much of the densest material, as \"3 kg\", instead of --at");
            options.value("--frames", "N", in->frames, "Frames of an animation (default: 24)");
            options.value("--restart", "N", in->restart, "Run N of optimize --restarts (default: 1)");
            options.value("--iteration", "N", in->iteration, "A kept iteration (default: the last)");
            options.value("--along", "X,Y,Z", in->along,
                          "With overhang the way up, with draft that of the die (default: as in [form])");
            options.value("--at", "T", in->at,
                          "Density above which material is shown (default: that of the black-and-white "
                          "design, or 0.5)");
            options.value("--out", "FILE", in->out,
                          "The picture (default: figures/ in the run); PNG, of the history SVG as well");
            add_figure_options(options, *in);
            return [in](Session& session) { return run_plot(*in, session); };
        }};
}

} // namespace upright::cli
