// The study language as JSON Schema (draft 2020-12), so that editors complete, check and explain a study as
// it is typed. TOML and JSON have the same tree, so one schema serves.
#pragma once

#include "study/language.hpp"

#include <string>

namespace upright {

// What it cannot say (names that must exist, dimensions of texts, rules across cards) `upright check` says.
std::string json_schema(const Language& language);

} // namespace upright
