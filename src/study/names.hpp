// Names and what they refer to.
#pragma once

#include "study/study.hpp"

#include <string>
#include <vector>

namespace upright {

// The names of cards, for look-ups and messages.
template <class Cards> std::vector<std::string> names_of(const Cards& cards) {
    std::vector<std::string> out;
    for (const auto& card : cards) out.push_back(card.name);
    return out;
}

// Throws Error (Input) at `place` when a reference names nothing in `known`, with the nearest right name.
void require_known(const std::vector<std::string>& references, const std::vector<std::string>& known,
                   const std::string& kind, const Place& place);

// Names unique among their kind; references between cards point at something.
void check_names(const Study& study);

} // namespace upright
