// upright optimize: the run.
#include "base/files.hpp"
#include "check/ledger.hpp"
#include "cli/commands/commands.hpp"
#include "cli/commands/restarts.hpp"
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

struct OptimizeWish : StudyWish {
    std::string out;
    bool force = false, certificate = false, resume = false;
    int restarts = 1;
};

using Clock = std::chrono::steady_clock;

// Shows progress and keeps the folder up to date.
class RunObserver : public OptimizeObserver {
  public:
    RunObserver(const Model& model, RunFolder& folder, Console& console)
        : model_(model), folder_(folder), console_(console), progress_(console, model) {}

    void note(const std::string& sentence) override { console_.remark(sentence); }
    bool stop_requested() const override { return InterruptGuard::requested(); }
    void iteration(OptimizerState& state) override {
        progress_.iteration(state);
        // Files are written while the next iteration is worked on, one after the other: a disk takes its
        // time.
        wait();
        std::vector<H5File> kept;
        if (keeps(state.iteration)) kept = folder_.kept_files(state);
        writing_ =
            std::async(std::launch::async, [this, rows = state.history, files = std::move(kept)]() mutable {
                folder_.write_history(model_, rows);
                for (; !files.empty(); files.pop_back()) files.back().save();
            });
        if (model_.mesh.elements() > large_model) wait();
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
    const RunFolder earlier = RunFolder::open(*model.run.start_run, Access::Reading);
    const StoredModel stored = load_model(*model.run.start_run / "model.h5");
    const std::vector<double> density = earlier.read_density(-1);
    if (density.size() != stored.model.mesh.elements())
        throw Error::input(model.run.start_place, "the run to start from is damaged: its design does not "
                                                  "fit its model");
    console.remark(fmt::format("starting from the design of {}, {} elements", model.run.start_run->string(),
                               density.size()));
    return carry_over(stored.model.mesh, density, model.mesh);
}

// One run, from the study to the last file in its folder.
class Run {
  public:
    Run(const OptimizeWish& in, Session& session)
        : in_(in), session_(session), console_(session.console),
          job_(load_job(session, in.target, in.settings, true)), model_(job_.model) {}

    int operator()() {
        const std::filesystem::path path =
            in_.out.empty() ? default_run_folder(in_.target) : std::filesystem::path(in_.out);
        if (in_.resume && in_.force) throw Error::usage("--resume and --force exclude each other");
        if (in_.restarts < 1 || in_.restarts > most_restarts)
            throw Error::usage(fmt::format("--restarts takes 1 to {} runs", most_restarts));
        const std::size_t doubts = require_ready(model_);
        // What fails here leaves no folder behind.
        ::omp_set_num_threads(threads_of(solver_options(model_.run))); // of filter and projection as well
        StaticAnalysis analysis(model_, solver_options(model_.run));
        const InterruptGuard guard; // from here on a run folder is there to be left in order
        RunFolder folder = in_.resume
                               ? RunFolder::open(path, Access::Running)
                               : RunFolder::create(path, in_.force ? Existing::Replace : Existing::Refuse);
        if (in_.resume && take_up(folder, path)) return others(path);
        introduce(doubts);
        cost_ = analysis.cost();
        try {
            work(analysis, folder);
        } catch (const std::bad_alloc&) {
            throw failed(Error::numerics("there is not enough memory",
                                         "Write a larger cell size, or allow the program more memory"),
                         analysis, folder, path);
        } catch (const Error& bad) {
            throw failed(bad, analysis, folder, path);
        } catch (const std::exception& bad) {
            throw failed(Error::numerics(std::string("unexpected: ") + bad.what()), analysis, folder, path);
        }
        const int code = tell(analysis, folder);
        return in_.restarts > 1 && result_.status != RunStatus::Interrupted ? others(path) : code;
    }

  private:
    // The same from other starts.
    int others(const std::filesystem::path& path) const {
        return run_restarts({in_.target, in_.settings, path, in_.restarts, in_.resume, cost_.bytes}, model_,
                            console_);
    }

    // What an interrupted run left, for --resume. True where it has ended and only others are to go on.
    bool take_up(const RunFolder& folder, const std::filesystem::path& path) {
        if (read_text(folder.study_file()) != job_.study.resolved)
            throw Error::input({in_.target},
                               "the study has changed since the run in " + path.string() + " began",
                               "Start afresh with --force, or undo the changes");
        const std::string status = folder.status();
        const bool ended = status == "converged" || status == "iteration-limit";
        if (ended && in_.restarts > 1) return true;
        if (ended)
            throw Error::input({path.string()},
                               "this run has ended (" + status + "); there is nothing to resume",
                               "Start afresh with --force");
        if (!folder.has_checkpoint())
            throw Error::input({path.string()}, "this run has no checkpoint", "Start afresh with --force");
        from_ = folder.read_checkpoint();
        std::error_code ignored;
        if (std::filesystem::exists(folder.log_file(), ignored)) earlier_log_ = read_text(folder.log_file());
        return false;
    }

    void introduce(std::size_t doubts) const {
        console_.remark(fmt::format("{}: {} elements, {} displacements, {} case{}", model_.title,
                                    model_.mesh.elements(), model_.freedoms(), model_.cases.size(),
                                    model_.cases.size() == 1 ? "" : "s"));
        if (doubts > 0)
            console_.remark(fmt::format("{} doubt{} about this study; \"upright check {}\" tells", doubts,
                                        doubts == 1 ? "" : "s", in_.target));
    }

