// The folder that a run writes: docs/run-folder.md describes every file.
#pragma once

#include "base/h5_file.hpp"
#include "base/text.hpp"
#include "optimize/run.hpp"
#include "store/access.hpp"

#include <filesystem>
#include <string>
#include <vector>

namespace upright {

// What run.json says of how a run ended.
struct RunOutcome {
    std::string status; // empty: it never came to write one
    bool feasible = false;
    double goal = 0.0, deciding_goal = 0.0; // of the densities; of the design that decided
    int iterations = 0;
};

// history.csv: the words of its head, of which the first five are those of write_history(), and numbers
// below, as many in each row. Throws Error (Input) at the line that is neither.
struct HistoryTable {
    std::vector<std::string> names;
    std::vector<std::vector<double>> rows; // the first number of each: a whole one, of the iteration
};
HistoryTable read_history_table(const std::filesystem::path& file);

class RunFolder {
  public:
    // Makes a new folder, locked until the object goes. Where an earlier run is there and `existing` is
    // Replace, the new run is written beside it, in a folder `.next` within, until publish() sets it in its
    // place. Throws Error (Files) when it exists and is not to be replaced, holds something else, or another
    // run is going on in it.
    static RunFolder create(const std::filesystem::path& path, Existing existing);
    // Takes away what the program wrote of an earlier run (nothing else that may lie there) and moves the new
    // one up. Nothing where that was done or there was none.
    void publish();
    // Whether the run's files stand in path(): not before publish() where an earlier run has to give way.
    bool published() const { return at_ == path_; }
    // Takes away what was written of this run: the earlier one stays as it was.
    void discard();
    // An existing run, locked where a run goes on in it. Throws Error (Input) when it is none.
    static RunFolder open(const std::filesystem::path& path, Access access);
    // Whether a run holds the lock of this folder now. Asked for without writing: the folder may be
    // another's.
    bool goes_on() const;

    RunFolder(RunFolder&& other) noexcept;
    RunFolder(const RunFolder&) = delete;
    RunFolder& operator=(const RunFolder&) = delete;
    RunFolder& operator=(RunFolder&&) = delete;
    ~RunFolder();

    const std::filesystem::path& path() const { return path_; }
    std::filesystem::path study_file() const { return at_ / "study.toml"; }
    std::filesystem::path model_file() const { return at_ / "model.h5"; }
    std::filesystem::path design_file() const { return at_ / "design.vtu"; }
    std::filesystem::path history_file() const { return at_ / "history.csv"; }
    std::filesystem::path report_file() const { return at_ / "run.json"; }
    std::filesystem::path figure(const std::string& name) const { return at_ / "figures" / (name + ".png"); }
    std::filesystem::path case_file(const std::string& name) const;
    std::filesystem::path log_file() const { return at_ / "log.txt"; }

    // history.csv, the header being iteration,goal,change,grayness,seconds and the names of the responses.
    void write_history(const Model& model, const std::vector<IterationRow>& rows) const;
    // The design of one iteration.
    void write_step(int iteration, const KeptDesign& design) const;
    void write_checkpoint(const OptimizerState& state) const;
    // The step of the last iteration, and where the run goes on the checkpoint, in memory: to be saved beside
    // the next iteration, the last of them first. Takes `state.kept`.
    std::vector<H5File> kept_files(OptimizerState& state) const;
    bool has_checkpoint() const;
    OptimizerState read_checkpoint() const;
    RunOutcome outcome() const;
    // The status in run.json; empty when the run never came to write one.
    std::string status() const;
    // Of a modal case of a finished run, ascending; empty where run.json has none.
    std::vector<double> frequencies(const std::string& in_case) const;
    // The iteration whose design is the result: as run.json says, the last kept one of a run that has not
    // ended. 0: none yet.
    int result_iteration() const;
    // The densities of an iteration; those of the result for -1. Throws Error (Input) with the kept ones in
    // the message.
    std::vector<double> read_density(int iteration) const;
    // The whole of it; `filtered` is empty where an older program kept densities alone.
    KeptDesign read_step(int iteration) const;
    // The threshold of the black-and-white design where that decided a finished run; nothing else.
    std::optional<double> threshold() const;
    std::vector<int> kept_iterations() const;
    // The history as it stands in history.csv.
    std::vector<IterationRow> read_history() const;

  private:
    RunFolder(std::filesystem::path path, int lock) : path_(std::move(path)), at_(path_), lock_(lock) {}

    H5File step_file(int iteration, const std::vector<double>& density, const std::vector<double>& filtered,
                     double penalty, double sharpness) const;
    H5File checkpoint_file(const OptimizerState& state, Checkpoint kept) const; // instead of the state's own

    std::filesystem::path path_;
    std::filesystem::path at_; // where the files are
    bool made_folder_ = false; // by create()
    int lock_ = -1;
};

// The default folder: `<study>.run` beside the study.
std::filesystem::path default_run_folder(const std::filesystem::path& study);

} // namespace upright
