// upright check: the readiness ledger and its figures.
#include "base/version.hpp"
#include "cli/commands/commands.hpp"
#include "output/drawings.hpp"
#include "output/ledger.hpp"

#include <fmt/format.h>

namespace upright::cli {

int run_check(const Invocation& in, Console& console) {
    const FigureOptions options = figure_options(in);
    const Job job = load_job(in.target, in.settings);
    const Study& study = job.study;
    const Model& model = job.model;
    const Ledger ledger = make_ledger(study, model);
    console.remark(fmt::format("{}\nunits {}, {}, {}; mass in {}, stress in {}\n", study.title,
                               study.units.length, study.units.force, study.units.time,
                               study.units.text(dimension::mass), study.units.text(dimension::stress)));
    console.result(render(ledger, console.width(), console.colored()));
    const std::size_t missing = ledger.count(Standing::Missing);
    const std::size_t doubts = ledger.count(Standing::Doubt);
    if (!in.no_figures) {
        namespace fs = std::filesystem;
        const fs::path study_file(in.target);
        const fs::path folder = in.out.empty()
                                    ? study_file.parent_path() / (study_file.stem().string() + ".check")
                                    : fs::path(in.out);
        draw_regions(study, model, options, folder / "regions.png");
        std::string drawn = (folder / "regions.png").string();
        for (const ModelCase& c : model.cases) {
            const fs::path file = folder / ("case-" + file_name(c.name) + ".png");
            draw_case(study, model, c, options, file);
            drawn += "\n         " + file.string();
        }
        console.remark("figures: " + drawn + "\n");
    }
    const auto plural = [](std::size_t n, const char* word) {
        return fmt::format("{} {}{}", n, word, n == 1 ? "" : "s");
    };
    if (missing > 0)
        console.result("NOT READY: " + plural(missing, "thing") + " missing, " + plural(doubts, "doubt"));
    else if (doubts > 0)
        console.result("ready, with " + plural(doubts, "doubt"));
    else
        console.result("ready");
    if (missing > 0 || (in.strict && doubts > 0)) return static_cast<int>(ExitCode::Input);
    return 0;
}

} // namespace upright::cli