    RunStart beginning(RunObserver& observer) {
        RunStart out;
        if (in_.resume)
            out.from = &from_;
        else if (model_.run.start_run)
            out.density = density_of_run(model_, console_);
        else if (begins_coarse(model_)) {
            auto coarse = coarse_start([&](double times) { return build_model(on_cells(job_.study, times)); },
                                       model_, observer);
            if (!coarse)
                throw Error::interrupted("stopped in the coarse run: there is nothing to resume yet",
                                         "Start again, without --resume");
            out.density = std::move(*coarse);
            if (out.density.empty())
                job_.model.run.coarse_first = false; // what the run is said to begin with
        }
        return out;
    }

    // The run itself, and all its files but the summary.
    void work(StaticAnalysis& analysis, RunFolder& folder) {
        if (!in_.resume) {
            write_text(folder.study_file(), job_.study.resolved);
            save_model(folder.model_file(), model_, job_.study.resolved);
        }
        for (const std::string& note : analysis.take_notes()) console_.remark(note);
        for (const SolverPlan& plan : analysis.plans())
            console_.remark(fmt::format("{}: {} unknowns, {}", cost_.method, plan.unknowns,
                                        cost_.factor_bytes > 0.0
                                            ? fmt::format("factor {:.3g} MB, prepared in {:.1f} s",
                                                          cost_.factor_bytes / 1e6, cost_.prepare_seconds)
                                            : fmt::format("about {:.2g} GB", plan.bytes / 1e9)));
        RunObserver observer(model_, folder, console_);
        result_ = optimize(analysis, observer, beginning(observer));
        observer.wait();
        cost_ = analysis.cost();
        folder.write_step(result_.state.iteration, result_.state.design());
        if (result_.best_feasible > 0) folder.write_step(result_.best_feasible, result_.best);
        folder.write_step(result_.design_of, result_.design());
        if (result_.status == RunStatus::Interrupted) folder.write_checkpoint(result_.state);
        folder.write_history(model_, result_.state.history);
        write_fields(folder, analysis, result_);
        if (in_.certificate && result_.status != RunStatus::Interrupted) {
            console_.remark("computing the certificate: the convex relaxation on the same mesh");
            certificate_ = certify(analysis, result_.goal, observer);
        }
    }

    // Leaves the folder in order, and hands the error on.
    Error failed(const Error& bad, const StaticAnalysis& analysis, RunFolder& folder,
                 const std::filesystem::path& path) {
        std::error_code ignored;
        const bool began = std::filesystem::exists(folder.history_file(), ignored);
        if (!folder.published() ||
            (!began && (bad.code() == ExitCode::Input || bad.code() == ExitCode::Interrupted))) {
            // Before the first iteration: an earlier run stays as it was; bounds out of reach leave nothing.
            if (!folder.published()) console_.remark("the earlier run in " + path.string() + " is as it was");
            folder.discard();
            return bad;
        }
        try {
            write_run_json(folder, analysis, result_, cost_, seconds(), bad.what());
            write_log(folder, std::string(bad.what()) + "\n");
        } catch (const std::exception&) { // the first error says more
        }
        return bad;
    }

    int tell(const StaticAnalysis& analysis, const RunFolder& folder) const {
        console_.result(run_summary(model_, result_, seconds()));
        if (certificate_) console_.result(certificate_text(model_, *certificate_));
        write_run_json(folder, analysis, result_, cost_, seconds(), {},
                       certificate_ ? &*certificate_ : nullptr);
        console_.result("run: " + folder.path().string());
        if (result_.status != RunStatus::Interrupted && !session_.quiet)
            console_.remark(
                fmt::format("look at it: upright plot {0} --what density\ncarve it:   upright carve {0}",
                            folder.path().string()));
        write_log(folder);
        if (result_.status == RunStatus::Interrupted) return static_cast<int>(ExitCode::Interrupted);
        return result_.feasible ? 0 : static_cast<int>(ExitCode::BoundBroken);
    }

    void write_log(const RunFolder& folder, const std::string& more = {}) const {
        write_text(folder.log_file(), earlier_log_ + console_.log() + more);
    }
    double seconds() const { return std::chrono::duration<double>(Clock::now() - start_).count(); }

    const Clock::time_point start_ = Clock::now();
    const OptimizeWish& in_;
    Session& session_;
    Console& console_;
    Job job_;
    const Model& model_;
    OptimizerState from_;
    std::string earlier_log_;
    OptimizeResult result_;
    std::optional<Certificate> certificate_;
    SolverCost cost_;
};

} // namespace

Command optimize_command() {
    return {"optimize", "The optimisation run, with live progress", [](Options& options) {
                auto in = std::make_shared<OptimizeWish>();
                add_study(options, *in);
                options.value("--out", "DIR", in->out,
                              "Folder of the run (default: <study>.run beside the study)");
                options.flag("--force", in->force, "Overwrite an earlier run");
                options.flag("--certificate", in->certificate,
                             "At the end tell how far the design can be from the best one at all");
                options.value("--restarts", "N", in->restarts,
                              "N runs in all, from N starts: how far apart do they end? (default: 1)");
                options.flag("--resume", in->resume, "Go on from the checkpoint of an interrupted run");
                return [in](Session& session) { return Run(*in, session)(); };
            }};
}

} // namespace upright::cli
