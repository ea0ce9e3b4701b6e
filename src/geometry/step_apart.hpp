// STEP read in a process of its own, with limits (base/apart.hpp).
#pragma once

#include "base/apart.hpp"
#include "geometry/cad_module.hpp"

#include <filesystem>

namespace upright {

// As Module::read_step. Throws std::runtime_error with a sentence, also where the reader ends by a signal.
cad::File read_step_apart(const std::filesystem::path& file, double unit_si, double deflection, double heal,
                          const ApartLimits& limits = {});

} // namespace upright
