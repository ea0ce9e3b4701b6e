// Every element its own bound on stress, as what a goal is raised by: the augmented Lagrangian of Senhora,
// Giraldo-Londoño, Menezes & Paulino (2020), the mean over the samples of lambda h + mu h^2 / 2 with
// h = max(g, -lambda / mu), and with E the share of the stiffness g = E L (L^2 + 1), L = stress / limit - 1.
// Void bears nothing, and g vanishes with it. The mean is over the samples that a filter leaves free: a peak
// is that of one element on small elements too, and over all of them the smaller they are the less it would
// count (at a fifth of the filter's radius such runs took twice the iterations and ended heavier).
//
// The limits follow the black-and-white form of the design: on a stair of cells stress is larger than on the
// gray edge that it stands for, by 5 to 15 %, in one cell here and in another after the next step. Elements
// whose stress was larger (and their neighbours) are held to as much less, and all together to a little less
// for what is broken all the same.
#pragma once

#include "mesh/mesh.hpp"
#include "response/measure.hpp"

#include <string>
#include <vector>

namespace upright {

class StressLagrangian {
  public:
    // Sample k is of element `element[k]`, with a strength (or one) of `strength[k]`. `allowed`: the share of
    // it that may be used. `alike`: of so many samples one counts, where a filter lets that many elements
    // move as one.
    StressLagrangian(const Mesh& mesh, std::vector<std::size_t> element, std::vector<double> strength,
                     double allowed, double alike = 1.0);

    struct Terms {
        double value = 0.0;
        std::vector<double> by_stress;    // of every sample
        std::vector<double> by_stiffness; // the same, by the share of the stiffness
        // What the multipliers alone make of limits that are looser by a share of themselves, its sign
        // turned.
        double by_limit = 0.0;
    };
    // `stress`: of the solid material, every sample; `stiffness`: of every element. `name` is that of the
    // column in the memory; with `update` multipliers move, every few calls.
    Terms terms(const std::vector<double>& stress, const std::vector<double>& stiffness, Memory& memory,
                const std::string& name, bool update) const;

    // Stress of the same samples in a design and in its black-and-white form of densities 0 and 1.
    void follow(const std::vector<double>& gray, const std::vector<double>& made,
                const std::vector<double>& made_density, Memory& memory, const std::string& name) const;

  private:
    void spread(std::vector<double>& ratio) const;

    const Mesh& mesh_;
    std::vector<std::size_t> element_;
    std::vector<double> limit_; // of each sample
    double alike_;
};

} // namespace upright
