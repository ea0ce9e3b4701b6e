// The iterative solvers against the factorisation, on models with every sort of constraint.
#include "fem/constrained_solver.hpp"
#include "fem/elasticity.hpp"
#include "fem/element.hpp"
#include "fem/grid_system.hpp"
#include "fem/reduced_system.hpp"
#include "fem/static_analysis.hpp"
#include "model/model.hpp"
#include "solve/grid/kernels.hpp"
#include "solve/grid_solver.hpp"
#include "support/studies.hpp"

#include <Eigen/SparseCholesky>
#include <array>
#include <gtest/gtest.h>
#include <random>

using namespace upright;

namespace {

// Densities at random, cubed, and a tenth of the cells void.
std::vector<double> random_share(const Model& model) {
    std::mt19937 random(11);
    std::uniform_real_distribution<double> any(0.0, 1.0);
    std::vector<double> out;
    for (std::size_t e = 0; e < model.mesh.elements(); ++e) {
        const double d = any(random);
        out.push_back(model.role(static_cast<ElementId>(e)) != Role::Design ? 1.0
                      : d < 0.1                                             ? 1e-9
                                                                            : d * d * d + 1e-9);
    }
    return out;
}

// The largest difference of displacements between a solver and the factorisation, as a share of the largest,
// at nodes that have material: those within voids follow with what rounding leaves them.
double difference(const Model& model, SolverKind kind, const std::vector<double>& share, std::string* method,
                  int* iterations = nullptr) {
    SolverOptions direct;
    direct.kind = SolverKind::Direct;
    StaticAnalysis exact(model, direct);
    SolverOptions options;
    options.kind = kind;
    StaticAnalysis other(model, options);
    const std::vector<CaseResult> a = exact.solve(share, share);
    const std::vector<CaseResult> b = other.solve(share, share);
    Eigen::ArrayXd counts = Eigen::ArrayXd::Zero(static_cast<Eigen::Index>(model.freedoms()));
    counts.tail(counts.size() - static_cast<Eigen::Index>(model.node_freedoms())) = 1.0;
    for (std::size_t e = 0; e < share.size(); ++e)
        if (share[e] > 1e-6)
            for (const std::size_t f : model.freedoms_of(static_cast<ElementId>(e)))
                counts[static_cast<Eigen::Index>(f)] = 1.0;
    double worst = 0.0;
    for (std::size_t c = 0; c < a.size(); ++c)
        worst = std::max(worst, (counts * (a[c].displacement - b[c].displacement).array()).abs().maxCoeff() /
                                    (counts * a[c].displacement.array()).abs().maxCoeff());
    *method = other.cost().method;
    if (iterations != nullptr) *iterations = other.cost().iterations;
    for (const std::string& note : other.take_notes()) ADD_FAILURE() << note;
    return worst;
}

const char* const odd_block = R"(
units = ["mm", "N", "s"]
[[material]]
name = "steel"
E = "200 GPa"
nu = 0.3
density = "7850 kg/m3"
[[material]]
name = "bronze"
E = "100 GPa"
nu = 0.35
density = "8800 kg/m3"
[[region]]
name = "block"
role = "design"
material = "steel"
box = [[0, 0, 0], [23, 11, 9]]
[[region]]
name = "bush"
role = "keep"
material = "bronze"
cylinder = { from = [16, 0, 5], to = [16, 11, 5], radius = 3.5 }
[[region]]
name = "bore"
role = "void"
cylinder = { from = [16, 0, 5], to = [16, 11, 5], radius = 2 }
[[surface]]
name = "root"
of = "block"
facing = [-1, 0, 0]
[[surface]]
name = "wall"
of = "bore"
[[surface]]
name = "end"
of = "block"
facing = [1, 0, 0]
[[surface]]
name = "floor"
of = "block"
facing = [0, 0, -1]
inside = { box = [[0, 0, -1], [5, 11, 1]] }
[mesh]
size = 1
)";

// A ring about z, 12 mm of wall, held in its bore and pushed at its top.
const char* const plain_steel = "E = \"200 GPa\"\nnu = 0.3\n";
// Stiff along the ring; and along x.
const char* const wound = "E = [\"9 GPa\", \"130 GPa\", \"9 GPa\"]\nnu = [0.02, 0.3, 0.3]\n"
                          "G = [\"5 GPa\", \"5 GPa\", \"3 GPa\"]\nframe = \"f\"\n";
