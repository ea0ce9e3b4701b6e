// From the text of a study to its checked cards.
#pragma once

#include "study/language.hpp"
#include "study/study.hpp"

#include <filesystem>
#include <string>
#include <vector>

namespace upright {

// Loads a study: TOML, `extends`, settings ("path=value"), units, arithmetic, every card and every name
// checked. Throws Error (Input, Usage) at the first thing that is wrong.
Study load_study(const std::filesystem::path& file, const std::vector<std::string>& settings,
                 const Language& language);

// The same from a resolved study that is at hand as text; files it names may be missing. `file` names it in
// messages.
Study load_study_text(const std::string& text, const std::filesystem::path& file, const Language& language);

} // namespace upright
