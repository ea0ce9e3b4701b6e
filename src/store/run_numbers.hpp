// What run.json says of a run's end, by the names of responses and cases.
#pragma once

#include "base/json.hpp"
#include <filesystem>
#include <optional>
#include <string>

namespace upright {

class RunNumbers {
  public:
    RunNumbers() = default;
    // Of a run that has not ended there are none.
    explicit RunNumbers(const std::filesystem::path& report_file);

    // Whether the black-and-white design decided.
    bool black_and_white() const { return black_and_white_; }
    // Of the design that decides, in the study's units: the value of a response in a case ("": in none).
    std::optional<double> response(const std::string& name, const std::string& in_case) const;
    // "compliance", "largest_displacement", "largest_stress" of a static case.
    std::optional<double> of_case(const std::string& name, const char* what) const;

  private:
    nlohmann::ordered_json run_ = nlohmann::ordered_json::object();
    bool black_and_white_ = false;
};

} // namespace upright
