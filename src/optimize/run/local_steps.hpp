// A last search for a design whose black-and-white form keeps its bounds on stress: gradients know the design
// with soft edges, of which single elements on the edge of the made one are no function.
#pragma once

#include "design/chain.hpp"
#include "optimize/run/black_and_white.hpp"

#include <functional>
#include <vector>

namespace upright {

struct LocalSteps {
    std::vector<double> x; // variables
    BlackAndWhite made;
    int taken = 0; // steps
    int looks = 0; // analyses
};

// How many analyses such a search may take: fewer the larger the model. None where that would not be one
// round.
int looks_for_local_steps(const Model& model);

// Bumps of the variables (hats of the filter's radius) up and down, at the place where the worst bound is
// broken and around it; of each round the one that lowers the worst excess most is taken (direct search:
// Kolda, Lewis & Torczon 2003). Ends when all holds, when no bump helps, when the worst bound has no place,
// or when the looks are spent. `look` analyses the black-and-white design of variables at that sharpness.
LocalSteps take_local_steps(const Model& model, const DesignChain& chain, std::vector<double> x,
                            double sharpness,
                            const std::function<BlackAndWhite(const ThreeDesigns& designs)>& look);

} // namespace upright
