// The tables of kinds put together, and the language that they make.
#pragma once

#include "design/making_rule.hpp"
#include "mesh/mesh_kind.hpp"
#include "part/format.hpp"
#include "response/measures.hpp"
#include "study/load.hpp"

namespace upright {

// Kinds beside those that the program ships.
struct Further {
    MeshList meshes;
    MeasureList measures;
    RuleList making_rules;
    std::vector<PartFormat> part_formats;
};

struct Kinds {
    Language language;
    std::vector<PartFormat> part_formats;
};

Kinds make_kinds(const Further& further = {});

// The language of the kinds that the program ships.
const Language& shipped_language();

inline Study load_study(const std::filesystem::path& file, const std::vector<std::string>& settings = {}) {
    return load_study(file, settings, shipped_language());
}
inline Study load_study_text(const std::string& text, const std::filesystem::path& file) {
    return load_study_text(text, file, shipped_language());
}

} // namespace upright
