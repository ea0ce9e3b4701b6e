// What the commands share.
#include "cli/commands/commands.hpp"
#include "cli/commands/restarts.hpp"
#include "part/extract.hpp"

#include "kinds/kinds.hpp"
#include "model/storage.hpp"
#include "quantity/quantities.hpp"
#include "study/mesh_word.hpp"

#include <fmt/format.h>

namespace upright::cli {

namespace fs = std::filesystem;

fs::path example_folder(const Session& session) {
    const fs::path here = fs::path(session.program).parent_path();
    std::error_code ignored;
    for (const fs::path& folder : {here / "../share/upright/examples", fs::path(UPRIGHT_SOURCE_EXAMPLES)})
        if (fs::is_directory(folder, ignored)) return folder;
    throw Error::files("examples", "the shipped examples are missing",
                       "Install the program with its share folder");
}

fs::path find_run(const std::string& path, Console& console) {
    std::error_code ignored;
    fs::path given(path);
    if (fs::exists(given, ignored) || given.has_parent_path()) return given;
    std::vector<fs::path> found;
    const auto options = fs::directory_options::skip_permission_denied;
    for (auto it = fs::recursive_directory_iterator(".", options, ignored);
         it != fs::recursive_directory_iterator(); it.increment(ignored)) {
        if (it.depth() > 3 || it->path().filename().string().front() == '.') it.disable_recursion_pending();
        if (it->path().filename() == given && fs::exists(it->path() / "study.toml", ignored))
            found.push_back(it->path().lexically_normal());
    }
    if (found.size() == 1) {
        console.remark(path + " is not here; taking " + found.front().string());
        return found.front();
    }
    if (found.size() > 1)
        throw Error::input({path}, "there is no such run here and several below",
                           "Name one: " + found[0].string() + " or " + found[1].string());
    return given;
}

fs::path restart_of(const fs::path& run, const std::optional<int>& number) {
    if (!number || *number == 1) return run;
    std::error_code ignored;
    const fs::path out = restart_folder(run, *number);
    if (*number < 1 || !fs::exists(out / "study.toml", ignored))
        throw Error::input(
            {run.string()}, fmt::format("this run has no restart {}", *number),
            "\"upright optimize STUDY --restarts N\" makes them; run.json tells which there are");
    return out;
}

Job load_job(const Session& session, const fs::path& file, const std::vector<std::string>& settings,
             bool tell) {
    if (file.extension() != ".h5") {
        Job out{load_study(file, settings, session.kinds.language), {}};
        std::optional<Waiting> waiting;
        if (tell) waiting.emplace(session.console, "making the " + out.study.mesh.kind->word + " mesh");
        out.model = build_model(out.study);
        return out;
    }
    if (!settings.empty())
        throw Error::usage("--set changes a study, and " + file.string() +
                               " is a model that is built already",
                           "Use the study, or write the model again with \"upright model STUDY --set …\"");
    StoredModel stored = load_model(file);
    Job out{load_study_text(stored.study, file, session.kinds.language), std::move(stored.model)};
    take_asked(out.model, out.study);
    return out;
}

Job load_run(const Session& session, const RunFolder& folder) {
    const fs::path model = folder.path() / "model.h5";
    std::error_code ignored;
    return load_job(session, fs::exists(model, ignored) ? model : folder.study_file());
}

std::vector<double> read_design(const RunFolder& folder, const Model& model,
                                const std::optional<int>& iteration) {
    std::vector<double> density = folder.read_density(iteration.value_or(-1));
    if (density.size() != model.mesh.elements())
        throw Error::input({folder.path().string()}, "the densities of this run do not fit its study.toml",
                           "Run the study again with --force");
    return density;
}

DesignValues design_values(const RunFolder& folder, const Model& model, const std::optional<int>& iteration) {
    KeptDesign kept = folder.read_step(iteration.value_or(-1));
    if (kept.density.size() != model.mesh.elements())
        throw Error::input({folder.path().string()}, "the densities of this run do not fit its study.toml",
                           "Run the study again with --force");
    return {std::move(kept.density), std::move(kept.filtered), kept.sharpness,
            threshold(std::nullopt, folder, iteration)};
}

double quantity_asked(const std::string& option, const std::string& given, const Dimension& dimension,
                      const Model& model) {
    try {
        return Quantities(model.units).number(given, dimension, {});
    } catch (const Error& e) {
        throw Error::usage(option + ": " + e.what());
    }
}

double blend_radius(const std::string& asked, const Model& model, double edge) {
    if (asked.empty()) return 0.0;
    const std::string& length = model.units.length;
    const double radius = quantity_asked("--blend", asked, dimension::length, model);
    if (!(radius > 0.0))
        throw Error::usage("--blend " + asked + " is no radius of a fillet",
                           fmt::format("Write a length, such as \"{:g} {}\"", 2.0 * edge, length));
    if (carved_flat(model)) throw Error::usage("--blend goes with solid models", "Leave it out");
    if (radius < edge)
        throw Error::usage(
            fmt::format("--blend {}: edges of {:g} {} cannot follow so small a radius", asked, edge, length),
            fmt::format("Write \"{:g} {}\" or more, or make the edges shorter: carve has --fine for it, the "
                        "study the size of [mesh]",
                        edge, length));
    const double widest = 0.5 * model.mesh.bounds.diagonal();
    if (radius > widest)
        throw Error::usage(fmt::format("--blend {}: the whole space is {:.4g} {} from corner to corner",
                                       asked, 2.0 * widest, length),
                           fmt::format("Write a length, such as \"{:g} {}\"", 2.0 * edge, length));
    return radius;
}

void add_study(Options& options, StudyWish& wish) {
    options.word("STUDY", wish.target, "The study file (.toml), or a model.h5 of \"upright model\"", true);
    options.several("--set", "PATH=VALUE", wish.settings,
                    "Change a value: --set response.budget.max=0.3 (may be given several times)");
}

void add_figure_options(Options& options, FigureWish& wish) {
    options.value(
        "--from", "VIEW", wish.from,
        "Where to look from: corner, front, back, left, right, top, bottom or x,y,z (default: corner)");
    options.value("--size", "WxH", wish.size, "Size of the picture in pixels (default: 1280x800)");
    options.flag("--dark", wish.dark, "Pale on dark");
}

FigureOptions figure_options(const FigureWish& in) {
    FigureOptions out;
    out.from = in.from;
    out.dark = in.dark;
    view_direction(in.from, false);
    const auto cross = in.size.find('x');
    try {
        std::size_t used_width = 0;
        std::size_t used_height = 0;
        const std::string height = cross == std::string::npos ? "" : in.size.substr(cross + 1);
        out.width = std::stoi(in.size.substr(0, cross), &used_width);
        out.height = std::stoi(height, &used_height);
        if (used_width != cross || used_height != height.size()) throw std::invalid_argument("size");
    } catch (const std::exception&) {
        throw Error::usage("--size " + in.size + " is not a size", "Write it as 1280x800");
    }
    if (out.width < 400 || out.height < 300 || out.width > 6000 || out.height > 6000)
        throw Error::usage("--size " + in.size + " is out of range", "Write between 400x300 and 6000x6000");
    return out;
}

double threshold(const std::optional<double>& at) {
    if (at && !(*at > 0.0 && *at < 1.0))
        throw Error::usage(fmt::format("--at {:g} is no density to cut at", *at),
                           "Write a number between 0 and 1, such as 0.5");
    return at.value_or(0.5);
}

double threshold(const std::optional<double>& at, const RunFolder& folder,
                 const std::optional<int>& iteration) {
    const bool of_result = !iteration || *iteration == folder.result_iteration();
    if (!at && of_result) return folder.threshold().value_or(0.5);
    return threshold(at);
}

std::string state_text(const RunFolder& folder, const std::optional<int>& iteration) {
    const std::vector<int> kept = folder.kept_iterations();
    const int last = kept.empty() ? 0 : kept.back();
    const int result = folder.result_iteration();
    if (iteration && *iteration != result) return fmt::format("iteration {} of {}", *iteration, last);
    if (result != last)
        return fmt::format("iteration {} of {}, {}", result, last,
                           folder.outcome().feasible ? "the best that held every bound"
                                                     : "whose worst bound is broken least");
    std::string status = folder.status();
    if (status.empty()) status = "not finished";
    if (status == "iteration-limit") status = "stopped at the limit of iterations";
    return fmt::format("iteration {}, {}", last, status);
}

} // namespace upright::cli
