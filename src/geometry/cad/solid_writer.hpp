// A closed skin written as a solid (cad_skin.hpp): exact faces trimmed where others meet them, free triangles
// as smooth patches or flat.
#pragma once

#include "geometry/cad_skin.hpp"

#include <filesystem>

namespace upright::cad {

StepResult write_solid(const Skin& skin, const std::filesystem::path& file);

} // namespace upright::cad
