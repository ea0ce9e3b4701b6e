#include "optimize/run/stepper.hpp"

namespace upright {

const std::vector<StepperKind>& stepper_kinds() {
    static const std::vector<StepperKind> out{criteria_stepper(), asymptotes_stepper()};
    return out;
}

} // namespace upright
