// The formats that the program ships, one file each.
#pragma once

#include "part/format.hpp"

namespace upright {

PartFormat stl_format();
PartFormat three_mf_format();
PartFormat obj_format();
PartFormat ply_format();
PartFormat vtu_format();
PartFormat step_format();

// A title in a file whose lines mean something.
std::string first_line(const std::string& text);

} // namespace upright
