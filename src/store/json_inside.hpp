// What the files of this folder write into JSON alike.
#pragma once

#include <nlohmann/json.hpp>
#include <optional>

namespace upright {

using Json = nlohmann::ordered_json;

inline Json json_or_null(const std::optional<double>& value) {
    return value ? Json(*value) : Json(nullptr);
}

} // namespace upright
