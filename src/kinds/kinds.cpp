#include "kinds/kinds.hpp"

#include "solve/solver_table.hpp"

namespace upright {

Kinds make_kinds(const Further& further) {
    Vocabulary words;
    for (const auto& kind : mesh_kinds(further.meshes)) words.mesh_kinds.push_back(kind);
    for (const auto& kind : measure_kinds(further.measures)) words.measures.push_back(kind);
    for (const auto& rule : making_rules(further.making_rules)) words.making_rules.push_back(rule);
    for (const auto& [word, says] : solver_words()) words.solvers.push_back({word, says});
    return {Language(words), part_formats(further.part_formats)};
}

const Language& shipped_language() {
    static const Kinds out = make_kinds();
    return out.language;
}

} // namespace upright
