// Seconds for each stage of the work on blocks of growing size: painting, model, factorisation, one solve,
// filter, carving.
#include "design/chain.hpp"
#include "design/interpolation.hpp"
#include "fem/static_analysis.hpp"
#include "part/extract.hpp"
#include "study/study.hpp"

#include <chrono>
#include <cstdio>
#include <filesystem>
#include <fmt/format.h>
#include <fstream>
#include <unistd.h>

namespace {

using namespace upright;
using Clock = std::chrono::steady_clock;

double seconds_since(Clock::time_point start) {
    return std::chrono::duration<double>(Clock::now() - start).count();
}

Study block(int n) {
    const auto file =
        std::filesystem::temp_directory_path() / fmt::format("upright-speed-{}.toml", ::getpid());
    std::ofstream(file) << fmt::format(R"(units = ["mm", "N", "s"]
[[region]]
name = "block"
role = "design"
material = "ductile iron"
box = [[0, 0, 0], [{0}, {1}, {1}]]
[[surface]]
name = "root"
of = "block"
facing = [-1, 0, 0]
[[surface]]
name = "tip"
of = "block"
facing = [1, 0, 0]
[[support]]
name = "clamp"
on = "root"
hold = ["x", "y", "z"]
[[load]]
name = "pull"
on = "tip"
force = [0, 0, -1]
[[case]]
name = "bend"
supports = "clamp"
loads = {{ pull = 1 }}
[mesh]
size = 1
)",
                                       2 * n, n);
    const Study study = load_study(file);
    std::filesystem::remove(file);
    return study;
}

} // namespace

int main() {
    std::printf("%8s %9s %8s %8s %8s %8s %8s %8s %8s\n", "cells", "unknowns", "model", "prepare", "factor",
                "solve", "filter", "carve", "MB");
    for (const int n : {8, 12, 16, 20, 24}) {
        const Study study = block(n);
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
        PartField(study, model, density).extract({});
        const double carve_seconds = seconds_since(start);
        std::printf("%8zu %9zu %8.3f %8.3f %8.3f %8.3f %8.3f %8.3f %8.1f\n", model.mesh.elements(),
                    cost.unknowns, model_seconds, cost.prepare_seconds, cost.factor_seconds,
                    cost.solve_seconds, filter_seconds, carve_seconds, cost.factor_bytes / 1e6);
        std::fflush(stdout);
    }
    return 0;
}
