// STEP read in a process of its own: the CAD library crashes on some damaged files, and takes for ever or all
// memory on others. All that is then one message.
#pragma once

#include "geometry/cad_module.hpp"

#include <filesystem>

namespace upright {

// Limits of one file: seconds of processor time, and bytes beyond what the program has.
struct StepLimits {
    double seconds = 0.0; // 0: 12, and 10 for each megabyte of the file
    double memory = 0.0;  // 0: what is free
};

// As Module::read_step. Throws std::runtime_error with a sentence, also where the reader ends by a signal.
cad::File read_step_apart(const std::filesystem::path& file, double unit_si, double deflection,
                          const StepLimits& limits = {});

} // namespace upright
