// What a run came to, for people.
#pragma once

#include "optimize/certificate.hpp"
#include "optimize/run.hpp"

#include <string>

namespace upright {

// Every response with its bounds, how the run ended, what is doubtful. Several lines.
std::string run_summary(const Model& model, const OptimizeResult& result, double seconds);

// How far the design can be from the best one at all, or why that is not known.
std::string certificate_text(const Model& model, const Certificate& certificate);

std::string time_text(double seconds); // "1:05", "2 h 10"

} // namespace upright
