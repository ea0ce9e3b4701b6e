// Every response's sensitivities against central differences, for users who want to see it.
#pragma once

#include "base/observer.hpp"
#include "optimize/problem.hpp"

#include <string>
#include <vector>

namespace upright {

struct GradientRow {
    std::string name; // of the column; "… (mode 2)" where several functions stand for it
    std::string measure;
    double value = 0.0;
    // |slope - difference|, the worst of the directions, as a share of the gradient's length or, where the
    // value hardly depends on the design, of a thousandth of the value.
    double error = 0.0;
    double slope = 0.0, difference = 0.0; // along the direction where it is largest
    std::string remark;
};

struct GradientCheck {
    int directions = 0;
    std::size_t variables = 0;
    std::vector<GradientRow> rows;
};

// At random variables between 0.3 and 0.9 (the same ones every time), through making rules, filter and
// projection, along random directions. Differences are extrapolated from two steps (Richardson).
// Throws Error (Numerics) when an analysis fails.
GradientCheck check_gradients(StaticAnalysis& analysis, Observer& observer);

} // namespace upright
