// The study language explained, from its tables.
#pragma once

#include "study/language.hpp"

#include <optional>
#include <string>
#include <vector>

namespace upright {

// docs/study-reference.md: every card, every key, every kind.
std::string reference_markdown(const Language& language);

// Plain text about a card ("region"), a key ("skin_of", "region.skin_of") or the word of a kind ("fitted",
// "frequency"); nothing where the language does not know the word.
std::optional<std::string> explain(const Language& language, const std::string& word);

// Everything that `explain` knows.
std::vector<std::string> explained_words(const Language& language);

} // namespace upright
