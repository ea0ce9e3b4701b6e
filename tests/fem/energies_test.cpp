// Energies element by element, classes of elements, and the estimate of the error.
#include "fem/error_estimate.hpp"
#include "fem/matrices.hpp"
#include "fem/static_analysis.hpp"
#include "support/studies.hpp"

#include <gtest/gtest.h>

using namespace upright;

namespace {

Eigen::VectorXd wavy_field(const Model& model, double shift) {
    Eigen::VectorXd u(static_cast<Eigen::Index>(model.freedoms()));
    for (Eigen::Index i = 0; i < u.size(); ++i) u[i] = std::sin(1.3 * static_cast<double>(i) + shift);
    return u;
}

// u' K v of every element from the matrices of the classes, one by one.
std::vector<double> energies_one_by_one(const StaticAnalysis& analysis, const Eigen::VectorXd& u,
                                        const Eigen::VectorXd& v) {
    const ClassMatrices& matrices = analysis.stiffness_by_class();
    const ShapeClasses& classes = analysis.classes();
    std::vector<double> out;
    for (std::size_t e = 0; e < classes.of.size(); ++e) {
        const auto id = static_cast<ElementId>(e);
        const Eigen::MatrixXd k = classes.turned(id, matrices.copy_of(classes.of[e]));
        out.push_back(analysis.element_displacement(u, id).dot(k * analysis.element_displacement(v, id)));
    }
    return out;
}

std::string two_materials() {
    return test::block_study(
        "[[material]]\nname = \"light\"\nE = 70000\nnu = 0.33\ndensity = 2.7e-9\n"
        "[[region]]\nname = \"pad\"\nrole = \"keep\"\nmaterial = \"light\"\nbox = [[5, 0, 0], [8, 2, 4]]\n"
        "[[region]]\nname = \"pocket\"\nrole = \"void\"\nbox = [[2, 2, 1], [4, 4, 3]]\n");
}

// A bar pulled along x by a pressure, free to narrow: the exact field is linear.
std::string pulled_bar(const std::string& mesh) {
    return test::StudyText()
        .steel()
        .region("bar", "box = [[0, 0, 0], [8, 4, 4]]")
        .surface("left", "facing = [-1, 0, 0]")
        .surface("front", "facing = [0, -1, 0]")
        .surface("below", "facing = [0, 0, -1]")
        .surface("right", "facing = [1, 0, 0]")
        .support("at-left", "left", "[\"x\"]")
        .support("at-front", "front", "[\"y\"]")
        .support("at-below", "below", "[\"z\"]")
        .card("load", "pull", "on = \"right\"\npressure = -100")
        .load_case("pull", "[\"at-left\", \"at-front\", \"at-below\"]", "{ pull = 1 }")
        .mesh(mesh);
}

double relative_error(const Model& model) {
    StaticAnalysis analysis(model, {});
    const std::vector<double> ones(model.mesh.elements(), 1.0);
    const CaseResult result = analysis.solve(ones, ones).front();
    const ModelCase& c = model.cases[CaseId{0}];
    const StressField field = stress_field(analysis, result.displacement, c);
    const RegionNodes nodes = region_nodes(model.mesh);
    const ErrorEstimate out =
        estimate_error(analysis, c, result.displacement, nodes, field, averaged(model.mesh, nodes, field));
    double sum = 0.0;
    for (const double e : out.element) sum += e;
    EXPECT_NEAR(std::sqrt(sum), out.error, 1e-9 * out.energy_norm);
    EXPECT_NEAR(out.energy_norm * out.energy_norm, result.compliance, 1e-6 * result.compliance);
    return out.relative;
}

} // namespace

TEST(ElementEnergies, ManyAtATimeAreThoseOfEachMatrix) {
    for (const std::string& study :
         {test::block_study(), two_materials(), test::block_study({}, "order = 2\n")}) {
        const Model model = build_model(test::study_from(study));
        const StaticAnalysis analysis(model, {});
        const Eigen::VectorXd u = wavy_field(model, 0.2), v = wavy_field(model, 1.9);
        for (const bool mixed : {false, true}) {
            const std::vector<double> found = analysis.unit_energy(u, mixed ? &v : nullptr);
            const std::vector<double> expected = energies_one_by_one(analysis, u, mixed ? v : u);
            ASSERT_EQ(found.size(), expected.size());
            double size = 0.0;
            for (const double x : expected) size = std::max(size, std::abs(x));
            for (std::size_t e = 0; e < found.size(); ++e) EXPECT_NEAR(found[e], expected[e], 1e-12 * size);
        }
    }
}

TEST(ElementEnergies, AddUpToTheWholeMatrix) {
    const Model model = build_model(test::study_from(two_materials()));
    const StaticAnalysis analysis(model, {});
    const Eigen::VectorXd u = wavy_field(model, 0.7);
    double sum = 0.0;
    for (const double e : analysis.unit_energy(u)) sum += e;
    const SparseMatrix k = stiffness_matrix(model);
    EXPECT_NEAR(sum, u.dot(k * u), 1e-12 * sum);
    const std::vector<double> ones(model.mesh.elements(), 1.0);
    EXPECT_LT((analysis.stiffness_times(u, ones) - k * u).norm(), 1e-12 * (k * u).norm());
}

TEST(ElementClasses, ShareMatricesWithinAMaterialAlone) {
    const Model one = build_model(test::study_from(test::block_study()));
    EXPECT_EQ(shape_classes(one).example.size(), 1U);
    const Model two = build_model(test::study_from(two_materials()));
    const ShapeClasses classes = shape_classes(two);
    EXPECT_EQ(classes.example.size(), 2U);
    for (std::size_t e = 0; e < classes.of.size(); ++e)
        EXPECT_EQ(two.material(static_cast<ElementId>(e)).name,
                  two.material(classes.example[classes.of[e]]).name);
}

TEST(MassMatrix, WeighsWhatTheModelWeighs) {
    for (const std::string& study :
         {test::block_study(), two_materials(), test::block_study({}, "order = 2\n")}) {
        const Model model = build_model(test::study_from(study));
        double mass = 0.0;
        for (const ModelRegion& region : model.regions) mass += region.mass;
        const SparseMatrix m = mass_matrix(model);
        for (int axis = 0; axis < 3; ++axis) {
            Eigen::VectorXd move = Eigen::VectorXd::Zero(m.rows());
            for (Eigen::Index i = axis; i < move.size(); i += 3) move[i] = 1.0;
            EXPECT_NEAR(move.dot(m * move), mass, 1e-10 * mass);
        }
    }
}

TEST(ErrorOfStress, IsNothingWhereTheFieldIsLinear) {
    for (const char* mesh : {"size = 2", "size = 2\norder = 2", "size = 2\nkind = \"fitted\""})
        EXPECT_LT(relative_error(build_model(test::study_from(pulled_bar(mesh)))), 1e-6) << mesh;
}

TEST(ErrorOfStress, FallsWithTheSizeOfElements) {
    const std::string bend = test::block_study();
    std::vector<double> error;
    for (const char* size : {"2", "1", "0.5"})
        error.push_back(
            relative_error(build_model(test::study_from(bend, {std::string("mesh.size=") + size}))));
    // The edges of the clamp are singular: slower than the first power, which would be a half.
    for (std::size_t i = 1; i < error.size(); ++i) {
        EXPECT_LT(error[i], 0.9 * error[i - 1]) << i;
        EXPECT_GT(error[i], 0.5 * error[i - 1]) << i;
    }
    EXPECT_LT(error.back(), 0.1);
}
