// The readiness ledger: everything a model was made of, what it came to, what is missing or doubtful.
#pragma once

#include "model/model.hpp"

#include <string>
#include <vector>

namespace upright {

enum class Standing { Fine, Doubt, Missing };

struct LedgerLine {
    Standing standing = Standing::Fine;
    std::string name;
    std::string text;                 // what the card came to
    std::vector<std::string> remarks; // why it is doubtful or missing, and what to do
};

struct LedgerSection {
    std::string title;
    std::vector<LedgerLine> lines;
};

struct Ledger {
    std::vector<LedgerSection> sections;

    std::size_t count(Standing standing) const;
};

// Goes through the whole model, before any solve.
// With `measured` the volumes of regions as written stand beside the meshed ones, which takes some time.
Ledger make_ledger(const Model& model, bool measured = false);

} // namespace upright
