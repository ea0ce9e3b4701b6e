// upright plot: figures of a run.
#include "base/nearest.hpp"
#include "cli/commands/commands.hpp"
#include "output/chart.hpp"
#include "output/drawings.hpp"
#include "output/vtu.hpp"

#include <algorithm>

namespace upright::cli {

namespace {

namespace fs = std::filesystem;

// The cases that --case names; all without it.
std::vector<const ModelCase*> chosen_cases(const Model& model, const std::string& name) {
    std::vector<const ModelCase*> out;
    std::vector<std::string> names;
    for (const ModelCase& c : model.cases) {
        names.push_back(c.name);
        if (name.empty() || refers_to(name, c.name)) out.push_back(&c);
    }
    if (out.empty()) throw Error::usage("the run has no case \"" + name + "\"", suggestion(name, names));
    return out;
}

// The picture of one case; a file that was asked for gets the case's name when there are several.
fs::path picture(const Invocation& in, const RunFolder& folder, const std::string& what, const ModelCase* c,
                 bool several) {
    if (in.out.empty()) return folder.figure(c == nullptr ? what : what + "-" + file_name(c->name));
    fs::path out(in.out);
    if (!several || c == nullptr) return out;
    return out.parent_path() / (out.stem().string() + "-" + file_name(c->name) + out.extension().string());
}

} // namespace

int run_plot(const Invocation& in, Console& console) {
    static const std::vector<std::string> served{"density", "displacement", "stress", "history"};
    if (std::find(served.begin(), served.end(), in.what) == served.end()) {
        if (in.what == "mode")
            throw Error::usage("--what mode is not served yet by this version",
                               "Served: density, displacement, stress, history");
        throw Error::usage("--what " + in.what + " is not a figure", suggestion(in.what, served));
    }
    if (!in.out.empty() && fs::path(in.out).extension() != ".png")
        throw Error::usage("--out " + in.out + " is not a PNG file", "Write a name that ends in .png");
    const FigureOptions options = figure_options(in);
    const double at = threshold(in);
    const bool per_case = in.what == "displacement" || in.what == "stress";
    if (!in.of_case.empty() && !per_case)
        throw Error::usage("--case goes with --what displacement or stress");
    if (in.iteration && in.what != "density")
        throw Error::usage("--iteration goes with --what density",
                           "Cases are kept for the last iteration alone");
    const RunFolder folder = RunFolder::open(find_run(in.target, console), false);
    const Job job = load_run(folder);
    const Study& study = job.study;
    if (in.what == "history") {
        const fs::path file = picture(in, folder, "history", nullptr, false);
        draw_history(study, folder.read_history(), options, file);
        console.result(file.string());
        return 0;
    }
    const Model& model = job.model;
    const std::vector<double> density = read_design(folder, model, in.iteration);
    if (in.what == "density") {
        const std::string name = in.iteration ? "density-" + std::to_string(*in.iteration) : "density";
        const fs::path file = picture(in, folder, name, nullptr, false);
        draw_density(study, model, density, at, state_text(folder, in.iteration), options, file);
        console.result(file.string());
        return 0;
    }
    const auto cases = chosen_cases(model, in.of_case);
    for (const ModelCase* c : cases) {
        const fs::path file = picture(in, folder, in.what, c, cases.size() > 1);
        const fs::path fields = folder.case_file(c->name);
        if (in.what == "displacement")
            draw_displacement(study, model, *c, density, at,
                              read_vtu(fields, model.mesh, "displacement", true).values, options, file);
        else
            draw_stress(study, model, *c, density, at,
                        read_vtu(fields, model.mesh, "von_mises", false).values, options, file);
        console.result(file.string());
    }
    return 0;
}

} // namespace upright::cli
