// The keys that measures share, for the files of the measures.
#pragma once

#include "study/schema.hpp"
#include "study/study.hpp"

#include <string>
#include <vector>

namespace upright {

// `of`: regions.
Key<ResponseCard> of_key(const std::string& fallback);
// `case`: static cases, or modal ones.
Key<ResponseCard> case_key(bool modal);
// `except`: regions and surfaces whose elements are left out.
Key<ResponseCard> except_key();
// `component` and `frame` of a vector.
std::vector<Key<ResponseCard>> component_keys();
// `min` and `max`. Values without a sign have a max above zero; a fraction one of at most 1.
std::vector<Key<ResponseCard>> bound_keys(const Dimension& d, bool fraction = false);
// `min` and `max` of a stress: "55% of yield" as well.
std::vector<Key<ResponseCard>> stress_bound_keys();

// `at`: a support, or a point, coupling or surface.
Key<ResponseCard> at_key(bool support);
// Throws where a frame is given and the size of a vector is asked for.
void check_component(const ResponseCard& response, const CardReader& reader);

// Throws where a measure read in cases fits none; `word` is the measure's.
void require_cases(const ResponseCard& response, const CardReader& reader, bool modal,
                   const std::string& word);

// Keys and keys together.
template <class Card>
std::vector<Key<Card>> operator+(std::vector<Key<Card>> a, const std::vector<Key<Card>>& b) {
    a.insert(a.end(), b.begin(), b.end());
    return a;
}

} // namespace upright
