// Several figures in one picture, looked at alike.
#pragma once

#include "figures/figure.hpp"

#include <filesystem>
#include <memory>
#include <vector>

namespace upright {

// Tiles from left to right, then below; all framed for the room that the largest needs, so that one camera
// serves. The figures have one size and look from one place. Throws Error (Files).
void write_side_by_side(const std::vector<std::unique_ptr<Figure>>& figures,
                        const std::filesystem::path& png);

// How many tiles stand beside each other.
int tiles_across(std::size_t count);

} // namespace upright
