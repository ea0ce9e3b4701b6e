// Changes of a study on the command line.
#pragma once

#include "study/document.hpp"
#include "study/language.hpp"

#include <string>

namespace upright {

// Applies "response.budget.max=0.3": the first word is a kind of card (or a section), the second a card's
// name, the last a key, which the language has to know. An empty value takes the key away. Throws Error
// (Usage) when the path leads nowhere.
void apply_setting(Node& document, const std::string& setting, const Language& language);

} // namespace upright
