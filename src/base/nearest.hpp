// The nearest right word for a wrong one.
#pragma once

#include <optional>
#include <string>
#include <vector>

namespace upright {

// Damerau-Levenshtein distance (optimal string alignment), case ignored.
int edit_distance(const std::string& a, const std::string& b);

// The candidate nearest to `word`, if any is near enough to be what was meant.
std::optional<std::string> nearest(const std::string& word, const std::vector<std::string>& candidates);

// "Did you mean \"x\"?" or "Known: a, b, c." (at most `most` of them), or "" without candidates.
std::string suggestion(const std::string& word, const std::vector<std::string>& candidates,
                       std::size_t most = 12);

} // namespace upright
