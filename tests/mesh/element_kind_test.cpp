// Shape functions and rules of every kind against what defines them.
#include "mesh/element_kind.hpp"

#include "base/vectors.hpp"

#include <Eigen/Dense>
#include <cmath>
#include <gtest/gtest.h>

using namespace upright;

namespace {

const std::vector<ElementKind> every_kind{ElementKind::Tri3,  ElementKind::Tri6,      ElementKind::Quad4,
                                          ElementKind::Quad8, ElementKind::ShellTri3, ElementKind::ShellQuad4,
                                          ElementKind::Tet4,  ElementKind::Tet10,     ElementKind::Wedge6,
                                          ElementKind::Hex8,  ElementKind::Hex20};

bool simplex(ElementKind kind) {
    const int corners = traits(kind).corners;
    return (traits(kind).dimension == 2 && corners == 3) || (traits(kind).dimension == 3 && corners == 4);
}

double factorial(int n) {
    return n < 2 ? 1.0 : n * factorial(n - 1);
}
// Of x^a over -1..1.
double of_line(int a) {
    return a % 2 == 1 ? 0.0 : 2.0 / (a + 1);
}
// Of x^a y^b z^c over the natural cell: Dirichlet's formula on triangles and tetrahedra.
double of_cell(ElementKind kind, int a, int b, int c) {
    if (traits(kind).dimension == 2)
        return simplex(kind) ? factorial(a) * factorial(b) / factorial(a + b + 2) : of_line(a) * of_line(b);
    if (simplex(kind)) return factorial(a) * factorial(b) * factorial(c) / factorial(a + b + c + 3);
    if (kind == ElementKind::Wedge6) return factorial(a) * factorial(b) / factorial(a + b + 2) * of_line(c);
    return of_line(a) * of_line(b) * of_line(c);
}

// The natural coordinates of a kind's nodes, found by where its shape functions are one: Newton from a guess
// is not needed, since corners and middles of edges are at -1, 0, 1 or 0, 1/2, 1.
std::vector<Vec3> lattice(ElementKind kind) {
    std::vector<Vec3> out;
    const bool flat = traits(kind).dimension == 2;
    const std::vector<double> wide{-1.0, 0.0, 1.0}, half{0.0, 0.5, 1.0};
    const bool tri = simplex(kind) || kind == ElementKind::Wedge6;
    for (const double x : tri ? half : wide)
        for (const double y : tri ? half : wide)
            for (const double z : flat ? std::vector<double>{0.0} : simplex(kind) ? half : wide) {
                if (tri && x + y > 1.0 + 1e-12) continue;
                if (simplex(kind) && !flat && x + y + z > 1.0 + 1e-12) continue;
                out.emplace_back(x, y, z);
            }
    return out;
}

} // namespace

TEST(ElementKind, ShapeFunctionsAddUpToOneAndTheirSlopesToNothing) {
    for (const ElementKind kind : every_kind)
        for (const RulePoint& point : integration_rule(kind)) {
            Eigen::VectorXd values;
            Eigen::MatrixXd gradient;
            interpolate(kind, point.at, values, gradient);
            ASSERT_EQ(values.size(), traits(kind).nodes) << traits(kind).name;
            ASSERT_EQ(gradient.rows(), traits(kind).dimension) << traits(kind).name;
            EXPECT_NEAR(values.sum(), 1.0, 1e-14) << traits(kind).name;
            EXPECT_LT(gradient.rowwise().sum().norm(), 1e-13) << traits(kind).name;
        }
}

TEST(ElementKind, EveryNodeHasAPlaceWhereItAloneIsOne) {
    for (const ElementKind kind : every_kind) {
        std::vector<int> seen(static_cast<std::size_t>(traits(kind).nodes), 0);
        for (const Vec3& at : lattice(kind)) {
            Eigen::VectorXd values;
            Eigen::MatrixXd gradient;
            interpolate(kind, at, values, gradient);
            Eigen::Index largest = 0;
            if (std::abs(values.maxCoeff(&largest) - 1.0) > 1e-12) continue;
            values[largest] = 0.0;
            if (values.norm() < 1e-12) ++seen[static_cast<std::size_t>(largest)];
        }
        for (const int times : seen) EXPECT_EQ(times, 1) << traits(kind).name;
    }
}

TEST(ElementKind, SlopesAreThoseOfFiniteDifferences) {
    for (const ElementKind kind : every_kind)
        for (const RulePoint& point : integration_rule(kind)) {
            Eigen::VectorXd values, up, down;
            Eigen::MatrixXd gradient, unused;
            interpolate(kind, point.at, values, gradient);
            const double h = 1e-6;
            for (int a = 0; a < traits(kind).dimension; ++a) {
                interpolate(kind, point.at + h * Vec3::Unit(a), up, unused);
                interpolate(kind, point.at - h * Vec3::Unit(a), down, unused);
                EXPECT_LT(((up - down) / (2 * h) - gradient.row(a).transpose()).norm(), 1e-8)
                    << traits(kind).name;
            }
        }
}

