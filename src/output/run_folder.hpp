// The folder that a run writes: docs/run-folder.md describes every file.
#pragma once

#include "optimize/run.hpp"

#include <filesystem>
#include <string>
#include <vector>

namespace upright {

class RunFolder {
  public:
    // Makes a new folder, or clears the one of an earlier run when `force` is set. The folder is locked until
    // the object goes. Throws Error (Files) when it exists without `force`, holds something else, or another
    // run is going on in it.
    static RunFolder create(const std::filesystem::path& path, bool force);
    // An existing run, locked for writing when `lock` is set. Throws Error (Input) when it is none.
    static RunFolder open(const std::filesystem::path& path, bool lock);

    RunFolder(RunFolder&& other) noexcept;
    RunFolder(const RunFolder&) = delete;
    RunFolder& operator=(const RunFolder&) = delete;
    RunFolder& operator=(RunFolder&&) = delete;
    ~RunFolder();

    const std::filesystem::path& path() const { return path_; }
    std::filesystem::path study_file() const { return path_ / "study.toml"; }
    std::filesystem::path figure(const std::string& name) const {
        return path_ / "figures" / (name + ".png");
    }
    std::filesystem::path case_file(const std::string& name) const;
    std::filesystem::path log_file() const { return path_ / "log.txt"; }

    // history.csv, the header being iteration,goal,change,grayness,seconds and the names of the responses.
    void write_history(const Study& study, const std::vector<IterationRow>& rows) const;
    void write_step(const OptimizerState& state) const;
    void write_checkpoint(const OptimizerState& state) const;
    bool has_checkpoint() const;
    OptimizerState read_checkpoint() const;
    // The status in run.json; empty when the run never came to write one.
    std::string status() const;
    // Of a modal case of a finished run, ascending; empty where run.json has none.
    std::vector<double> frequencies(const std::string& in_case) const;
    // The densities of an iteration; the last ones for -1. Throws Error (Input) with the kept ones in the
    // message.
    std::vector<double> read_density(int iteration) const;
    std::vector<int> kept_iterations() const;
    // The history as it stands in history.csv.
    std::vector<IterationRow> read_history() const;

  private:
    RunFolder(std::filesystem::path path, int lock) : path_(std::move(path)), lock_(lock) {}

    std::filesystem::path path_;
    int lock_ = -1;
};

// A name of a card as the name of a file: "start-up/1" becomes "start-up.1".
std::string file_name(const std::string& card);

// The default folder: `<study>.run` beside the study.
std::filesystem::path default_run_folder(const std::filesystem::path& study);

} // namespace upright
