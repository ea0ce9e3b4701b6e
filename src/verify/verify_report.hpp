// The folder of a verification: an analysis of the part, with verify.json beside it.
#pragma once

#include "store/analysis_folder.hpp"
#include "verify/verification.hpp"

namespace upright {

void write_verification(const AnalysisFolder& folder, const Study& study, const Verified& verified,
                        double seconds);

} // namespace upright
