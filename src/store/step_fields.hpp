// Displacement, stress and modes of a kept iteration, analysed again from its design.
#pragma once

#include "fem/buckling.hpp"
#include "fem/modal_analysis.hpp"
#include "optimize/run.hpp"

#include <vector>

namespace upright {

struct StepFields {
    std::vector<std::vector<double>> displacement; // of each static case: 3 for each node
    std::vector<std::vector<double>> von_mises; // of each static case: of each element, in its solid material
    std::vector<ModalResult> modals;            // of each modal case; empty where they were not asked for
    std::vector<BucklingResult> buckling; // of each static case; without modes where no response looks for it
};

// With the penalty of that iteration: what the optimiser saw. Throws Error (Numerics).
StepFields analyse_step(const Model& model, const KeptDesign& design, bool modes);

// A shape of a mode or a displacement as 3 numbers for each node.
std::vector<double> at_nodes(const Mesh& mesh, const Eigen::VectorXd& u);

} // namespace upright
