// What displacement and reaction responses read, as linear forms.
#include "response/motions.hpp"
#include "support/studies.hpp"

#include "fem/static_analysis.hpp"

#include <gtest/gtest.h>

using namespace upright;

namespace {

std::string with_responses(const std::string& responses) {
    return test::StudyText()
        .steel()
        .add("[[frame]]\nname = \"axle\"\nkind = \"cylindrical\"\norigin = [0, 0, 0]\naxis = [1, 0, 0]\n")
        .region("block", "box = [[0, 0, 0], [8, 4, 4]]")
        .surface("root", "facing = [-1, 0, 0]")
        .surface("tip", "facing = [1, 0, 0]")
        .point("corner", "[8, 4, 4]")
        .support("clamp", "root", R"(["x", "y", "z"])")
        .force("pull", "tip", "[10, -20, -100]")
        .load_case("bend", R"(["clamp"])", "{ pull = 1 }")
        .mesh("size = 1")
        .add(responses);
}

Eigen::VectorXd linear_field(const Model& model, const Mat3& slope) {
    Eigen::VectorXd u(static_cast<Eigen::Index>(model.freedoms()));
    for (std::size_t n = 0; n < model.mesh.nodes.size(); ++n)
        u.segment<3>(static_cast<Eigen::Index>(3 * n)) = slope * model.mesh.nodes[n];
    return u;
}

} // namespace

TEST(Motions, OfAPointAndTheMeanOfASurfaceAreThoseOfALinearField) {
    const Model model = build_model(test::study_from(with_responses(
        "[[response]]\nname = \"a\"\nmeasure = \"displacement\"\nat = \"corner\"\n"
        "[[response]]\nname = \"b\"\nmeasure = \"displacement\"\nat = \"tip\"\ntake = \"mean\"\n"
        "[[response]]\nname = \"c\"\nmeasure = \"displacement\"\nat = \"tip\"\n")));
    Mat3 slope;
    slope << 0.1, 0.2, -0.3, 0.05, -0.1, 0.4, 0.7, 0.2, 0.3;
    const Eigen::VectorXd u = linear_field(model, slope);
    const std::vector<Motion> point = motions(model, model.responses[0]);
    ASSERT_EQ(point.size(), 1U);
    EXPECT_LT((point[0].of(u) - slope * Vec3(8, 4, 4)).norm(), 1e-12);
    // The mean of a linear field is that at the middle.
    const std::vector<Motion> mean = motions(model, model.responses[1]);
    ASSERT_EQ(mean.size(), 1U);
    EXPECT_LT((mean[0].of(u) - slope * Vec3(8, 2, 2)).norm(), 1e-12);
    EXPECT_LT((mean[0].at - Vec3(8, 2, 2)).norm(), 1e-12);
    // Without it every node by itself.
    const std::vector<Motion> each = motions(model, model.responses[2]);
    EXPECT_EQ(each.size(), 25U);
    for (const Motion& m : each) EXPECT_LT((m.of(u) - slope * m.at).norm(), 1e-12);
}

TEST(Motions, ComponentsFollowTheFrame) {
    const Model model = build_model(test::study_from(with_responses(
        "[[response]]\nname = \"x\"\nmeasure = \"displacement\"\nat = \"corner\"\ncomponent = \"y\"\n"
        "[[response]]\nname = \"r\"\nmeasure = \"displacement\"\nat = \"corner\"\ncomponent = "
        "\"r\"\nframe = \"axle\"\n"
        "[[response]]\nname = \"s\"\nmeasure = \"displacement\"\nat = \"corner\"\n")));
    const Vec3 v(1.0, 2.0, -3.0), at(8, 4, 4);
    EXPECT_NEAR(component_of(model.responses[0], v, at), 2.0, 1e-12);
    // Radial about x at (4, 4): the mean of both over the square root of two.
    EXPECT_NEAR(component_of(model.responses[1], v, at), (2.0 - 3.0) / std::sqrt(2.0), 1e-12);
    EXPECT_NEAR(component_of(model.responses[2], v, at), v.norm(), 1e-12);
    EXPECT_FALSE(direction(model.responses[2], at).has_value());
    EXPECT_NEAR(direction(model.responses[1], at)->norm(), 1.0, 1e-12);
}

TEST(Motions, ReactionsOfASupportBalanceTheLoad) {
    const Model model = build_model(test::study_from(
        with_responses("[[response]]\nname = \"hold\"\nmeasure = \"reaction\"\nat = \"clamp\"\n")));
    StaticAnalysis analysis(model, {});
    const std::vector<double> ones(model.mesh.elements(), 1.0);
    const CaseResult result = analysis.solve(ones, ones).front();
    const ModelCase& c = model.cases[CaseId{0}];
    const Eigen::VectorXd residual = analysis.residual(result, c, ones, ones);
    const auto fields = reaction_fields(model, c, model.responses.front());
    const Vec3 force(fields[0].dot(residual), fields[1].dot(residual), fields[2].dot(residual));
    EXPECT_LT((force - Vec3(-10, 20, 100)).norm(), 1e-8);
}

TEST(Motions, TheBoundSaysWhichEndIsRead) {
    ResponseCard card;
    card.max = 5.0;
    EXPECT_FALSE(reads_lowest(card, -100.0, 1.0));
    card.max.reset();
    card.min = -5.0;
    EXPECT_TRUE(reads_lowest(card, -1.0, 100.0));
    card.max = 5.0; // both: the nearer to being broken
    EXPECT_TRUE(reads_lowest(card, -4.9, 1.0));
    EXPECT_FALSE(reads_lowest(card, -1.0, 4.9));
    card.min.reset();
    card.max.reset(); // none: the farther from zero
    EXPECT_TRUE(reads_lowest(card, -2.0, 1.0));
    EXPECT_FALSE(reads_lowest(card, -1.0, 2.0));
}

TEST(Motions, LeftOutAreRegionsAndWhatTouchesSurfaces) {
    const Model model =
        build_model(test::study_from(with_responses("[[region]]\nname = \"pad\"\nrole = \"keep\"\nmaterial = "
                                                    "\"steel\"\nbox = [[6, 0, 0], [8, 4, 4]]\n")));
    const std::vector<bool> by_region = left_out(model, {"pad"});
    const std::vector<bool> by_surface = left_out(model, {"root"});
    for (std::size_t e = 0; e < model.mesh.elements(); ++e) {
        EXPECT_EQ(by_region[e], model.mesh.center(e).x() > 6.0);
        EXPECT_EQ(by_surface[e], model.mesh.center(e).x() < 1.0);
    }
    const RegionNodes nodes = region_nodes(model.mesh);
    const std::vector<bool> counted = counted_nodes(model, nodes, by_surface);
    for (std::size_t i = 0; i < nodes.node.size(); ++i)
        EXPECT_EQ(counted[i], model.mesh.nodes[index(nodes.node[i])].x() > 1.5);
}
