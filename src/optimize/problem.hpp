// The optimisation problem of a study, in the form that this optimiser serves: one goal, one bound.
#pragma once

#include "response/response.hpp"

#include <vector>

namespace upright {

struct Problem {
    std::size_t goal = 0; // indices into Study::responses
    std::size_t bound = 0;
    bool least_material = false; // mass or volume is the goal and compliance is bounded

    // The response that is linear in the densities, and the one that is compliance.
    std::size_t material() const { return least_material ? goal : bound; }
    std::size_t compliance() const { return least_material ? bound : goal; }
};

// Throws Error (Input), at the goal or at the bound, for what optimality criteria cannot serve.
Problem make_problem(const Study& study);

// What the linear response comes to with no design material at all, and with all of it.
struct Range {
    double least = 0.0;
    double most = 0.0;
};
Range material_range(const Model& model, const ResponseCard& response);

// Throws Error (Input) when the kept regions alone break the bound on material, or when no design cell is
// there.
void require_reachable(const Study& study, const Model& model, const Problem& problem);

// The filter radius of a run: as written, or 2.5 cells.
double filter_radius(const Study& study, const Model& model);

} // namespace upright
