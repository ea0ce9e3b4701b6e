// The readiness ledger as text.
#pragma once

#include "check/ledger.hpp"

#include <string>

namespace upright {

// As text of at most `width` columns; `colored` adds ANSI colours. Standing is told by a mark too.
std::string render(const Ledger& ledger, int width, bool colored);

} // namespace upright
