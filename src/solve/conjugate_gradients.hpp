// Flexible conjugate gradients (Polak-Ribiere; Notay 2000) for several right-hand sides side by side.
//
// Solution and residual are kept in double precision, directions in single: the residual takes the product
// with the direction as it was rounded, so nothing is lost, and less has to come from memory.
#pragma once

#include "solve/linear_solver.hpp"
#include "solve/strip.hpp"

#include <vector>

namespace upright {

// A symmetric positive definite system and what stands for its inverse, on vectors of one length whose inner
// products are plain sums.
class IterativeSystem {
  public:
    IterativeSystem() = default;
    IterativeSystem(const IterativeSystem&) = delete;
    IterativeSystem& operator=(const IterativeSystem&) = delete;
    virtual ~IterativeSystem() = default;
    virtual std::size_t length() const = 0;
    // out = A v; returns this peer's share of v' A v. `v` may be written to in between, but is as before at
    // the end. Arithmetic is in double either way.
    virtual double multiply(double* v, double* out) = 0;
    virtual double multiply(float* v, double* out) = 0;
    // z = B r, up to four at once. Residuals are scaled to a length near one; they may be written to.
    virtual void precondition(float* const* r, float* const* z, int count) = 0;
    // A stronger preconditioner, where it is worth so many cycles that seem to be left with this one. Returns
    // whether there is one now.
    virtual bool strengthen(double /*cycles*/) { return false; }
    // What stands for the inverse was found not to be positive definite (a smoother whose bound is too low):
    // makes it steadier. Returns whether it could.
    virtual bool steady() { return false; }
    virtual int threads() const = 0;
};

struct IterationCount {
    int most = 0; // that any right-hand side took
    bool converged = true;
};

inline constexpr int most_iterations = 500;

// Working room of a right-hand side, for solve after solve.
struct GradientRoom {
    Strip<float> p, z, r; // direction, preconditioned residual, residual as the preconditioner takes it
    Strip<double> Ap;
};

// x holds start values (zero, or anything where `warm`) and becomes the solution; b becomes the residual.
IterationCount conjugate_gradients(IterativeSystem& system, const std::vector<double*>& b,
                                   const std::vector<double*>& x, bool warm, const SolveWish& wish,
                                   std::vector<GradientRoom>& room);
IterationCount conjugate_gradients(IterativeSystem& system, const std::vector<double*>& b,
                                   const std::vector<double*>& x, bool warm, const SolveWish& wish);

} // namespace upright
