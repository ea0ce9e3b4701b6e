// Animated GIF files.
#pragma once

#include "figures/figure.hpp"

#include <filesystem>
#include <vector>

namespace upright {

// Writes pictures of one size as a GIF that runs for ever, `hundredths` of a second each. Up to 256 colours:
// the most frequent ones of all pictures, every other one replaced by the nearest. Throws Error (Files).
void write_gif(const std::filesystem::path& file, const std::vector<Picture>& pictures, int hundredths);

} // namespace upright
