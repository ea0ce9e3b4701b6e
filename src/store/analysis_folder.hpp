// The folder that an analysis writes: docs/run-folder.md describes every file.
#pragma once

#include "response/case_report.hpp"
#include "store/access.hpp"

#include <filesystem>
#include <string>
#include <vector>

namespace upright {

class AnalysisFolder {
  public:
    // Makes a new folder, or clears an earlier analysis when `existing` is Replace. Throws Error (Files) when
    // it exists and is not to be replaced, or holds something else.
    static AnalysisFolder create(const std::filesystem::path& path, Existing existing);
    // Whether that would do, before the work is: throws as it does, and for a place that takes nothing.
    // Leaves everything as it was.
    static void require_place(const std::filesystem::path& path, Existing existing);
    // Whether a folder is that of an analysis.
    static bool is_one(const std::filesystem::path& path);
    static AnalysisFolder open(const std::filesystem::path& path) { return AnalysisFolder(path); }

    const std::filesystem::path& path() const { return path_; }
    std::filesystem::path model_file() const { return path_ / "model.h5"; }
    std::filesystem::path case_file(const std::string& name) const;
    std::filesystem::path figure(const std::string& name) const {
        return path_ / "figures" / (name + ".png");
    }

    // fields.h5, and one VTU for each case.
    void write_fields(const Model& model, const AnalysisReport& report) const;
    void write_json(const Model& model, const AnalysisReport& report, const std::vector<Outcome>& outcomes,
                    double seconds) const;

    // What figures need of a case: displacement as 3 numbers for each node, von Mises for each region node.
    struct StaticFields {
        std::vector<double> displacement, von_mises;
    };
    // Whether the analysis took the case in.
    bool has_case(const std::string& name) const;
    StaticFields read_static(const std::string& name) const;
    // The shape of an elastic mode (from 1), 3 numbers for each node, and all frequencies.
    std::vector<double> read_mode(const std::string& name, int mode) const;
    // Shapes and factors of buckling; no factors where none was looked for or found.
    std::vector<double> read_buckling(const std::string& name, int mode) const;
    std::vector<double> read_buckling_factors(const std::string& name) const;
    std::vector<double> read_frequencies(const std::string& name) const;

  private:
    explicit AnalysisFolder(std::filesystem::path path) : path_(std::move(path)) {}
    std::filesystem::path path_;
};

std::filesystem::path default_analysis_folder(const std::filesystem::path& study);

} // namespace upright
