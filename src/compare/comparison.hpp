// Runs, analyses and parts side by side: what differs in their studies, and every number that is known of
// them.
#pragma once

#include "compare/study_difference.hpp"
#include "compare/subject.hpp"

#include <filesystem>
#include <optional>
#include <string>
#include <vector>

namespace upright {

struct ComparedRow {
    std::string group, name;
    std::string unit;               // that of the first that has it; others are converted
    std::vector<std::string> words; // of each: instead of a number
    std::vector<std::optional<double>> values;
    std::vector<std::optional<double>> mins, maxs; // bounds
    std::vector<bool> broken;
    bool is_words() const;
    // The bound that all share; nothing where they differ.
    std::optional<double> common_min() const, common_max() const;
};

class Comparison {
  public:
    // `labels`: instead of those made of the folders; empty: none.
    explicit Comparison(std::vector<Subject> subjects, const std::vector<std::string>& labels = {});

    const std::vector<Subject>& subjects() const { return subjects_; }
    const std::vector<StudyDifference>& differences() const { return differences_; }
    const std::vector<ComparedRow>& rows() const { return rows_; }
    const ComparedRow* row(const std::string& group, const std::string& name) const;

    // One row a number, one column a subject.
    void write_csv(const std::filesystem::path& file) const;
    void write_json(const std::filesystem::path& file) const;

  private:
    std::vector<Subject> subjects_;
    std::vector<StudyDifference> differences_;
    std::vector<ComparedRow> rows_;
};

} // namespace upright
