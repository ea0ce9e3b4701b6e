// One row of the solver table: solver-row METHOD N KIND [TOLERANCE]. Prints
// method,n,kind,unknowns,setup,solve,iterations,bytes_a_unknown (of the whole process, the problem taken
// off). Methods: grid, lattice, aggregation, cholesky.
#include "blocks.hpp"
#include "solve/aggregation.hpp"
#include "solve/grid_solver.hpp"
#include "solve/lattice_solver.hpp"

#include <chrono>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <string>
#include <sys/resource.h>

using namespace upright;

namespace {

double peak_bytes() {
    rusage usage{};
    getrusage(RUSAGE_SELF, &usage);
    return 1024.0 * static_cast<double>(usage.ru_maxrss);
}

} // namespace

int main(int argc, char** argv) {
    if (argc < 4) {
        std::fprintf(stderr, "usage: solver-row METHOD N KIND [TOLERANCE]\n");
        return 2;
    }
    const std::string method = argv[1];
    const int n = std::atoi(argv[2]);
    const std::string kind = argv[3];
    SolveWish wish;
    wish.residual = argc > 4 ? std::atof(argv[4]) : 1e-6;
    bench::Block block = bench::make_block(n, kind, method != "grid");
    const std::vector<double> scale = bench::scales(block.density, 3.0);
    const double before = peak_bytes();
    using Clock = std::chrono::steady_clock;
    const auto since = [](Clock::time_point t) {
        return std::chrono::duration<double>(Clock::now() - t).count();
    };
    SolverOptions options;
    options.threads = 2;
    options.memory = 20e9;
    try {
        auto start = Clock::now();
        std::unique_ptr<LinearSolver> solver;
        if (method == "grid") {
            solver = make_grid_solver(block.system, options);
        } else if (method == "cholesky") {
            solver = make_direct_solver(block.elements, options);
        } else if (method == "lattice") {
            UnknownPlaces places;
            places.places = block.places;
            places.beyond.assign(places.places.size(), 0);
            places.spacing = 1.0;
            for (std::size_t u = 0; u < block.system.unknowns; ++u) {
                places.node_of.push_back(static_cast<std::int32_t>(u / 3));
                places.component_of.push_back(static_cast<std::uint8_t>(u % 3));
            }
            solver = make_lattice_solver(block.elements, std::move(places), options);
        } else {
            NearKernel kernel;
            kernel.motions = bench::rigid_motions(block);
            for (std::size_t u = 0; u < block.system.unknowns; ++u)
                kernel.node_of.push_back(static_cast<std::int32_t>(u / 3));
            solver = make_aggregation_solver(block.elements, std::move(kernel), options);
        }
        solver->update(scale);
        const double setup = since(start);
        start = Clock::now();
        const Eigen::MatrixXd x = solver->solve(Eigen::MatrixXd(block.load), wish);
        const double solve = since(start);
        std::printf("%s,%d,%s,%zu,%.3f,%.3f,%d,%.0f,%.9g\n", method.c_str(), n, kind.c_str(),
                    block.system.unknowns, setup, solve, solver->cost().iterations,
                    (peak_bytes() - before) / static_cast<double>(block.system.unknowns),
                    block.load.dot(x.col(0)));
    } catch (const std::exception& bad) {
        std::printf("%s,%d,%s,%zu,,,,,%s\n", method.c_str(), n, kind.c_str(), block.system.unknowns,
                    bad.what());
    }
    return 0;
}
