// Times the grid multigrid on the block: grid-solve N KIND [residual] [degree coarse_degree visits] [direct]
#include "blocks.hpp"
#include "solve/grid_solver.hpp"

#include <chrono>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <fstream>
#include <string>

using namespace upright;

int main(int argc, char** argv) {
    const int n = argc > 1 ? std::atoi(argv[1]) : 32;
    const std::string kind = argc > 2 ? argv[2] : "random";
    const double tolerance = argc > 3 ? std::atof(argv[3]) : 1e-6;
    grid::MultigridOptions options;
    options.threads = 2;
    if (argc > 4) options.degree = std::atoi(argv[4]);
    if (argc > 5) options.coarse_degree = std::atoi(argv[5]);
    if (argc > 6) options.visits = std::atoi(argv[6]);
    const bool direct = argc > 7;
    const bench::Block block = bench::make_block(n, kind, direct);
    std::vector<double> scale = bench::scales(block.density, 3.0);
    if (std::getenv("DROP") != nullptr)
        for (double& v : scale)
            if (v < 1e-8) v = 0.0;
    SolveWish wish;
    wish.residual = tolerance;
    if (std::getenv("ENERGY") != nullptr) {
        wish.residual = 0;
        wish.energy = tolerance;
    }
    using Clock = std::chrono::steady_clock;
    const auto since = [](Clock::time_point t) {
        return std::chrono::duration<double>(Clock::now() - t).count();
    };
    auto t = Clock::now();
    GridOperator system(block.system, options);
    const double prepare = since(t);
    t = Clock::now();
    system.update(scale);
    const double update = since(t);
    t = Clock::now();
    Strip<double> b(system.length());
    Strip<double> x(system.length());
    system.spread_loads(block.load.data(), b.data());
    const IterationCount count = conjugate_gradients(system, {b.data()}, {x.data()}, false, wish);
    const double solve = since(t);
    t = Clock::now();
    for (int i = 0; i < 5; ++i) system.multiply(x.data(), b.data());
    const double product = since(t) / 5;
    t = Clock::now();
    for (int i = 0; i < 5; ++i) {
        const double* from = b.data();
        double* to = x.data();
        system.precondition(&from, &to, 1);
    }
    const double cycle = since(t) / 5;
    Eigen::VectorXd u(block.load.size());
    system.collect(x.data(), u.data());
    std::printf("n %d %s: %zu unknowns, levels %d (last %zu), prepare %.3f update %.3f solve %.3f s, %d "
                "iterations%s; "
                "product %.2f ms, cycle %.2f ms, %.0f B/dof\n",
                n, kind.c_str(), block.system.unknowns, system.multigrid().levels(),
                system.multigrid().coarsest_unknowns(), prepare, update, solve, count.most,
                count.converged ? "" : " NOT CONVERGED", product * 1e3, cycle * 1e3,
                system.bytes() / static_cast<double>(block.system.unknowns));
    if (direct) {
        Strip<double> b2(system.length());
        Strip<double> x2(system.length());
        system.spread_loads(block.load.data(), b2.data());
        conjugate_gradients(system, {b2.data()}, {x2.data()}, false, SolveWish{});
        system.collect(x2.data(), u.data());
        t = Clock::now();
        const auto solver = make_direct_solver(block.elements, {});
        solver->update(scale);
        const Eigen::MatrixXd exact = solver->solve(Eigen::MatrixXd(block.load));
        std::printf("  direct %.2f s; compliance %.12g against %.12g\n", since(t), block.load.dot(u),
                    block.load.dot(exact.col(0)));
    }
    return 0;
}
