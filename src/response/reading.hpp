// What came out for a response, and what it means that a bound holds.
#pragma once

#include "model/model.hpp"

#include <optional>
#include <string>
#include <vector>

namespace upright {

// One number of a run: a response, in one case where it is read in several.
struct Column {
    std::size_t response = 0;      // index in the model
    CaseId in_case = CaseId::None; // None: of none, or of all together
    ModalCaseId in_modal_case = ModalCaseId::None;
    std::string name; // as in the study; "name@case" where the response has several
};
std::vector<Column> columns(const Model& model);

// What came out for it. Base units; bounds in the unit of the value, a share of strength resolved.
struct Reading {
    double value = 0.0;
    std::optional<double> min, max;
    bool holds = true;
    // How far the worse of its bounds is exceeded, as a share of the bound; below zero where both hold.
    double excess = -1.0;
    std::optional<Vec3> at; // the place of a stress
    std::string where;      // the place of a stress or of the largest displacement, the case of a compliance
};

// Bounds hold with a relative tolerance, for rounding and for the last step of the optimiser.
inline constexpr double bound_tolerance = 1e-3;

// Whether a bound holds and by what share it is exceeded, filled in.
void judge(Reading& reading);

// The upper bound of a response in the unit of its values; of a share of strength that of the weakest
// material among its regions.
std::optional<double> upper_bound(const Model& model, const ModelResponse& response);

} // namespace upright
