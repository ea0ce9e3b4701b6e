// One row of the solvers on fitted tetrahedra: fitted-row METHOD STUDY|THOUSANDS DENSITIES [ORDER]. A block
// of 2 x 1 x 1 of about so many thousand unknowns, clamped at one end with a load at the other, or a study
// with a fitted mesh. METHOD: lattice, aggregation, cholesky. DENSITIES: uniform, random, struts. Prints
// method,model,densities,order,unknowns,prepare,set-up,to 1e-6 of the residual: iterations,seconds; to 1e-6
// of the energy: iterations,seconds; a step (update and warm solve): set-up,seconds; bytes an
// unknown,compliance.
#include "design/interpolation.hpp"
#include "fem/case_groups.hpp"
#include "fem/constrained_solver.hpp"
#include "kinds/kinds.hpp"
#include "model/model.hpp"

#include <chrono>
#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <fmt/format.h>
#include <fstream>
#include <random>
#include <sys/resource.h>
#include <unistd.h>

using namespace upright;

namespace {

double peak_bytes() {
    rusage usage{};
    getrusage(RUSAGE_SELF, &usage);
    return 1024.0 * static_cast<double>(usage.ru_maxrss);
}

std::string block(double thousands, int order) {
    // Unknowns of a block of edge 1 and of cells h: about 3 x 1.4 x 2 / h^3; of second order eight times as
    // many.
    const double h = std::cbrt(2.0 * 1.35 * 3.0 * (order == 2 ? 8.0 : 1.0) / (1e3 * thousands));
    return fmt::format(R"(units = ["mm", "N", "s"]
[[material]]
name = "m"
E = 1.0
nu = 0.3
density = 1.0
[[region]]
name = "block"
role = "design"
material = "m"
box = [[0, 0, 0], [200, 100, 100]]
[mesh]
kind = "fitted"
size = {:.5g}
order = {}
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
name = "c"
supports = ["clamp"]
loads = ["pull"]
)",
                       100.0 * h, order);
}

double distance(const Vec3& p, const Vec3& a, const Vec3& b) {
    const Vec3 d = b - a;
    const double t = std::clamp((p - a).dot(d) / d.squaredNorm(), 0.0, 1.0);
    return (p - a - t * d).norm();
}

// A truss of four bays in a box, members three sizes across.
std::vector<double> struts(const Mesh& mesh) {
    const Vec3 low = mesh.bounds.low;
    const Vec3 extent = mesh.bounds.high - low;
    const auto chord = [&](int bay, int which) {
        return Vec3(low.x() + 0.25 * bay * extent.x(), low.y() + (which % 2 == 0 ? 0.12 : 0.88) * extent.y(),
                    low.z() + (which / 2 == 0 ? 0.12 : 0.88) * extent.z());
    };
    std::vector<std::pair<Vec3, Vec3>> bars;
    for (int bay = 0; bay <= 4; ++bay)
        for (int c = 0; c < 4; ++c) {
            if (bay < 4) {
                bars.emplace_back(chord(bay, c), chord(bay + 1, c));
                bars.emplace_back(chord(bay, c), chord(bay + 1, c ^ 1));
                bars.emplace_back(chord(bay, c), chord(bay + 1, c ^ 2));
            }
            bars.emplace_back(chord(bay, c), chord(bay, c ^ 1));
            bars.emplace_back(chord(bay, c), chord(bay, c ^ 2));
        }
    std::vector<double> out;
    for (const Vec3& p : mesh.element_centers()) {
        double nearest = 1e300;
        for (const auto& [a, b] : bars) nearest = std::min(nearest, distance(p, a, b));
        if (p.x() > mesh.bounds.high.x() - 2.0 * mesh.size) nearest = 0.0;
        out.push_back(nearest < 1.5 * mesh.size ? 1.0 : 0.0);
    }
    return out;
}

} // namespace

