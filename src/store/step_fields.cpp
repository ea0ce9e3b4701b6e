#include "store/step_fields.hpp"

#include "fem/constrained_solver.hpp"
#include "response/buckling.hpp"
#include "response/design_state.hpp"
#include "store/vtu.hpp"

namespace upright {

std::vector<double> at_nodes(const Mesh& mesh, const Eigen::VectorXd& u) {
    return displacement_field(mesh, u).values;
}

StepFields analyse_step(const Model& model, const KeptDesign& design, bool modes) {
    StaticAnalysis statics(model, solver_options(model.run));
    DesignState state(statics, std::vector<bool>(model.modal_cases.size(), modes), true);
    state.analyse(design.density, design.penalty, {});
    const std::vector<int> buckles = buckling_wanted(model);
    StepFields out;
    for (const CaseId c : model.cases.ids()) {
        out.displacement.push_back(at_nodes(model.mesh, state.displacement(c)));
        out.von_mises.push_back(state.von_mises(c));
        out.buckling.push_back(buckles[index(c)] > 0 ? state.buckling(c) : BucklingResult{});
    }
    if (modes) out.modals = state.modals();
    return out;
}

} // namespace upright
