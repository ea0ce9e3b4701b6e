// upright optimize: the run.
#include "base/files.hpp"
#include "cli/commands/commands.hpp"
#include "model/rigid_freedom.hpp"
#include "model/storage.hpp"
#include "output/chart.hpp"
#include "output/ledger.hpp"
#include "output/run_report.hpp"

#include <chrono>
#include <fmt/format.h>
#include <omp.h>

namespace upright::cli {

namespace {

using Clock = std::chrono::steady_clock;

// Shows progress and keeps the folder up to date.
class RunObserver : public OptimizeObserver {
  public:
    RunObserver(const Study& study, const RunFolder& folder, Console& console)
        : study_(study), folder_(folder), console_(console), progress_(console, study) {}

    void note(const std::string& sentence) override { console_.remark(sentence); }
    bool stop_requested() const override { return InterruptGuard::requested(); }
    void iteration(const OptimizerState& state) override {
        progress_.iteration(state);
        folder_.write_history(study_, state.history);
        if (state.iteration == 1 || state.iteration % study_.run.keep_every == 0 || stop_requested()) {
            folder_.write_step(state);
            folder_.write_checkpoint(state);
        }
    }

  private:
    const Study& study_;
    const RunFolder& folder_;
    Console& console_;
    Progress progress_;
};

// What must be right before a run begins. Returns how many doubts there are.
std::size_t require_ready(const Study& study, const Model& model) {
    require_reachable(study, model, make_problem(study));
    const Ledger ledger = make_ledger(study, model);
    for (const LedgerSection& section : ledger.sections)
        for (const LedgerLine& line : section.lines) {
            if (line.standing != Standing::Missing) continue;
            Place place{study.file.string(), 1, 1};
            for (const StaticCase& c : study.cases)
                if (c.name == line.name) place = c.place;
            throw Error::input(place,
                               (section.title == "Cases" ? "the case \"" + line.name + "\": " : "") +
                                   line.remarks.front(),
                               "\"upright check\" shows the whole ledger");
        }
    return ledger.count(Standing::Doubt);
}

void print_summary(Console& console, const Study& study, const OptimizeResult& result, double seconds) {
    const IterationRow& row = result.state.history.back();
    console.result("");
    for (std::size_t r = 0; r < study.responses.size(); ++r) {
        const ResponseCard& card = study.responses[r];
        const std::string unit = study.units.text(dimension_of(card.measure));
        std::string line = fmt::format("  {:<20} {:<16} {:>12.6g} {:<8}", card.name, text(card.measure),
                                       row.responses[r], unit);
        if (card.name == study.goal->response) line += " goal";
        if (card.max)
            line += fmt::format(" at most {:.5g}: {}", *card.max,
                                holds(card, row.responses[r]) ? "holds" : "DOES NOT HOLD");
        console.result(line);
    }
    if (result.state.history.size() > 10) {
        const double before = result.state.history[result.state.history.size() - 11].goal;
        console.result(fmt::format("\nthe goal changed by {:+.2g} % over the last ten iterations",
                                   100.0 * (row.goal / before - 1.0)));
    }
    const char* ending = result.status == RunStatus::Converged ? "converged"
                         : result.status == RunStatus::Interrupted
                             ? "interrupted, checkpoint written; go on with --resume"
                             : "stopped at the limit of iterations";
    console.result(fmt::format("{} after {} iterations in {}; density change {:.3g}, grayness {:.3g}", ending,
                               row.iteration, time_text(seconds), row.change, row.grayness));
    if (result.status == RunStatus::Interrupted) return;
    console.result(result.feasible ? "every bound holds" : "NOT FEASIBLE: a bound does not hold");
    if (row.grayness > 0.05)
        console.result(fmt::format("doubt: grayness {:.2f} at the end; the densities are not near black and "
                                   "white, so carving changes the part{}",
                                   row.grayness,
                                   study.run.sharpen ? "; finer cells and more iterations help"
                                                     : "; sharpen = true helps"));
    const Schedule last = schedule(study.run, row.iteration);
    if (!last.final)
        console.result("doubt: the iterations ended before the final penalty and sharpness; allow more");
}

} // namespace

int run_optimize(const Invocation& in, Console& console) {
    const auto start = Clock::now();
    const Job job = load_job(in.target, in.settings);
    const Study& study = job.study;
    const Model& model = job.model;
    const std::filesystem::path path =
        in.out.empty() ? default_run_folder(in.target) : std::filesystem::path(in.out);
    if (in.resume && in.force) throw Error::usage("--resume and --force exclude each other");

    const std::size_t doubts = require_ready(study, model);
    // What fails here leaves no folder behind.
    ::omp_set_num_threads(threads_of(solver_options(study.run))); // of filter and projection as well
    StaticAnalysis analysis(model, solver_options(study.run));
    const InterruptGuard guard; // from here on a run folder is there to be left in order
    RunFolder folder = in.resume ? RunFolder::open(path, true) : RunFolder::create(path, in.force);
    OptimizerState from;
    std::string earlier_log;
    if (in.resume) {
        if (read_text(folder.study_file()) != study.resolved)
            throw Error::input({in.target},
                               "the study has changed since the run in " + path.string() + " began",
                               "Start afresh with --force, or undo the changes");
        const std::string status = folder.status();
        if (status == "converged" || status == "iteration-limit")
            throw Error::input({path.string()},
                               "this run has ended (" + status + "); there is nothing to resume",
                               "Start afresh with --force");
        if (!folder.has_checkpoint())
            throw Error::input({path.string()}, "this run has no checkpoint", "Start afresh with --force");
        from = folder.read_checkpoint();
        std::error_code ignored;
        if (std::filesystem::exists(folder.log_file(), ignored)) earlier_log = read_text(folder.log_file());
    } else {
        write_text(folder.study_file(), study.resolved);
        save_model(folder.path() / "model.h5", model, study.resolved);
    }

    console.remark(fmt::format("{}: {} elements, {} displacements, {} case{}", study.title,
                               model.mesh.elements(), model.freedoms(), model.cases.size(),
                               model.cases.size() == 1 ? "" : "s"));
    if (doubts > 0)
        console.remark(fmt::format("{} doubt{} about this study; \"upright check {}\" tells", doubts,
                                   doubts == 1 ? "" : "s", in.target));
    OptimizeResult result;
    SolverCost cost = analysis.cost();
    const auto seconds = [&] { return std::chrono::duration<double>(Clock::now() - start).count(); };
    try {
        for (const std::string& note : analysis.take_notes()) console.remark(note);
        for (const SolverPlan& plan : analysis.plans())
            console.remark(fmt::format("{}: {} unknowns, {}", cost.method, plan.unknowns,
                                       cost.factor_bytes > 0.0
                                           ? fmt::format("factor {:.3g} MB, prepared in {:.1f} s",
                                                         cost.factor_bytes / 1e6, cost.prepare_seconds)
                                           : fmt::format("about {:.2g} GB", plan.bytes / 1e9)));
        RunObserver observer(study, folder, console);
        result = optimize(study, analysis, observer, in.resume ? &from : nullptr);
        cost = analysis.cost();
        folder.write_step(result.state);
        folder.write_checkpoint(result.state);
        folder.write_history(study, result.state.history);
        write_fields(folder, analysis, result);
    } catch (const Error& bad) {
        write_run_json(folder, study, model, result, cost, seconds(), bad.what());
        throw;
    }
    print_summary(console, study, result, seconds());
    write_run_json(folder, study, model, result, cost, seconds());
    console.result("run: " + folder.path().string());
    if (result.status != RunStatus::Interrupted && !in.quiet)
        console.remark(
            fmt::format("look at it: upright plot {0} --what density\ncarve it:   upright carve {0} --at 0.5",
                        folder.path().string()));
    write_text(folder.log_file(), earlier_log + console.log());
    if (result.status == RunStatus::Interrupted) return static_cast<int>(ExitCode::Interrupted);
    return result.feasible ? 0 : static_cast<int>(ExitCode::BoundBroken);
}

} // namespace upright::cli
