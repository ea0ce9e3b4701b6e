// What a response of bulk measures (measures/bulk.cpp).
#pragma once

#include "study/measure_word.hpp"

namespace upright {

// The thickness of members that have a bulk of about 1.
double bulk_size(const ResponseCard& r);

} // namespace upright
