// upright optimize: the run.
#include "base/files.hpp"
#include "check/ledger.hpp"
#include "cli/commands/commands.hpp"
#include "figures/chart.hpp"
#include "model/rigid_freedom.hpp"
#include "model/storage.hpp"
#include "store/run_report.hpp"
#include "tell/run_text.hpp"

#include <chrono>
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <future>
#include <memory>
#include <omp.h>

namespace upright::cli {

namespace {

struct Wish : StudyWish {
    std::string out;
    bool force = false, certificate = false, resume = false;
};

using Clock = std::chrono::steady_clock;

// Shows progress and keeps the folder up to date.
class RunObserver : public OptimizeObserver {
  public:
    RunObserver(const Model& model, RunFolder& folder, Console& console)
        : model_(model), folder_(folder), console_(console), progress_(console, model) {}

    void note(const std::string& sentence) override { console_.remark(sentence); }
    bool stop_requested() const override { return InterruptGuard::requested(); }
    void iteration(const OptimizerState& state) override {
        progress_.iteration(state);
        // Files are written while the next iteration is worked on, one after the other: a disk takes its
        // time.
        wait();
        if (keeps(state.iteration))
            writing_ = std::async(std::launch::async, [this, kept = state] {
                folder_.write_history(model_, kept.history);
                folder_.write_step(kept.iteration, kept.density);
                folder_.write_checkpoint(kept);
            });
        else
            writing_ = std::async(std::launch::async,
                                  [this, rows = state.history] { folder_.write_history(model_, rows); });
        if (folder_.published()) return;
        // The first iteration stands: an earlier run gives way.
        wait();
        folder_.publish();
    }
    // Until all is written. Throws what kept it from being written.
    void wait() {
        if (writing_.valid()) writing_.get();
    }
    bool keeps(int iteration) const override {
        return iteration == 1 || iteration % model_.run.keep_every == 0;
    }

  private:
    const Model& model_;
    RunFolder& folder_;
    Console& console_;
    Progress progress_;
    std::future<void> writing_; // waits in its destructor
};

// What must be right before a run begins. Returns how many doubts there are.
std::size_t require_ready(const Model& model) {
    require_reachable(model, make_problem(model));
    const Ledger ledger = make_ledger(model);
    for (const LedgerSection& section : ledger.sections)
        for (const LedgerLine& line : section.lines) {
            if (line.standing != Standing::Missing) continue;
            Place place{model.file.string(), 1, 1};
            for (const ModelCase& c : model.cases)
                if (c.name == line.name) place = c.place;
            throw Error::input(place,
                               (section.title == "Cases" ? "the case \"" + line.name + "\": " : "") +
                                   line.remarks.front(),
                               "\"upright check\" shows the whole ledger");
        }
    return ledger.count(Standing::Doubt);
}

// The last design of an earlier run, on the mesh of this one.
std::vector<double> density_of_run(const Model& model, Console& console) {
    const RunFolder earlier = RunFolder::open(*model.run.start_run, false);
    const StoredModel stored = load_model(*model.run.start_run / "model.h5");
    const std::vector<double> density = earlier.read_density(-1);
    if (density.size() != stored.model.mesh.elements())
        throw Error::input(model.run.start_place, "the run to start from is damaged: its design does not "
                                                  "fit its model");
    console.remark(fmt::format("starting from the design of {}, {} elements", model.run.start_run->string(),
                               density.size()));
    return carry_over(stored.model.mesh, density, model.mesh);
}

int run_optimize(const Wish& in, Session& session) {
    Console& console = session.console;
    const auto start = Clock::now();
    const Job job = load_job(session, in.target, in.settings, true);
    const Study& study = job.study;
    const Model& model = job.model;
    const std::filesystem::path path =
        in.out.empty() ? default_run_folder(in.target) : std::filesystem::path(in.out);
    if (in.resume && in.force) throw Error::usage("--resume and --force exclude each other");

    const std::size_t doubts = require_ready(model);
    // What fails here leaves no folder behind.
    ::omp_set_num_threads(threads_of(solver_options(model.run))); // of filter and projection as well
    StaticAnalysis analysis(model, solver_options(model.run));
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
    }

