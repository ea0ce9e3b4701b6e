// What the study language knows of a making rule; design/making_rule.hpp adds what it does to a design.
#pragma once

#include "study/measure_word.hpp"
#include "study/schema.hpp"
#include "study/study.hpp"

#include <memory>
#include <string>
#include <vector>

namespace upright {

struct RuleWord {
    std::string word;                // of the ledger: that of its key
    std::vector<Key<FormCard>> keys; // in [form]

    virtual ~RuleWord() = default;
    // Adds what it bounds to the responses of a study whose cards have been read.
    virtual void add_bounds(Study& /*study*/,
                            const std::vector<std::shared_ptr<const MeasureWord>>& /*measures*/) const {}
};

} // namespace upright
