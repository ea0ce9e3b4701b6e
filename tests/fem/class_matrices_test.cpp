// Matrices that are made when they are asked for against those of the elements, integrated by their rules.
#include "fem/class_matrices.hpp"

#include "fem/element.hpp"
#include "fem/modal_analysis.hpp"
#include "fem/static_analysis.hpp"
#include "support/studies.hpp"

#include <gtest/gtest.h>

using namespace upright;

namespace {

const char* const wood = R"([[material]]
name = "wood"
density = 6e-10
E = [12000, 700, 400]
G = [800, 60, 750]
nu = [0.4, 0.45, 0.03]
frame = "grain"
[[frame]]
name = "grain"
kind = "cartesian"
origin = [0, 0, 0]
axis = [1, 2, 0.5]
)";

// A rod across a block, so that edges of second order are curved at the bore, of steel or of wood.
std::string bored(const std::string& material, int order) {
    return test::StudyText()
        .steel()
        .add(wood)
        .card("region", "block",
              "role = \"design\"\nmaterial = \"" + material + "\"\nbox = [[0, 0, 0], [12, 9, 6]]")
        .region("bore", "cylinder = { from = [6, 4, -1], to = [6, 4, 7], radius = 2 }", "void")
        .card("surface", "left", "of = \"block\"\nfacing = [-1, 0, 0]")
        .card("surface", "right", "of = \"block\"\nfacing = [1, 0, 0]")
        .support("clamp", "left", "[\"x\", \"y\", \"z\"]")
        .force("pull", "right", "[0, 30, -100]")
        .load_case("pull", "[\"clamp\"]", "{ pull = 1 }")
        .mesh("kind = \"fitted\"\nsize = 3\norder = " + std::to_string(order));
}

} // namespace

TEST(ClassMatrices, MakeWhatTheElementsIntegrate) {
    for (const char* material : {"steel", "wood"})
        for (const int order : {1, 2}) {
            const Model model = build_model(test::study_from(bored(material, order)));
            const ShapeClasses classes = shape_classes(model);
            const ClassMatrices stiffness(model, classes, ClassMatrices::What::Stiffness);
            const ClassMatrices mass(model, classes, ClassMatrices::What::Mass);
            const ClassMatrices lump(model, classes, ClassMatrices::What::LumpedMass);
            int curved = 0;
            for (std::size_t number = 0; number < stiffness.size(); ++number) {
                ASSERT_TRUE(stiffness.made(number));
                const ElementId id = classes.example[number];
                const Element& element = element_for(model.mesh.kind(id));
                const Eigen::MatrixXd places = places_of(model.mesh, id);
                const Eigen::MatrixXd D = elasticity(model, id);
                const Eigen::MatrixXd K = element.stiffness(places, D, 1.0, model.formulation);
                const double size = K.cwiseAbs().maxCoeff();
                ASSERT_LT((stiffness.copy_of(number) - K).cwiseAbs().maxCoeff(), 1e-11 * size)
                    << material << " " << order << " " << number;
                const Eigen::MatrixXd M = model.material(id).density * element.mass(places, 1.0);
                ASSERT_LT((mass.copy_of(number) - M).cwiseAbs().maxCoeff(), 1e-12 * M.cwiseAbs().maxCoeff());
                ASSERT_LT((lump.copy_of(number) - lumped(M, 3)).cwiseAbs().maxCoeff(),
                          1e-12 * M.cwiseAbs().maxCoeff());
                // Rows of one node, and the work of two fields.
                const Eigen::Index node = static_cast<Eigen::Index>(number) % places.cols();
                Eigen::MatrixXd rows(3, K.cols());
                stiffness.make_rows(number, static_cast<std::size_t>(node), rows.data());
                ASSERT_LT((rows - K.middleRows<3>(3 * node)).cwiseAbs().maxCoeff(), 1e-11 * size);
                std::vector<double> blocks(static_cast<std::size_t>(K.size()));
                stiffness.make_blocks(number, blocks.data());
                ASSERT_LT(
                    (Eigen::Map<const Eigen::MatrixXd>(blocks.data() + 3 * node * K.cols(), 3, K.cols()) -
                     rows)
                        .cwiseAbs()
                        .maxCoeff(),
                    1e-11 * size);
                Eigen::VectorXd u(K.cols());
                Eigen::VectorXd v(K.cols());
                for (Eigen::Index i = 0; i < u.size(); ++i) {
                    u[i] = std::sin(1.3 * static_cast<double>(i + 1));
                    v[i] = std::cos(0.7 * static_cast<double>(i * i + 2));
                }
                ASSERT_NEAR(stiffness.work(number, u.data(), v.data()), v.dot(K * u), 1e-10 * size);
                ASSERT_NEAR(stiffness.work(number, u.data(), u.data()), u.dot(K * u), 1e-10 * size);
                ASSERT_NEAR(mass.work(number, u.data(), v.data()), v.dot(M * u), 1e-11 * M.norm());
                Eigen::VectorXd times(K.cols());
                stiffness.times(number, u.data(), times.data());
                ASSERT_LT((times - K * u).cwiseAbs().maxCoeff(), 1e-10 * size);
                // Stress in the middle, and its transposed product.
                const Eigen::MatrixXd S =
                    element.stress(places, D, 1.0, model.formulation, natural_center(model.mesh.kind(id)));
                ASSERT_LT((stiffness.stress(number, u.data()) - S * u).norm(), 1e-11 * S.norm() * u.norm());
                Voigt by;
                by << 1.0, -0.4, 0.3, 0.7, -0.2, 0.5;
                Eigen::VectorXd back(K.cols());
                stiffness.stress_transposed(number, by, back.data());
                ASSERT_LT((back - S.transpose() * by).norm(), 1e-11 * S.norm());
                if (order == 2) {
                    const NodeRange ids = model.mesh.nodes_of(id);
                    const Vec3& middle = model.mesh.nodes[index(ids[4])];
                    const Vec3 straight =
                        0.5 * (model.mesh.nodes[index(ids[0])] + model.mesh.nodes[index(ids[1])]);
                    curved += (middle - straight).norm() > 1e-3 ? 1 : 0;
                }
            }
            if (order == 2) EXPECT_GT(curved, 0);
        }
}

TEST(ClassMatrices, AreKeptOnlyWhereElementsShareThemOrAreNoTetrahedra) {
    const Model grid = build_model(test::study_from(test::block_study()));
    const ShapeClasses classes = shape_classes(grid);
    const ClassMatrices kept(grid, classes, ClassMatrices::What::Stiffness);
    ASSERT_EQ(kept.size(), 1U);
    EXPECT_FALSE(kept.made(0));
    Eigen::MatrixXd room;
    EXPECT_EQ(&kept.of(0, room), &kept.kept()[0]);
}