int main(int argc, char** argv) {
    if (argc < 4) {
        std::fprintf(stderr, "usage: fitted-row METHOD STUDY|THOUSANDS DENSITIES [ORDER]\n");
        return 2;
    }
    const std::string method = argv[1];
    const std::string what = argv[2];
    const std::string kind = argv[3];
    const int order = argc > 4 ? std::atoi(argv[4]) : 1;
    try {
        const double thousands = std::atof(argv[2]);
        std::string file = what;
        if (thousands > 0.0) {
            file = fmt::format("/tmp/fitted-row-{}.toml", getpid());
            std::ofstream(file) << block(thousands, order);
        }
        const Model model = build_model(load_study(file, {}));
        if (thousands > 0.0) unlink(file.c_str());
        std::mt19937 random(7);
        std::uniform_real_distribution<double> any(0.0, 1.0);
        std::vector<double> density(model.mesh.elements(), 1.0);
        if (kind == "random")
            for (double& d : density) d = any(random);
        if (kind == "struts") density = struts(model.mesh);
        const ShapeClasses classes = shape_classes(model);
        const ClassMatrices stiffness(model, classes, ClassMatrices::What::Stiffness);
        const ModelCase& c = model.cases[static_cast<CaseId>(0)];
        const Transform t = model.transform(c);
        const Eigen::MatrixXd load = t.gather(model.forces(c, density));
        SolverOptions options;
        options.threads = 2;
        options.memory = 22e9;
        options.kind = method == "lattice"       ? SolverKind::LatticeMultigrid
                       : method == "aggregation" ? SolverKind::Aggregation
                                                 : SolverKind::Direct;
        const double before = peak_bytes();
        using Clock = std::chrono::steady_clock;
        const auto since = [](Clock::time_point from) {
            return std::chrono::duration<double>(Clock::now() - from).count();
        };
        auto start = Clock::now();
        ConstrainedSolver solver(model, t, classes, stiffness, 1, options);
        const double prepare = since(start);
        start = Clock::now();
        solver.update(stiffness_share(density, 3.0));
        const double setup = since(start);
        const Loads loads(load);
        SolveWish wish;
        wish.residual = 1e-6;
        start = Clock::now();
        Eigen::MatrixXd x;
        solver.solve(loads, wish, x);
        const double residual = since(start);
        const int residual_iterations = solver.cost().iterations;
        wish = {};
        wish.energy = 1e-6;
        start = Clock::now();
        solver.solve(loads, wish, x);
        const double energy = since(start);
        const int energy_iterations = solver.cost().iterations;
        // A step of an optimiser: other densities by a hundredth.
        std::vector<double> next = density;
        for (double& d : next) d = std::clamp(d + 0.02 * (any(random) - 0.5), 0.0, 1.0);
        start = Clock::now();
        solver.update(stiffness_share(next, 3.0));
        const double step_setup = since(start);
        wish.warm = true;
        start = Clock::now();
        solver.solve(loads, wish, x);
        const double step = since(start);
        SolveWish exact;
        solver.update(stiffness_share(density, 3.0));
        solver.solve(loads, exact, x);
        const double compliance = load.col(0).dot(x.col(0));
        std::printf("%s,%s,%s,%d,%zu,%.2f,%.2f,%d,%.2f,%d,%.2f,%.2f,%.2f,%.0f,%.10g\n",
                    solver.cost().method.c_str(), what.c_str(), kind.c_str(), order, t.unknowns(), prepare,
                    setup, residual_iterations, residual, energy_iterations, energy, step_setup, step,
                    (peak_bytes() - before) / static_cast<double>(t.unknowns()), compliance);
        for (const std::string& note : solver.take_notes()) std::printf("# %s\n", note.c_str());
    } catch (const std::exception& bad) {
        std::printf("%s,%s,%s,%d,%s\n", method.c_str(), what.c_str(), kind.c_str(), order, bad.what());
        return 1;
    }
    return 0;
}
