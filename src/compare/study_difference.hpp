// Where studies differ, card by card.
#pragma once

#include <string>
#include <vector>

namespace upright {

struct StudyDifference {
    std::string path;                // "response.budget.max", as --set has it
    std::vector<std::string> values; // of each study, as TOML; empty: it has none
};

// Of studies as they were run (study.toml of a run). An empty text stands for a study that is not known and
// has no say. In the order of the first; order of keys and comments make no difference, the order of regions
// does. Throws Error (Input) for a text that is no TOML.
std::vector<StudyDifference> study_differences(const std::vector<std::string>& studies);

} // namespace upright
