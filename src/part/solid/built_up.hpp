// What layers that grow along `up` can bear of a field: what hangs over is taken off, at every level at once.
#pragma once

#include "part/solid/layered_excess.hpp"

namespace upright {

struct BuiltUpWish : LayerWish {
    double reach = 1.0; // tangent of the angle between `up` and the cone
    bool plate = true;  // the lowest layer stands
};

// On a lattice of layers the field is at most as large as it is below, within a cone (Langelaar 2017, between
// places instead of elements). Minimum and maximum go with every level, so what lies above any level then
// stands on what lies above it; a face leans as much as the cone at most, but for the lattice's step.
LayeredExcess built_up(const BuiltUpWish& wish);

} // namespace upright
