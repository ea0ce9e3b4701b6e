// What the study language knows of a making rule; design/making_rule.hpp adds what it does to a design.
#pragma once

#include "study/schema.hpp"
#include "study/study.hpp"

#include <string>
#include <vector>

namespace upright {

struct RuleWord {
    std::string word;                // of the ledger: that of its key
    std::vector<Key<FormCard>> keys; // in [form]

    virtual ~RuleWord() = default;
};

} // namespace upright
