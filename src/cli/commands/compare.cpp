// upright compare: runs, iterations, analyses and parts side by side.
#include "base/files.hpp"
#include "cli/commands/commands.hpp"
#include "cli/commands/compare_figures.hpp"
#include "compare/comparison.hpp"
#include "tell/compare_text.hpp"

#include <fmt/format.h>
#include <memory>

namespace upright::cli {

namespace {

namespace fs = std::filesystem;

struct CompareWish : FigureWish {
    std::vector<std::string> targets;
    std::string out, of_case;
    std::optional<double> at;
    bool no_figures = false;
};

// A bare name that is not here is looked for below, as everywhere; an iteration may stand behind it.
std::string found(const std::string& asked, Console& console) {
    std::error_code ignored;
    if (fs::exists(asked, ignored)) return asked;
    const auto at = asked.rfind('@');
    if (at == std::string::npos) return find_run(asked, console).string();
    return find_run(asked.substr(0, at), console).string() + asked.substr(at);
}

int run_compare(const CompareWish& in, Session& session) {
    Console& console = session.console;
    if (in.targets.size() < 2)
        throw Error::usage("one alone cannot be compared", "Name two or more: upright compare a.run b.run");
    threshold(in.at);
    if (in.out.empty() && (in.no_figures || !in.of_case.empty()))
        throw Error::usage("--case and --no-figures say what --out DIR is to hold",
                           "Write --out DIR as well");
    CompareFiguresWish figures{in.of_case, in.at, figure_options(in)};
    std::vector<Subject> subjects;
    for (const std::string& target : in.targets) subjects.push_back(read_subject(found(target, console)));
    const Comparison comparison(std::move(subjects));
    console.result(comparison_text(comparison));
    if (in.out.empty()) {
        console.remark("\n--out DIR keeps this as CSV and JSON, and draws figures side by side");
        return 0;
    }
    const fs::path folder = in.out;
    make_folder(folder);
    comparison.write_csv(folder / "compare.csv");
    comparison.write_json(folder / "compare.json");
    console.result(fmt::format("\ntables: {}\n        {}", (folder / "compare.csv").string(),
                               (folder / "compare.json").string()));
    if (in.no_figures) return 0;
    beside_result(console, [&] {
        for (const fs::path& file : draw_comparison(comparison, figures, session, folder))
            console.result("figure: " + file.string());
    });
    return 0;
}

} // namespace

Command compare_command() {
    return {"compare", "Runs, iterations, analyses and parts side by side", [](Options& options) {
                auto in = std::make_shared<CompareWish>();
                in->size = "960x600";
                options.several(
                    "RUN", "", in->targets,
                    "Folders of runs, analyses or parts (RUN/verify); RUN@7, RUN@first, RUN@last is "
                    "an iteration of a run");
                options.value("--out", "DIR", in->out, "Keep tables (CSV, JSON) and figures there");
                options.value("--case", "NAME", in->of_case, "Figures of this case alone (default: all)");
                options.value("--at", "T", in->at,
                              "Density above which material is shown (default: each run's own)");
                options.flag("--no-figures", in->no_figures, "Tables alone");
                options.value(
                    "--from", "VIEW", in->from,
                    "Where to look from: corner, front, back, left, right, top, bottom or x,y,z (default: "
                    "corner)");
                options.value("--size", "WxH", in->size, "Size of each tile in pixels (default: 960x600)");
                options.flag("--dark", in->dark, "Pale on dark");
                return [in](Session& session) { return run_compare(*in, session); };
            }};
}

} // namespace upright::cli
