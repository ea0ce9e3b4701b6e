#include "store/run_numbers.hpp"

#include "base/files.hpp"

namespace upright {

RunNumbers::RunNumbers(const std::filesystem::path& report_file) {
    try {
        run_ = nlohmann::ordered_json::parse(read_text(report_file));
        black_and_white_ = run_.contains("decided_by") && run_["decided_by"] == "black-and-white";
    } catch (const std::exception&) { // not ended
        run_ = nlohmann::ordered_json::object();
    }
}

std::optional<double> RunNumbers::response(const std::string& name, const std::string& in_case) const {
    if (!run_.contains("responses")) return std::nullopt;
    for (const auto& one : run_["responses"]) {
        const std::string its_case = one["case"].is_null() ? "" : one["case"].get<std::string>();
        if (one["name"] != name || its_case != in_case) continue;
        const auto& value = black_and_white_ && one.contains("black_and_white")
                                ? one["black_and_white"]["value"]
                                : one["value"];
        if (value.is_number()) return value.get<double>();
    }
    return std::nullopt;
}

std::optional<double> RunNumbers::of_case(const std::string& name, const char* what) const {
    if (!run_.contains("cases")) return std::nullopt;
    for (const auto& one : run_["cases"]) {
        if (one["name"] != name || !one.contains(what)) continue;
        const auto& value = one[what].is_object() ? one[what]["value"] : one[what];
        if (value.is_number()) return value.get<double>();
    }
    return std::nullopt;
}

} // namespace upright
