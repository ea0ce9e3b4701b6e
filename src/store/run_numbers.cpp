#include "store/run_numbers.hpp"

#include "base/files.hpp"
#include "store/json_inside.hpp"

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
        if (json_word(one, "name") != name || json_word(one, "case") != in_case) continue;
        const auto made = one.find("black_and_white");
        if (const auto value = json_number(black_and_white_ && made != one.end() ? *made : one, "value"))
            return value;
    }
    return std::nullopt;
}

std::optional<double> RunNumbers::of_case(const std::string& name, const char* what) const {
    if (!run_.contains("cases")) return std::nullopt;
    for (const auto& one : run_["cases"]) {
        const auto found = one.find(what);
        if (json_word(one, "name") != name || found == one.end()) continue;
        if (const auto value = found->is_object() ? json_number(*found, "value") : json_number(one, what))
            return value;
    }
    return std::nullopt;
}

} // namespace upright
