// upright check: the readiness ledger and its figures.
#include "base/version.hpp"
#include "cli/commands/commands.hpp"
#include "figures/drawings.hpp"
#include "optimize/gradient_check.hpp"
#include "tell/ledger_text.hpp"

#include <fmt/format.h>
#include <memory>
#include <omp.h>

namespace upright::cli {

namespace {

struct CheckWish : StudyWish, FigureWish {
    std::string out;
    bool no_figures = false, gradients = false, strict = false;
};

class Notes : public Observer {
  public:
    explicit Notes(Console& console) : console_(console) {}
    void note(const std::string& sentence) override { console_.remark("  " + sentence); }
    bool stop_requested() const override { return InterruptGuard::requested(); }

  private:
    Console& console_;
};

void show_gradients(const Model& model, Console& console) {
    console.remark("Sensitivities");
    ::omp_set_num_threads(threads_of(solver_options(model.run)));
    StaticAnalysis analysis(model, solver_options(model.run));
    const InterruptGuard guard;
    Notes notes(console);
    const GradientCheck check = check_gradients(analysis, notes);
    console.result(fmt::format("  {:<28} {:<16} {:>12}  {:>13}  {:>13}  {:>9}", "response", "measure",
                               "value", "slope", "difference", "error"));
    for (const GradientRow& row : check.rows)
        console.result(fmt::format("  {:<28} {:<16} {:>12.6g}  {:>13.7g}  {:>13.7g}  {:>9.1e}{}", row.name,
                                   row.measure, row.value, row.slope, row.difference, row.error,
                                   row.remark.empty() ? "" : "  " + row.remark));
    console.result(fmt::format("  along {} random directions of {} variables, random densities, penalty 3; "
                               "errors as a share of the gradient's length\n",
                               check.directions, check.variables));
}

int run_check(const CheckWish& in, Session& session) {
    Console& console = session.console;
    const FigureOptions options = figure_options(in);
    const Job job = load_job(session, in.target, in.settings, true);
    const Model& model = job.model;
    const Ledger ledger = make_ledger(model, true);
    console.remark(fmt::format("{}\nunits {}, {}, {}; mass in {}, stress in {}\n", model.title,
                               model.units.length, model.units.force, model.units.time,
                               model.units.text(dimension::mass), model.units.text(dimension::stress)));
    console.result(render(ledger, console.width(), console.colored()));
    const std::size_t missing = ledger.count(Standing::Missing);
    const std::size_t doubts = ledger.count(Standing::Doubt);
    if (!in.no_figures) {
        namespace fs = std::filesystem;
        const fs::path study_file(in.target);
        const fs::path folder = in.out.empty()
                                    ? study_file.parent_path() / (study_file.stem().string() + ".check")
                                    : fs::path(in.out);
        beside_result(console, [&] {
            draw_regions(model, options, folder / "regions.png");
            std::string drawn = (folder / "regions.png").string();
            if (const fs::path file = folder / "pattern.png"; draw_pattern(model, options, file))
                drawn += "\n         " + file.string();
            for (const ModelCase& c : model.cases) {
                const fs::path file = folder / ("case-" + file_name(c.name) + ".png");
                draw_case(model, c, options, file);
                drawn += "\n         " + file.string();
            }
            for (const ModelModalCase& c : model.modal_cases) {
                const fs::path file = folder / ("case-" + file_name(c.name) + ".png");
                draw_modal_case(model, c, options, file);
                drawn += "\n         " + file.string();
            }
            console.remark("figures: " + drawn + "\n");
        });
    }
    if (in.gradients && missing == 0) show_gradients(model, console);
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

} // namespace

Command check_command() {
    return {"check",
            "The readiness ledger: every card, what it came to, what is missing or doubtful; figures",
            [](Options& options) {
                auto in = std::make_shared<CheckWish>();
                add_study(options, *in);
                options.value("--out", "DIR", in->out,
                              "Folder for the figures (default: <study>.check beside the study)");
                options.flag("--no-figures", in->no_figures, "Draw no figures");
                options.flag("--gradients", in->gradients,
                             "Compare the sensitivities of every response with central differences");
                options.flag("--strict", in->strict, "Doubts count as errors (exit code 3)");
                add_figure_options(options, *in);
                return [in](Session& session) { return run_check(*in, session); };
            }};
}

} // namespace upright::cli
