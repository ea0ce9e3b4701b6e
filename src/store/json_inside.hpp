// What is written into JSON, and read from it, alike.
#pragma once

#include "base/error.hpp"
#include "base/files.hpp"

#include "base/json.hpp"
#include <filesystem>
#include <optional>
#include <string>

namespace upright {

using Json = nlohmann::ordered_json;

// For people to read, on several lines; what is no UTF-8 (of the name of a file) is told by a sign that
// stands for it.
inline std::string json_text(const Json& from) {
    return from.dump(2, ' ', false, Json::error_handler_t::replace) + "\n";
}
// The same on one line.
inline std::string json_line(const Json& from) {
    return from.dump(-1, ' ', false, Json::error_handler_t::replace);
}

inline Json json_or_null(const std::optional<double>& value) {
    return value ? Json(*value) : Json(nullptr);
}

// What stands under a key, where it is of that kind.
inline std::optional<double> json_number(const Json& from, const char* key) {
    const auto found = from.find(key);
    if (found == from.end() || !found->is_number()) return {};
    return found->get<double>();
}
inline std::string json_word(const Json& from, const char* key) {
    const auto found = from.find(key);
    return found != from.end() && found->is_string() ? found->get<std::string>() : std::string();
}

// A whole file. Throws Error (Input) where it cannot be read or is no JSON.
inline Json read_json(const std::filesystem::path& file) {
    try {
        return Json::parse(read_text(file));
    } catch (const Json::exception&) {
        throw Error::input({file.string()}, "this file is damaged: it is no JSON", "Run it again");
    }
}

// What reads JSON that another program may have written: keys that are missing and values of another kind
// become Error (Input) that names the file or folder.
template <class Work> auto reading_json(const std::filesystem::path& of, const Work& work) {
    const auto damaged = [&] {
        return Error::input({of.string()},
                            "a file of it is damaged: it holds something else than such files do",
                            "Run it again");
    };
    try {
        return work();
    } catch (const Json::exception&) {
        throw damaged();
    } catch (const std::out_of_range&) {
        throw damaged();
    }
}

} // namespace upright
