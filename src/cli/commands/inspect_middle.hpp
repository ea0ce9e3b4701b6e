// upright inspect --midsurface: thin bodies as a mesh of shells, with the cards that use it.
#pragma once

#include "cli/console.hpp"
#include "figures/figure.hpp"
#include "geometry/file_body.hpp"

#include <filesystem>
#include <string>

namespace upright::cli {

struct MiddleWish {
    std::string target, out;
    std::string size; // of an element, with a unit where the file has one
    bool no_figures = false;
};

// A length of an option in the millimetres of STEP files, 0 where there is none.
double length_asked(const std::string& option, const std::string& text);

// Writes the mesh (`out`, or NAME-midsurface.vtu beside the file), a study of the same name with the cards
// that use it, and figures; prints the walls, what is left over and how much hangs together.
int inspect_middle(const MiddleWish& in, const BodyFile& file, Console& console,
                   const FigureOptions& options);

} // namespace upright::cli
