// The JSON library, told to throw where it would only assert: a key that is missing in a file of somebody else is no
// error of the program.
#pragma once

#include <stdexcept>

namespace upright {
inline void require_in_json(bool holds) {
    if (!holds) throw std::out_of_range("a key is missing");
}
} // namespace upright

#define JSON_ASSERT(holds) upright::require_in_json(holds)

#include <nlohmann/json.hpp>