const char* const one_way = "E = [\"130 GPa\", \"9 GPa\", \"9 GPa\"]\nnu = [0.3, 0.3, 0.02]\n"
                            "G = [\"5 GPa\", \"3 GPa\", \"5 GPa\"]\n";
const char* const bronze_bush = R"(
[[material]]
name = "bronze"
E = "100 GPa"
nu = 0.35
density = "8800 kg/m3"
[[region]]
name = "bush"
role = "keep"
material = "bronze"
cylinder = { from = [14, 0, 0], to = [14, 0, 6], radius = 4 }
)";
const char* const slipping = R"(
[[surface]]
name = "rim"
of = "ring"
facing = [0, 0, -1]
[[frame]]
name = "tilted"
kind = "cartesian"
origin = [0, 0, 0]
axis = [1, 2, 3]
start = [3, 0, -1]
[[support]]
name = "slide"
on = "rim"
frame = "tilted"
hold = ["x", "z"]
[[case]]
name = "two"
supports = ["slide", "hole"]
loads = { press = 1 }
)";
const char* const hub = R"(
[[coupling]]
name = "hub"
surface = "top"
[[load]]
name = "twist"
on = "hub"
moment = [100, 20, 300]
[[case]]
name = "two"
supports = ["hole"]
loads = { twist = 1 }
)";

std::string ring_body(const std::string& elastic, bool bore = true) {
    std::string out = R"(
units = ["mm", "N", "s"]
[[frame]]
name = "f"
kind = "cylindrical"
origin = [0, 0, 0]
axis = [0, 0, 1]
[[material]]
name = "steel"
density = "7850 kg/m3"
)" + elastic + R"(
[[region]]
name = "ring"
role = "design"
material = "steel"
cylinder = { from = [0, 0, 0], to = [0, 0, 6], radius = 20 }
)";
    if (bore)
        out += "[[region]]\nname = \"bore\"\nrole = \"void\"\ncylinder = { from = [0, 0, 0], to = [0, 0, 6], "
               "radius = 8 }\n[[surface]]\nname = \"hole\"\nof = \"bore\"\n";
    else
        out += "[[surface]]\nname = \"hole\"\nof = \"ring\"\nfacing = [0, 0, -1]\n";
    return out + R"(
[[surface]]
name = "top"
of = "ring"
facing = [0, 0, 1]
[[support]]
name = "hole"
on = "hole"
hold = ["x", "y", "z"]
[[load]]
name = "press"
on = "top"
force = [3, 0, -10]
[[case]]
name = "one"
supports = ["hole"]
loads = { press = 1 }
)";
}

std::string ring_study(const std::string& elastic, const std::string& size, const std::string& more = "",
                       bool bore = true) {
    return ring_body(elastic, bore) + more + "[mesh]\nkind = \"polar\"\nframe = \"f\"\n" + size + "\n";
}

// A named way to hold and load the block.
struct Setup {
    const char* name;
    const char* text;
};

class EveryConstraint : public testing::TestWithParam<Setup> {};

} // namespace

TEST_P(EveryConstraint, GivesTheDisplacementsOfTheFactorisation) {
    const Model model = build_model(test::study_from(std::string(odd_block) + GetParam().text));
    const std::vector<double> share = random_share(model);
    std::string method;
    int iterations = 0;
    EXPECT_LT(difference(model, SolverKind::GridMultigrid, share, &method, &iterations), 1e-6);
    EXPECT_EQ(method, "grid multigrid");
    EXPECT_LT(iterations, 90);
    EXPECT_LT(difference(model, SolverKind::Aggregation, share, &method, &iterations), 1e-6);
    EXPECT_EQ(method, "aggregation multigrid");
    EXPECT_LT(iterations, 400);
}

