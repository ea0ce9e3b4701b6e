// The study language as one object: the schema of every card, with the words of the kinds that plug into it
// (mesh kinds, measures, making rules, solvers). Reading, the reference, `upright help`, the paths of --set
// and the JSON Schema all take it.
#pragma once

#include "study/cards/cards.hpp"
#include "study/measure_word.hpp"
#include "study/mesh_word.hpp"
#include "study/rule_word.hpp"
#include "study/schema.hpp"
#include "study/study.hpp"

#include <functional>
#include <string>
#include <vector>

namespace upright {

struct SolverWord {
    std::string word;
    std::string says;
};

Schema<MeshCard> mesh_schema(const std::vector<std::shared_ptr<const MeshWord>>& kinds);
Schema<ResponseCard> response_schema(const std::vector<std::shared_ptr<const MeasureWord>>& measures);
Schema<FormCard> form_schema(const std::vector<std::shared_ptr<const RuleWord>>& rules);
Schema<RunCard> run_schema(const std::vector<SolverWord>& solvers);

const TableFacts* refine_facts();
void read_refine(Study& study, const Node& document, const Context& context);
void require_polar_frame(const Study& study);

// What the kinds bring to the language.
struct Vocabulary {
    std::vector<std::shared_ptr<const MeshWord>> mesh_kinds; // the usual one first
    std::vector<std::shared_ptr<const MeasureWord>> measures;
    std::vector<std::shared_ptr<const RuleWord>> making_rules;
    std::vector<SolverWord> solvers;
};

struct Language {
    explicit Language(const Vocabulary& words);

    Schema<MeshCard> mesh;
    Schema<ResponseCard> response;
    Schema<FormCard> form;
    Schema<RunCard> run;
    std::vector<std::shared_ptr<const MeasureWord>> measures;
    std::vector<std::shared_ptr<const RuleWord>> making_rules;

    // The keys at the top of a study.
    const TableFacts& study() const;
    // Every card, in the order of the work. They live as long as this does.
    std::vector<const TableFacts*> cards() const;
    // What may stand at the top of a study.
    std::vector<std::string> words() const;
    // The card of a word, or nullptr.
    const TableFacts* card(const std::string& word) const;
};

} // namespace upright
