// What a carved part came to, for people.
#pragma once

#include "part/extract.hpp"

#include <string>
#include <vector>

namespace upright {

// Pieces that were not left out.
std::size_t pieces_left(const Part& part);
// Whether the part is one piece that reaches every support and load; else its pieces and what they touch.
std::string pieces_text(const Model& model, const Part& part);

} // namespace upright