TEST(ElementKind, RulesAreExactForWhatStiffnessAndMassNeed) {
    for (const ElementKind kind : every_kind) {
        // Products of two shape functions: twice their order in each direction (simplices: in all together).
        const int order = traits(kind).nodes > traits(kind).corners ? 2 : 1;
        const int depth = traits(kind).dimension == 2 ? 0 : 2 * order;
        for (int a = 0; a <= 2 * order; ++a)
            for (int b = 0; b <= 2 * order; ++b)
                for (int c = 0; c <= depth; ++c) {
                    const bool wedge = kind == ElementKind::Wedge6;
                    if ((simplex(kind) && a + b + c > 2 * order) || (wedge && a + b > 2)) continue;
                    double sum = 0.0;
                    for (const RulePoint& p : integration_rule(kind))
                        sum +=
                            p.weight * std::pow(p.at.x(), a) * std::pow(p.at.y(), b) * std::pow(p.at.z(), c);
                    EXPECT_NEAR(sum, of_cell(kind, a, b, c), 1e-12)
                        << traits(kind).name << ' ' << a << b << c;
                }
    }
}

TEST(ElementKind, TheSidesOfASolidCloseAndLookOutward) {
    for (const ElementKind kind : every_kind) {
        if (traits(kind).dimension != 3) continue;
        // Places of the nodes: where each shape function is one.
        std::vector<Vec3> places(static_cast<std::size_t>(traits(kind).nodes));
        for (const Vec3& at : lattice(kind)) {
            Eigen::VectorXd values;
            Eigen::MatrixXd gradient;
            interpolate(kind, at, values, gradient);
            Eigen::Index largest = 0;
            if (values.maxCoeff(&largest) > 1.0 - 1e-12) places[static_cast<std::size_t>(largest)] = at;
        }
        // The integral of the outward normal is nothing, that of x . n three times the volume.
        Vec3 area = Vec3::Zero();
        double volume = 0.0;
        for (const std::vector<int>& side : traits(kind).sides) {
            std::vector<Vec3> of_side;
            for (const int n : side) of_side.push_back(places[static_cast<std::size_t>(n)]);
            for (const SidePoint& p : integrate_side(of_side, false, 1.0, Vec3::UnitZ())) {
                area += p.area;
                volume += p.place.dot(p.area) / 3.0;
                EXPECT_NEAR(p.values.sum(), 1.0, 1e-13);
            }
        }
        EXPECT_LT(area.norm(), 1e-12) << traits(kind).name;
        EXPECT_NEAR(volume, of_cell(kind, 0, 0, 0), 1e-12) << traits(kind).name;
    }
}

TEST(ElementKind, FirstOrderKeepsTheCorners) {
    for (const ElementKind kind : every_kind) {
        const KindTraits& low = traits(first_order(kind));
        EXPECT_EQ(low.nodes, traits(kind).corners);
        EXPECT_EQ(low.corners, traits(kind).corners);
        EXPECT_EQ(low.dimension, traits(kind).dimension);
        EXPECT_EQ(low.freedoms, traits(kind).freedoms);
        EXPECT_EQ(freedoms_of_node(kind), traits(kind).freedoms);
        ASSERT_EQ(low.sides.size(), traits(kind).sides.size());
        for (std::size_t s = 0; s < low.sides.size(); ++s)
            for (std::size_t i = 0; i < low.sides[s].size(); ++i)
                EXPECT_EQ(low.sides[s][i], traits(kind).sides[s][i]) << traits(kind).name;
    }
}

TEST(ElementKind, ACurvedEdgeIsMeasuredAlongItsArc) {
    // A parabola through (-1, 0), (1, 0), (0, 1) in the plane: y = 1 - x^2. The flux of (x, y) outward is
    // twice the area below it plus that of the chord, 2 * 4/3.
    double flux = 0.0;
    double depth = 0.0;
    for (const SidePoint& p :
         integrate_side({Vec3(1, 0, 0), Vec3(-1, 0, 0), Vec3(0, 1, 0)}, true, 2.5, Vec3::UnitZ())) {
        flux += p.place.dot(p.area);
        depth += p.area.y();
    }
    EXPECT_NEAR(flux, 2.5 * 2.0 * 4.0 / 3.0, 1e-12);
    EXPECT_NEAR(depth, 2.5 * 2.0, 1e-12); // its shadow on y
}
