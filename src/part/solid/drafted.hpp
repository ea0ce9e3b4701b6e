// Walls that lean back from the way of a die: what stands steeper is taken off a field, at every level at
// once.
#pragma once

#include "part/solid/layered_excess.hpp"

namespace upright {

// `up` is the way of the die.
struct DraftWish : LayerWish {
    double lean = 0.0;    // tangent of the draft
    double parting = 0.0; // place along the draw from which walls lean back
    bool two = false;     // dies: below the parting they lean back downwards
};

// Away from the parting the border of what lies above any level moves inwards by `lean` a unit of length:
// df/ds = -lean |grad f| across the draw, upwind with second differences (Osher & Shu 1991), and f at most
// what the field is there. Borders with kept shapes and with the end of the space are no walls and stay;
// above a kept shape, or above a gap of the space, a column begins anew.
LayeredExcess drafted(const DraftWish& wish);

} // namespace upright