    console.remark(fmt::format("{}: {} elements, {} displacements, {} case{}", model.title,
                               model.mesh.elements(), model.freedoms(), model.cases.size(),
                               model.cases.size() == 1 ? "" : "s"));
    if (doubts > 0)
        console.remark(fmt::format("{} doubt{} about this study; \"upright check {}\" tells", doubts,
                                   doubts == 1 ? "" : "s", in.target));
    OptimizeResult result;
    std::optional<Certificate> certificate;
    const auto write_log = [&](const std::string& more = {}) {
        write_text(folder.log_file(), earlier_log + console.log() + more);
    };
    SolverCost cost = analysis.cost();
    const auto seconds = [&] { return std::chrono::duration<double>(Clock::now() - start).count(); };
    // Leaves the folder in order, and hands the error on.
    const auto failed = [&](const Error& bad) {
        std::error_code ignored;
        const bool began = std::filesystem::exists(folder.history_file(), ignored);
        if (!folder.published() || (bad.code() == ExitCode::Input && !began)) {
            // Before the first iteration: an earlier run stays as it was; bounds out of reach leave nothing.
            if (!folder.published()) console.remark("the earlier run in " + path.string() + " is as it was");
            folder.discard();
            return bad;
        }
        try {
            write_run_json(folder, analysis, result, cost, seconds(), bad.what());
            write_log(std::string(bad.what()) + "\n");
        } catch (const std::exception&) { // the first error says more
        }
        return bad;
    };
    try {
        if (!in.resume) {
            write_text(folder.study_file(), study.resolved);
            save_model(folder.model_file(), model, study.resolved);
        }
        for (const std::string& note : analysis.take_notes()) console.remark(note);
        for (const SolverPlan& plan : analysis.plans())
            console.remark(fmt::format("{}: {} unknowns, {}", cost.method, plan.unknowns,
                                       cost.factor_bytes > 0.0
                                           ? fmt::format("factor {:.3g} MB, prepared in {:.1f} s",
                                                         cost.factor_bytes / 1e6, cost.prepare_seconds)
                                           : fmt::format("about {:.2g} GB", plan.bytes / 1e9)));
        RunObserver observer(model, folder, console);
        RunStart begin;
        if (in.resume)
            begin.from = &from;
        else if (model.run.start_run)
            begin.density = density_of_run(model, console);
        else if (model.run.coarse_first)
            begin.density = coarse_start(build_model(on_cells(study, 2.0)), model, observer);
        result = optimize(analysis, observer, begin);
        observer.wait();
        cost = analysis.cost();
        folder.write_step(result.state.iteration, result.state.density);
        if (result.design_of != result.state.iteration) folder.write_step(result.design_of, result.density);
        folder.write_checkpoint(result.state);
        folder.write_history(model, result.state.history);
        write_fields(folder, analysis, result);
        if (in.certificate && result.status != RunStatus::Interrupted) {
            console.remark("computing the certificate: the convex relaxation on the same mesh");
            certificate = certify(analysis, result.goal, observer);
        }
    } catch (const std::bad_alloc&) {
        throw failed(Error::numerics("there is not enough memory", "Write a larger cell size"));
    } catch (const Error& bad) {
        throw failed(bad);
    } catch (const std::exception& bad) {
        throw failed(Error::numerics(std::string("unexpected: ") + bad.what()));
    }
    console.result(run_summary(model, result, seconds()));
    if (certificate) console.result(certificate_text(model, *certificate));
    write_run_json(folder, analysis, result, cost, seconds(), {}, certificate ? &*certificate : nullptr);
    console.result("run: " + folder.path().string());
    if (result.status != RunStatus::Interrupted && !session.quiet)
        console.remark(
            fmt::format("look at it: upright plot {0} --what density\ncarve it:   upright carve {0} --at 0.5",
                        folder.path().string()));
    write_log();
    if (result.status == RunStatus::Interrupted) return static_cast<int>(ExitCode::Interrupted);
    return result.feasible ? 0 : static_cast<int>(ExitCode::BoundBroken);
}

} // namespace

Command optimize_command() {
    return {"optimize", "The optimisation run, with live progress", [](Options& options) {
                auto in = std::make_shared<Wish>();
                add_study(options, *in);
                options.value("--out", "DIR", in->out,
                              "Folder of the run (default: <study>.run beside the study)");
                options.flag("--force", in->force, "Overwrite an earlier run");
                options.flag("--certificate", in->certificate,
                             "At the end tell how far the design can be from the best one at all");
                options.flag("--resume", in->resume, "Go on from the checkpoint of an interrupted run");
                return [in](Session& session) { return run_optimize(*in, session); };
            }};
}

} // namespace upright::cli
