// The optimisation problem of a model: what is the goal, what is bounded, and which optimiser serves.
#pragma once

#include "design/chain.hpp"
#include "response/design_measures.hpp"
#include "response/response.hpp"

#include <vector>

namespace upright {

struct StepperKind; // run/stepper.hpp

struct Problem {
    const StepperKind* method = nullptr; // how the variables are moved
    std::size_t goal = 0;                // index into Model::responses
    bool maximize = false;
    std::vector<std::size_t> bounds; // responses with bounds

    // What the run has to be careful with.
    bool has_stress = false;    // as goal or bound
    bool has_frequency = false; // the same
    bool has_stiffness = false; // compliance or displacement as goal or bound
    bool material_goal = false; // mass or volume is to be made small
    bool compliance_goal = false;
    bool stiffness_alone = false; // goal and bounds are compliances and material, nothing else
};

// Throws Error (Input), at the goal, for a model without a goal or where nothing bounds it.
Problem make_problem(const Model& model);

// What the linear response comes to with no design material at all, and with all of it.
struct Range {
    double least = 0.0;
    double most = 0.0;
};
Range material_range(const Model& model, const ModelResponse& response);

// Throws Error (Input) when the kept regions alone break a bound on material, all material cannot meet one,
// or no design cell is there.
void require_reachable(const Model& model, const Problem& problem);

// The gradient of a function by the variables.
std::vector<double> pulled_back(const DesignChain& chain, const std::vector<double>& x, double sharpness,
                                const Smooth& s);

} // namespace upright
