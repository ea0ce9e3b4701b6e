// A design of a run, solved from nothing and its six lowest modes found: design-row STUDY.toml RUN
// [ITERATION], or "full" for RUN. Prints methods, seconds, iterations, frequencies.
#include "design/interpolation.hpp"
#include "fem/modal_analysis.hpp"
#include "fem/static_analysis.hpp"
#include "kinds/kinds.hpp"
#include "store/run_folder.hpp"

#include <cstdio>
#include <cstring>
#include <string>

using namespace upright;

int main(int argc, char** argv) {
    if (argc < 3) return 2;
    try {
        const Study study = load_study(argv[1], {});
        const Model model = build_model(study);
        std::vector<double> density(model.mesh.elements(), 1.0);
        if (std::strcmp(argv[2], "full") != 0)
            density =
                RunFolder::open(argv[2], Access::Reading).read_density(argc > 3 ? std::atoi(argv[3]) : -1);
        const std::vector<double> stiffness = stiffness_share(density, 3.0);
        {
            SolverOptions options;
            options.threads = 2;
            options.kind = SolverKind::GridMultigrid;
            StaticAnalysis analysis(model, options);
            for (const double energy : {1e-6, 1e-12, 1e-18}) {
                analysis.solve(stiffness, density, {energy, false});
                const SolverCost cost = analysis.cost();
                std::printf("%zu cells, %s: set-up %.2f s, cold to %g of the energy %.2f s, %d iterations\n",
                            model.mesh.elements(), cost.method.c_str(), cost.factor_seconds, energy,
                            cost.solve_seconds, cost.iterations);
            }
        }
        ModelModalCase c;
        c.name = "ringing";
        c.supports = model.cases.at(0).supports;
        for (const SolverKind kind : {SolverKind::GridMultigrid, SolverKind::Direct}) {
            SolverOptions options;
            options.threads = 2;
            options.kind = kind;
            options.memory = 20e9;
            if (kind == SolverKind::Direct && model.mesh.elements() > 70000) break;
            const ModalResult found =
                ModalAnalysis(model, options).solve(c, stiffness, modal_mass_share(density));
            std::printf("%zu cells, %s: %.2f s, %d steps;", model.mesh.elements(), found.method.c_str(),
                        found.seconds, found.steps);
            for (const Mode& m : found.modes) std::printf(" %.6g", m.frequency);
            std::printf(" Hz\n");
        }
    } catch (const std::exception& bad) {
        std::fprintf(stderr, "%s\n", bad.what());
        return 1;
    }
    return 0;
}
