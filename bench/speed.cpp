// Seconds for each stage of the work on blocks of growing size: painting, model, factorisation, one solve,
// filter, carving.
#include "cantilever.hpp"

#include "design/chain.hpp"
#include "design/interpolation.hpp"
#include "fem/static_analysis.hpp"
#include "part/extract.hpp"

#include <chrono>
#include <cstdio>

namespace {

using namespace upright;
using Clock = std::chrono::steady_clock;

double seconds_since(Clock::time_point start) {
    return std::chrono::duration<double>(Clock::now() - start).count();
}

} // namespace

int main() {
    std::printf("%8s %9s %8s %8s %8s %8s %8s %8s %8s\n", "cells", "unknowns", "model", "prepare", "factor",
                "solve", "filter", "carve", "MB");
    for (const int n : {8, 12, 16, 20, 24}) {
        const Study study = bench::study_of(bench::cantilever("enhanced", 2.0 * n, n, 1.0));
        auto start = Clock::now();
        const Model model = build_model(study);
        const double model_seconds = seconds_since(start);
        StaticAnalysis analysis(model, {});
        std::vector<double> x(model.mesh.elements());
        for (std::size_t e = 0; e < x.size(); ++e) x[e] = 0.5 + 0.4 * std::sin(static_cast<double>(e));
        const DesignChain chain(model, 2.5);
        start = Clock::now();
        const std::vector<double> density = chain.physical(x, 0.0);
        const double filter_seconds = seconds_since(start);
        analysis.solve(stiffness_share(density, 3.0), density);
        const SolverCost cost = analysis.cost();
        start = Clock::now();
        PartField(model, density).extract({});
        const double carve_seconds = seconds_since(start);
        std::printf("%8zu %9zu %8.3f %8.3f %8.3f %8.3f %8.3f %8.3f %8.1f\n", model.mesh.elements(),
                    cost.unknowns, model_seconds, cost.prepare_seconds, cost.factor_seconds,
                    cost.solve_seconds, filter_seconds, carve_seconds, cost.factor_bytes / 1e6);
        std::fflush(stdout);
    }
    return 0;
}
