// The formats that the program ships, one file each.
#pragma once

#include "part/format.hpp"

namespace upright {

PartFormat stl_format();

} // namespace upright
