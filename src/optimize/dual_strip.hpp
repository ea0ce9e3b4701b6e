// The dual function of a separable problem, a strip of variables at a time: the innermost loops of the
// method of moving asymptotes where there are many variables.
//
// Of each variable: the sum over functions f of weight_f (p_f / (high - x) + q_f / (x - low)), least between
// lower and upper, with the logarithms of the distances from those limits times a little, so that variables
// that nothing depends on stay between them. The weight of the goal is 1, that of a constraint its
// multiplier.
#pragma once

#include <cstddef>

namespace upright {

inline constexpr std::size_t dual_strip = 64;

struct DualStrip {
    std::size_t count = 0;         // of variables, at most dual_strip
    std::size_t constraints = 0;   // m
    const double* p = nullptr;     // m + 1 rows of dual_strip, the goal first; not negative
    const double* q = nullptr;     // alike
    const double* lower = nullptr; // limits of the step
    const double* upper = nullptr;
    const double* low = nullptr; // asymptotes, beyond the limits
    const double* high = nullptr;
};

// Where variables stand, and what keeps them: of each as in DualStrip, and the limits of all steps (null: 0
// and 1) of which a step goes through a share `move`, and no nearer to an asymptote than a share `conserve`.
struct StripPoint {
    std::size_t count = 0;
    const double* x = nullptr;
    const double* low = nullptr; // asymptotes
    const double* high = nullptr;
    const double* least = nullptr;
    const double* most = nullptr;
    double move = 0.0, conserve = 0.0;
};

// The limits of the step.
void find_limits(const StripPoint& at, double* lower, double* upper);
// p and q of a function by its gradient (Svanberg 2007); `floor` keeps every variable curved.
void find_curves(const StripPoint& at, const double* gradient, double floor, double* p, double* q);

// The best places for multipliers of the m constraints: `x` of each variable.
void best_places(const DualStrip& strip, const double* multipliers, double* x);

// Adds what they come to: the value; then the slope by each multiplier; then, a row of the lower triangle
// after the other, minus the second derivatives.
void add_dual_sums(const DualStrip& strip, const double* multipliers, double* sums);

} // namespace upright
