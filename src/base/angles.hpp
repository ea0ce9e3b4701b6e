// The numbers of angles.
#pragma once

namespace upright {

constexpr double pi = 3.14159265358979323846;
// Of a degree in radians.
constexpr double degree = pi / 180.0;

} // namespace upright
