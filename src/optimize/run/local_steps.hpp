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
    bool stopped = false;
};

// How many analyses such a search may take: fewer the larger the model. None where that would not be one
// round.
int looks_for_local_steps(const Model& model);

// What a search may ask of a design.
struct LocalLooks {
    // Analyses the black-and-white design.
    std::function<BlackAndWhite(const ThreeDesigns& designs)> look;
    // The slope, by the variables, of what breaks the worst bound of that design, by soft edges; empty where
    // there is none.
    std::function<std::vector<double>(const std::vector<double>& x, const BlackAndWhite& made)> slope;
    // Whether to give up.
    std::function<bool()> stop = [] { return false; };
};

// A step down that slope, of several lengths, for the edge as a whole; then bumps of the variables (hats of
// the filter's radius, where none helps of 2.5 radii) up and down, at the place where the worst bound is
// broken and around it, or where it has none at the places of the steepest slope; of each round what lowers
// the worst excess most is taken (direct search: Kolda, Lewis & Torczon 2003). Ends when all holds, when
// nothing helps, or when the looks are spent. `sharpness`: that at which variables are cut.
LocalSteps take_local_steps(const Model& model, const DesignChain& chain, std::vector<double> x,
                            double sharpness, const LocalLooks& looks);

// The worst of readings whose bound is broken; null: none is.
const Reading* worst_broken(const std::vector<Reading>& readings);

} // namespace upright