INSTANTIATE_TEST_SUITE_P(Multigrid, EveryConstraint,
                         testing::Values(Setup{"TwoCasesWithGravity", R"(
[[support]]
name = "root"
on = "root"
hold = ["x", "y", "z"]
[[load]]
name = "pull"
on = "wall"
force = [10, 20, -30]
[[load]]
name = "weight"
gravity = [0, 0, -9810]
[[case]]
name = "one"
supports = ["root"]
loads = { pull = 1 }
[[case]]
name = "two"
supports = ["root"]
loads = { pull = 0.5, weight = 1 }
)"},
                                         Setup{"ASlopeAndARoller", R"(
[[frame]]
name = "slope"
kind = "cartesian"
origin = [0, 0, 0]
axis = [-4, 0, 3]
start = [3, 0, 4]
[[support]]
name = "slide"
on = "floor"
frame = "slope"
hold = ["x"]
[[support]]
name = "roller"
on = "end"
hold = ["y", "z"]
[[load]]
name = "pull"
on = "wall"
force = [10, 20, -30]
[[case]]
name = "one"
supports = ["slide", "roller"]
loads = { pull = 1 }
)"},
                                         Setup{"AnEnforcedMotion", R"(
[[support]]
name = "root"
on = "root"
hold = ["x", "y", "z"]
[[support]]
name = "push"
on = "end"
hold = ["x"]
move = { x = 0.1 }
[[load]]
name = "pull"
on = "wall"
force = [0, 20, -30]
[[case]]
name = "one"
supports = ["root", "push"]
loads = { pull = 1 }
)"},
                                         Setup{"ARigidCouplingLoaded", R"(
[[support]]
name = "root"
on = "root"
hold = ["x", "y", "z"]
[[point]]
name = "beyond"
at = [16, 20, 5]
[[coupling]]
name = "hub"
surface = "wall"
at = "beyond"
[[load]]
name = "pull"
on = "hub"
force = [10, 20, -30]
[[load]]
name = "twist"
on = "hub"
moment = [100, 200, 300]
[[case]]
name = "one"
supports = ["root"]
loads = { pull = 1 }
[[case]]
name = "two"
supports = ["root"]
loads = { twist = 1 }
)"},
                                         Setup{"AHeldCouplingAndAnAverage", R"(
[[coupling]]
name = "hub"
surface = "wall"
[[coupling]]
name = "mean"
kind = "average"
surface = "end"
[[support]]
name = "pivot"
on = "hub"
hold = ["x", "y", "z", "rx", "rz"]
[[support]]
name = "stay"
on = "root"
hold = ["x"]
[[load]]
name = "pull"
on = "mean"
force = [10, 20, -30]
[[case]]
name = "one"
supports = ["pivot", "stay"]
loads = { pull = 1 }
)"},
                                         Setup{"AnAverageHeld", R"(
[[coupling]]
name = "mean"
kind = "average"
surface = "end"
[[support]]
name = "mean"
on = "mean"
hold = ["y", "z"]
[[support]]
name = "root"
on = "root"
hold = ["x", "y", "z"]
[[load]]
name = "pull"
on = "wall"
force = [10, 20, -30]
[[case]]
name = "one"
supports = ["mean", "root"]
loads = { pull = 1 }
)"},
                                         Setup{"OnAJointAlone", R"(
[[coupling]]
name = "foot"
surface = "root"
[[joint]]
name = "bolt"
between = ["foot", "ground"]
axis = [1, 0, 0]
stiffness = { axial = 1e5, shear = 5e4, torsion = 1e7, bending = 1e7 }
[[load]]
name = "pull"
on = "wall"
force = [10, 20, -30]
[[support]]
name = "none"
on = "foot"
hold = ["rx"]
[[case]]
name = "one"
supports = ["none"]
loads = { pull = 1 }
)"}),
                         [](const testing::TestParamInfo<Setup>& i) { return std::string(i.param.name); });

TEST(GridMultigrid, ServesThePlaneAndEveryFormulation) {
    for (const char* formulation : {"mesh.formulation=plain", "mesh.formulation=enhanced"}) {
        const Study study = test::study_from(test::half_beam(61, 19, false), {formulation});
        const Model model = build_model(study);
        std::string method;
        // No voids: islands that hang in them by 1e-9 alone are where rounding puts them.
        std::vector<double> share = random_share(model);
        for (double& s : share) s = std::max(s, 1e-3);
        EXPECT_LT(difference(model, SolverKind::GridMultigrid, share, &method), 1e-6);
        EXPECT_EQ(method, "grid multigrid");
    }
}

TEST(GridMultigrid, MultipliesAsTheAssembledMatrixDoes) {
    for (const std::string& text :
         {test::half_beam(61, 19, false), test::block_study(), ring_study(plain_steel, "size = 3")}) {
        const Model model = build_model(test::study_from(text));
        const StaticAnalysis analysis(model, {});
        const Transform transform = model.transform(model.cases.at(0));
        const GridSystem system =
            make_grid_system(model, transform, analysis.classes(), analysis.stiffness_by_class());
        const std::vector<double> share = random_share(model);
        GridOperator op(system, {});
        op.update(share);
        ReducedSystem elements;
        // With the matrix of every element where it stands.
        std::vector<Eigen::MatrixXd> own;
        for (std::size_t e = 0; e < model.mesh.elements(); ++e) {
            const auto id = static_cast<ElementId>(e);
            own.push_back(element_for(model.mesh.kind(id))
                              .stiffness(places_of(model.mesh, id), elasticity(model, id),
                                         model.mesh.depth(id), model.formulation));
        }
        for (std::size_t e = 0; e < model.mesh.elements(); ++e)
            elements.add(transform, model.freedoms_of(static_cast<ElementId>(e)), own[e]);
        const Eigen::VectorXd u = Eigen::VectorXd::Random(static_cast<Eigen::Index>(transform.unknowns()));
        const Eigen::VectorXd expected = elements.assembled(share) * u;
        Strip<double> v(op.length());
        Strip<double> out(op.length());
        op.spread_values(u.data(), v.data());
        op.multiply(v.data(), out.data());
        Eigen::VectorXd got(u.size());
        op.collect(out.data(), got.data());
        // The scales of cells are floats on the lattice.
        EXPECT_LT((got - expected).norm(), 1e-7 * expected.norm());
    }
}

TEST(GridMultigrid, GivesTheSameOnEveryInstructionSet) {
    const Model model = build_model(test::study_from(test::block_study()));
    const StaticAnalysis analysis(model, {});
    const Transform transform = model.transform(model.cases.at(0));
    const GridSystem system =
        make_grid_system(model, transform, analysis.classes(), analysis.stiffness_by_class());
    const std::vector<double> share = random_share(model);
    std::vector<Eigen::VectorXd> results;
    for (const char* name : {"baseline", "avx2", "avx512"}) {
        const grid::Kernels* kernels = grid::kernels_named(name);
        if (kernels == nullptr) continue;
        grid::MultigridOptions options;
        options.kernels = kernels;
        options.threads = 2;
        GridOperator op(system, options);
        op.update(share);
        Strip<double> b(op.length());
        Strip<double> x(op.length());
        const Eigen::VectorXd load = transform.gather(analysis.forces(model.cases.at(0), share, share));
        op.spread_loads(load.data(), b.data());
        EXPECT_TRUE(conjugate_gradients(op, {b.data()}, {x.data()}, false, SolveWish{}).converged);
        results.emplace_back(load.size());
        op.collect(x.data(), results.back().data());
    }
    for (const Eigen::VectorXd& r : results) EXPECT_LT((r - results[0]).norm(), 1e-7 * results[0].norm());
}

TEST(GridMultigrid, IsTheSameWithAnyNumberOfThreads) {
    const Model model = build_model(test::study_from(test::block_study()));
    std::vector<Eigen::VectorXd> results;
    for (const int threads : {1, 2, 3}) {
        SolverOptions options;
        options.kind = SolverKind::GridMultigrid;
        options.threads = threads;
        StaticAnalysis analysis(model, options);
        const std::vector<double> share = random_share(model);
        results.push_back(analysis.solve(share, share)[0].displacement);
    }
    EXPECT_EQ(results[0], results[1]);
    EXPECT_EQ(results[0], results[2]);
}

TEST(GridMultigrid, AWarmStartCostsAlmostNothing) {
    const Model model = build_model(test::study_from(test::block_study()));
    SolverOptions options;
    options.kind = SolverKind::GridMultigrid;
    StaticAnalysis analysis(model, options);
    const std::vector<double> share = random_share(model);
    analysis.solve(share, share);
    const int cold = analysis.cost().iterations;
    std::vector<double> twice = share;
    for (double& s : twice) s *= 2.0;
    // The start is scaled: doubled stiffness is met at once.
    analysis.solve(twice, share, {1e-15, true});
    EXPECT_LE(analysis.cost().iterations, 2);
    EXPECT_GT(cold, 5);
}

namespace {

// A model on a lattice of cells, as the multigrid takes it.
struct Lattice {
    Model model;
    StaticAnalysis analysis;
    Transform transform;
    GridSystem system;

    explicit Lattice(const std::string& text)
        : model(build_model(test::study_from(text))), analysis(model, {}),
          transform(model.transform(model.cases.at(0))),
          system(make_grid_system(model, transform, analysis.classes(), analysis.stiffness_by_class())) {}
    Eigen::VectorXd load() const {
        const std::vector<double> full(model.mesh.elements(), 1.0);
        return transform.gather(analysis.forces(model.cases.at(0), full, full));
    }
    // Returns the iterations.
    int solve(GridOperator& op, Eigen::VectorXd& u, double residual) const {
        Strip<double> b(op.length());
        Strip<double> x(op.length());
        const Eigen::VectorXd f = load();
        op.spread_loads(f.data(), b.data());
        SolveWish wish;
        wish.residual = residual;
        const IterationCount count = conjugate_gradients(op, {b.data()}, {x.data()}, false, wish);
        EXPECT_TRUE(count.converged);
        u.resize(f.size());
        op.collect(x.data(), u.data());
        return count.most;
    }
};

// The block of the shared studies, of other sides.
std::string block_of(const std::string& sides) {
    std::string out = test::block_study();
    const std::string usual = "[8, 4, 4]";
    return out.replace(out.find(usual), usual.size(), sides);
}

// Four chords, diagonals and rungs, and a plate at the end; the rest void.
std::vector<double> truss(const Model& model) {
    std::vector<double> out;
    for (const Vec3& p : model.mesh.element_centers()) {
        const auto at_edge = [](double v) { return v < 2.0 || v > 22.0; };
        const double along = std::fmod(p.x(), 24.0);
        const bool chord = at_edge(p.y()) && at_edge(p.z());
        const bool diagonal = at_edge(p.y()) && std::abs(along - p.z()) < 1.6;
        const bool rung = at_edge(p.z()) && std::abs(along - 12.0) < 1.0;
        out.push_back(chord || diagonal || rung || p.x() > 46.0 ? 1.0 : 1e-9);
    }
    return out;
}

} // namespace

TEST(GridMultigrid, ThinMembersAreFactorisedByThemselves) {
    const Lattice lattice(block_of("[48, 24, 24]"));
    const std::vector<double> share = truss(lattice.model);
    GridOperator plain(lattice.system, {});
    plain.update(share);
    EXPECT_FALSE(plain.strengthen(0.1)); // not worth it
    Eigen::VectorXd u;
    const int before = lattice.solve(plain, u, 1e-6);

    GridOperator strong(lattice.system, {});
    strong.update(share);
    ASSERT_TRUE(strong.strengthen(1e9));
    EXPECT_TRUE(strong.multigrid().strengthened());
    Eigen::VectorXd v;
    const int after = lattice.solve(strong, v, 1e-6);
    EXPECT_LT(after, 15);
    EXPECT_LT(2 * after, before);

    SolverOptions direct;
    direct.kind = SolverKind::Direct;
    const auto exact = StaticAnalysis(lattice.model, direct).solve(share, share)[0];
    EXPECT_NEAR(lattice.load().dot(v), exact.compliance, 1e-6 * exact.compliance);

    // It is of one design.
    strong.update(std::vector<double>(share.size(), 1.0));
    EXPECT_FALSE(strong.multigrid().strengthened());
    EXPECT_FALSE(strong.strengthen(1e9)); // a solid block is left to the cycle
}

TEST(GridMultigrid, ASupportOnSingleNodesIsNotLostOnCoarseLevels) {
    // Held where no coarse node is: three patches of one cell's face each, off the even places.
    std::string text = block_of("[24, 12, 12]");
    const auto replace = [&](const std::string& what, const std::string& by) {
        ASSERT_NE(text.find(what), std::string::npos);
        text.replace(text.find(what), what.size(), by);
    };
    replace("facing = [-1, 0, 0]", "facing = [-1, 0, 0]\ninside = { box = [[-1, 3, 3], [1, 4, 4]] }");
    replace("[[support]]", R"([[surface]]
name = "low"
of = "block"
facing = [0, 0, -1]
inside = { box = [[19, 9, -1], [20, 10, 1]] }
[[support]]
name = "stay"
on = "low"
hold = ["y", "z"]
[[support]])");
    replace("supports = [\"clamp\"]", "supports = [\"clamp\", \"stay\"]");
    const Lattice lattice(text);
    GridOperator op(lattice.system, {});
    op.update(std::vector<double>(lattice.model.mesh.elements(), 1.0));
    Eigen::VectorXd u;
    EXPECT_LT(lattice.solve(op, u, 1e-8), 40);
    SolverOptions direct;
    direct.kind = SolverKind::Direct;
    const std::vector<double> full(lattice.model.mesh.elements(), 1.0);
    const auto exact = StaticAnalysis(lattice.model, direct).solve(full, full)[0];
    EXPECT_NEAR(lattice.load().dot(u), exact.compliance, 1e-6 * exact.compliance);
}

// More columns than go together, from nothing and from the answers to other loads: with the working room let
// go of after each solve the answers are the same to the last bit, and they are those of a factorisation.
TEST(GridMultigrid, AFrugalSolverHasTheSameAnswers) {
    const Lattice lattice(block_of("[24, 12, 12]"));
    const auto n = static_cast<Eigen::Index>(lattice.system.unknowns);
    Eigen::MatrixXd loads(n, 6);
    std::mt19937 random(11);
    std::uniform_real_distribution<double> any(-1.0, 1.0);
    for (Eigen::Index i = 0; i < loads.size(); ++i) loads.data()[i] = any(random);
    loads.col(4).setZero();
    for (const Eigen::Index columns : {1, 3, 6}) {
        const Eigen::MatrixXd some = loads.leftCols(columns);
        const Eigen::MatrixXd others = 1.1 * loads.rightCols(columns) + 0.5 * some;
        std::array<Eigen::MatrixXd, 2> cold, warm;
        for (const bool frugal : {false, true}) {
            SolverOptions options;
            options.frugal = frugal;
            const auto solver = make_grid_solver(lattice.system, options);
            solver->update(random_share(lattice.model));
            Eigen::MatrixXd x;
            solver->solve(Loads(some), {1e-12, 0.0, true}, x); // there is nothing to start from
            cold[frugal ? 1 : 0] = x;
            solver->solve(Loads(others), {1e-12, 0.0, true}, x);
            warm[frugal ? 1 : 0] = x;
            EXPECT_GT(solver->cost().bytes, 36.0 * static_cast<double>(n));
        }
        EXPECT_EQ(cold[0], cold[1]) << columns;
        EXPECT_EQ(warm[0], warm[1]) << columns;
        ReducedSystem elements;
        add_elements(elements, lattice.model, lattice.transform, lattice.analysis.classes(),
                     lattice.analysis.stiffness_by_class());
        const SparseMatrix stiffness = elements.assembled(random_share(lattice.model));
        const Eigen::MatrixXd exact = Eigen::SimplicialLDLT<SparseMatrix>(stiffness).solve(others);
        const Eigen::MatrixXd error = warm[1] - exact;
        for (Eigen::Index c = 0; c < columns; ++c)
            EXPECT_LE(error.col(c).dot(stiffness * error.col(c)), 1e-11 * others.col(c).dot(exact.col(c)))
                << columns << " " << c;
    }
}

TEST(GridMultigrid, MassesAreMultipliedToo) {
    // Their blocks have entries where those of stiffness have none.
    const Lattice lattice(block_of("[24, 12, 12]"));
    const ClassMatrices matrices(lattice.model, lattice.analysis.classes(), ClassMatrices::What::Mass);
    const GridSystem system =
        make_grid_system(lattice.model, lattice.transform, lattice.analysis.classes(), matrices);
    GridOperator op(system, {});
    EXPECT_TRUE(op.multigrid().matrix_free());
    const std::vector<double> share = random_share(lattice.model);
    op.update_product(share);
    ReducedSystem elements;
    add_elements(elements, lattice.model, lattice.transform, lattice.analysis.classes(), matrices);
    const Eigen::VectorXd u =
        Eigen::VectorXd::Random(static_cast<Eigen::Index>(lattice.transform.unknowns()));
    const Eigen::VectorXd expected = elements.assembled(share) * u;
    Strip<double> v(op.length());
    Strip<double> out(op.length());
    op.spread_values(u.data(), v.data());
    const double energy = op.multiply(v.data(), out.data());
    Eigen::VectorXd got(u.size());
    op.collect(out.data(), got.data());
    EXPECT_LT((got - expected).norm(), 1e-7 * expected.norm());
    EXPECT_NEAR(energy, u.dot(expected), 1e-6 * energy);
    // A vector in single precision gives the product of what it holds.
    Strip<float> single(op.length());
    for (std::size_t i = 0; i < op.length(); ++i) single[i] = static_cast<float>(v[i]);
    for (std::size_t i = 0; i < op.length(); ++i) v[i] = static_cast<double>(single[i]);
    Strip<double> again(op.length());
    EXPECT_EQ(op.multiply(v.data(), out.data()), op.multiply(single.data(), again.data()));
    for (std::size_t i = 0; i < op.length(); ++i) ASSERT_EQ(out[i], again[i]);
}

TEST(SolverChoice, FollowsStructureSizeAndMemory) {
    const auto kind = [](const Model& model, std::size_t unknowns, double memory,
                         SolverKind asked = SolverKind::Auto) {
        SolverOptions options;
        options.memory = memory;
        options.kind = asked;
        return plan_solver(model, shape_classes(model), unknowns, 1, options);
    };
    const Model grid = build_model(test::study_from(test::block_study()));
    EXPECT_EQ(kind(grid, 1000, 12e9).kind, SolverKind::Direct);
    EXPECT_EQ(kind(grid, 100000, 12e9).kind, SolverKind::GridMultigrid);
    EXPECT_EQ(kind(grid, 100000, 12e9, SolverKind::Direct).kind, SolverKind::Direct);
    EXPECT_TRUE(kind(grid, 3000000, 12e9).fits);
    EXPECT_FALSE(kind(grid, 3000000, 1e8).fits);
    const Model plane = build_model(test::study_from(test::half_beam(20, 10, false)));
    EXPECT_EQ(kind(plane, 100000, 12e9).kind, SolverKind::Direct);
    EXPECT_EQ(kind(plane, 1000000, 12e9).kind, SolverKind::GridMultigrid);
    const Model quadratic = build_model(test::study_from(test::block_study({}, "order = 2\n")));
    EXPECT_EQ(kind(quadratic, 10000, 12e9).kind, SolverKind::Direct);
    EXPECT_EQ(kind(quadratic, 1000000, 12e9).kind, SolverKind::LatticeMultigrid);
    EXPECT_EQ(kind(quadratic, 10000, 12e9, SolverKind::GridMultigrid).kind, SolverKind::LatticeMultigrid);
    // What would fit is told.
    const SolverPlan plan = kind(grid, 3000000, 1e8);
    EXPECT_NE(std::string(no_room(grid, plan, 1e8).what()).find("Elements of"), std::string::npos);
}

TEST(SolverChoice, AnotherSolverTakesOverWhereTheGridMultigridDoesNotServe) {
    // Two blocks that a bond ties across a gap.
    const std::string second =
        "[[region]]\nname = \"other\"\nrole = \"keep\"\nmaterial = \"steel\"\nbox = [[9, 0, "
        "0], [12, 4, 4]]\n[[surface]]\nname = \"one\"\nof = \"block\"\nfacing = [1, 0, "
        "0]\n[[surface]]\nname = \"two\"\nof = \"other\"\nfacing = [-1, 0, 0]\n[[bond]]\nname "
        "= \"glue\"\nbetween = [\"one\", \"two\"]\ngap = 1.2\n";
    const Model model = build_model(test::study_from(test::block_study(second)));
    SolverOptions options;
    options.kind = SolverKind::GridMultigrid;
    StaticAnalysis analysis(model, options);
    const std::vector<double> full(model.mesh.elements(), 1.0);
    const double compliance = analysis.solve(full, full)[0].compliance;
    const std::vector<std::string> notes = analysis.take_notes();
    ASSERT_EQ(notes.size(), 1U);
    EXPECT_NE(notes[0].find("bonded"), std::string::npos);
    EXPECT_EQ(analysis.cost().method, "sparse Cholesky");
    StaticAnalysis direct(model, {});
    EXPECT_NEAR(compliance, direct.solve(full, full)[0].compliance, 1e-9 * compliance);
}

TEST(AggregationMultigrid, ServesTetrahedraShellsAndPolarMeshes) {
    for (const char* mesh : {"kind = \"polar\"\nframe = \"f\"\nsize = 3\n", "kind = \"fitted\"\nsize = 4\n",
                             "kind = \"fitted\"\nsize = 5\norder = 2\n"}) {
        const Model model = build_model(test::study_from(ring_body(plain_steel) + "[mesh]\n" + mesh));
        std::string method;
        EXPECT_LT(difference(model, SolverKind::Aggregation, random_share(model), &method), 1e-6) << mesh;
        EXPECT_EQ(method, "aggregation multigrid");
    }
}

TEST(PolarMultigrid, GivesWhatTheFactorisationGives) {
    struct Ring {
        const char* name;
        std::string text;
    };
    for (const Ring& ring :
         {Ring{"steel", ring_study(plain_steel, "size = 2")}, Ring{"wound", ring_study(wound, "size = 2")},
          Ring{"bronze at one side", ring_study(plain_steel, "size = 2", bronze_bush)},
          Ring{"slipping on a cone of directions", ring_study(plain_steel, "size = 2", slipping)},
          Ring{"pulled at a hub", ring_study(plain_steel, "size = 2", hub)},
          Ring{"five sectors",
               ring_study(plain_steel, "size = 1.5", "[form]\nsectors = { frame = \"f\", count = 5 }\n")}}) {
        const Model model = build_model(test::study_from(ring.text));
        ASSERT_TRUE(model.mesh.polar.given());
        std::string method;
        int iterations = 0;
        EXPECT_LT(difference(model, SolverKind::GridMultigrid, random_share(model), &method, &iterations),
                  1e-6)
            << ring.name;
        EXPECT_EQ(method, "grid multigrid") << ring.name;
        EXPECT_LE(iterations, 60) << ring.name;
    }
}

TEST(PolarMultigrid, ClosesRingsOfAnyNumber) {
    // Down to few nodes, so that rings of odd numbers of cells come in between: 150, 75, 38, 19, 10, 5.
    const std::string text =
        ring_study(plain_steel, "size = 0.6", "[form]\nsectors = { frame = \"f\", count = 75 }\n");
    const Model model = build_model(test::study_from(text));
    ASSERT_EQ(model.mesh.polar.count[1], 150);
    const StaticAnalysis analysis(model, {});
    const Transform transform = model.transform(model.cases.at(0));
    const GridSystem system =
        make_grid_system(model, transform, analysis.classes(), analysis.stiffness_by_class());
    const std::vector<double> share = random_share(model);
    const Eigen::VectorXd load = transform.gather(analysis.forces(model.cases.at(0), share, share));
    std::vector<Eigen::VectorXd> results;
    for (const std::size_t last : {std::size_t{100}, std::size_t{1500}}) {
        grid::MultigridOptions options;
        options.nodes_to_factorise = last;
        GridOperator op(system, options);
        op.update(share);
        EXPECT_GE(op.multigrid().levels(), last == 100 ? 5 : 3);
        Strip<double> b(op.length());
        Strip<double> x(op.length());
        op.spread_loads(load.data(), b.data());
        const IterationCount count = conjugate_gradients(op, {b.data()}, {x.data()}, false, SolveWish{});
        EXPECT_TRUE(count.converged);
        EXPECT_LE(count.most, 40);
        results.emplace_back(load.size());
        op.collect(x.data(), results.back().data());
    }
    EXPECT_LT((results[0] - results[1]).norm(), 1e-6 * results[0].norm());
}

TEST(PolarMultigrid, IsNotForBodiesWithMaterialOnTheAxisOrOneWayGrain) {
    const Model solid = build_model(test::study_from(ring_study(plain_steel, "size = 3", "", false)));
    EXPECT_NE(unfit_for_grid(solid, shape_classes(solid)).find("axis"), std::string::npos);
    const Model grain = build_model(test::study_from(ring_study(one_way, "size = 3")));
    EXPECT_NE(unfit_for_grid(grain, shape_classes(grain)).find("every angle"), std::string::npos);
}
