#include "mesh/element_kind.hpp"

#include <Eigen/Dense>
#include <array>
#include <cmath>

namespace upright {

namespace {

using Sides = std::vector<std::vector<int>>;

const std::array<KindTraits, element_kinds>& table() {
    static const Sides tri{{0, 1}, {1, 2}, {2, 0}};
    static const Sides tri6{{0, 1, 3}, {1, 2, 4}, {2, 0, 5}};
    // As the cells of a grid: -x +x -y +y.
    static const Sides quad{{3, 0}, {1, 2}, {0, 1}, {2, 3}};
    static const Sides quad8{{3, 0, 7}, {1, 2, 5}, {0, 1, 4}, {2, 3, 6}};
    static const Sides shell3{{0, 1, 2}, {0, 2, 1}, {0, 1}, {1, 2}, {2, 0}};
    static const Sides shell4{{0, 1, 2, 3}, {0, 3, 2, 1}, {0, 1}, {1, 2}, {2, 3}, {3, 0}};
    static const Sides tet{{0, 2, 1}, {0, 1, 3}, {1, 2, 3}, {2, 0, 3}};
    static const Sides tet10{{0, 2, 1, 6, 5, 4}, {0, 1, 3, 4, 8, 7}, {1, 2, 3, 5, 9, 8}, {2, 0, 3, 6, 7, 9}};
    static const Sides wedge{{0, 2, 1}, {3, 4, 5}, {0, 1, 4, 3}, {1, 2, 5, 4}, {2, 0, 3, 5}};
    static const Sides hex{{0, 4, 7, 3}, {1, 2, 6, 5}, {0, 1, 5, 4},
                           {3, 7, 6, 2}, {0, 3, 2, 1}, {4, 5, 6, 7}};
    static const Sides hex20{{0, 4, 7, 3, 16, 15, 19, 11}, {1, 2, 6, 5, 9, 18, 13, 17},
                             {0, 1, 5, 4, 8, 17, 12, 16},  {3, 7, 6, 2, 19, 14, 18, 10},
                             {0, 3, 2, 1, 11, 10, 9, 8},   {4, 5, 6, 7, 12, 13, 14, 15}};
    static const std::array<KindTraits, element_kinds> kinds{{
        {"tri3", 3, 3, 2, 2, 2, false, tri},
        {"tri6", 6, 3, 2, 2, 2, false, tri6},
        {"quad4", 4, 4, 2, 2, 2, false, quad},
        {"quad8", 8, 4, 2, 2, 2, false, quad8},
        {"shell tri3", 3, 3, 2, 3, 6, true, shell3},
        {"shell quad4", 4, 4, 2, 3, 6, true, shell4},
        {"tet4", 4, 4, 3, 3, 3, false, tet},
        {"tet10", 10, 4, 3, 3, 3, false, tet10},
        {"wedge6", 6, 6, 3, 3, 3, false, wedge},
        {"hex8", 8, 8, 3, 3, 3, false, hex},
        {"hex20", 20, 8, 3, 3, 3, false, hex20},
    }};
    return kinds;
}

constexpr std::array<std::array<double, 3>, 8> hex_corner{
    {{-1, -1, -1}, {1, -1, -1}, {1, 1, -1}, {-1, 1, -1}, {-1, -1, 1}, {1, -1, 1}, {1, 1, 1}, {-1, 1, 1}}};
constexpr std::array<std::array<int, 2>, 12> hex_edges{
    {{0, 1}, {1, 2}, {2, 3}, {3, 0}, {4, 5}, {5, 6}, {6, 7}, {7, 4}, {0, 4}, {1, 5}, {2, 6}, {3, 7}}};

// Bilinear and trilinear corners, and the serendipity functions of eight and twenty nodes.
void brick(int dim, int nodes, const Vec3& x, Eigen::VectorXd& N, Eigen::MatrixXd& G) {
    const int corners = 1 << dim;
    const bool second = nodes > corners;
    for (int c = 0; c < corners; ++c) {
        const auto& s = hex_corner[static_cast<std::size_t>(c)];
        double product = 1.0;
        double sum = -(dim - 1.0);
        for (int a = 0; a < dim; ++a) {
            product *= 1.0 + s[static_cast<std::size_t>(a)] * x[a];
            sum += s[static_cast<std::size_t>(a)] * x[a];
        }
        N[c] = product / corners * (second ? sum : 1.0);
        for (int a = 0; a < dim; ++a) {
            double others = s[static_cast<std::size_t>(a)];
            for (int b = 0; b < dim; ++b)
                if (b != a) others *= 1.0 + s[static_cast<std::size_t>(b)] * x[b];
            G(a, c) = second ? (others * sum + product * s[static_cast<std::size_t>(a)]) / corners
                             : others / corners;
        }
    }
    if (!second) return;
    const int edges = dim == 2 ? 4 : 12;
    for (int e = 0; e < edges; ++e) {
        const auto& p = hex_corner[static_cast<std::size_t>(hex_edges[static_cast<std::size_t>(e)][0])];
        const auto& q = hex_corner[static_cast<std::size_t>(hex_edges[static_cast<std::size_t>(e)][1])];
        const int n = corners + e;
        double scale = dim == 2 ? 0.5 : 0.25;
        std::array<double, 3> f{1, 1, 1};
        std::array<double, 3> d{0, 0, 0};
        for (int a = 0; a < dim; ++a) {
            const auto i = static_cast<std::size_t>(a);
            const double s = 0.5 * (p[i] + q[i]); // zero along the edge
            f[i] = s == 0.0 ? 1.0 - x[a] * x[a] : 1.0 + s * x[a];
            d[i] = s == 0.0 ? -2.0 * x[a] : s;
        }
        N[n] = scale * f[0] * f[1] * f[2];
        G(0, n) = scale * d[0] * f[1] * f[2];
        G(1, n) = scale * f[0] * d[1] * f[2];
        if (dim == 3) G(2, n) = scale * f[0] * f[1] * d[2];
    }
}

// Triangles and tetrahedra: L0 = 1 - sum of the natural coordinates.
void simplex(int dim, int nodes, const Vec3& x, Eigen::VectorXd& N, Eigen::MatrixXd& G) {
    const int corners = dim + 1;
    std::array<double, 4> L{};
    std::array<std::array<double, 3>, 4> dL{};
    L[0] = 1.0;
    for (int a = 0; a < dim; ++a) {
        L[0] -= x[a];
        L[static_cast<std::size_t>(a) + 1] = x[a];
        dL[0][static_cast<std::size_t>(a)] = -1.0;
        dL[static_cast<std::size_t>(a) + 1][static_cast<std::size_t>(a)] = 1.0;
    }
    const bool second = nodes > corners;
    for (int c = 0; c < corners; ++c) {
        const auto i = static_cast<std::size_t>(c);
        N[c] = second ? L[i] * (2 * L[i] - 1) : L[i];
        for (int a = 0; a < dim; ++a)
            G(a, c) = dL[i][static_cast<std::size_t>(a)] * (second ? 4 * L[i] - 1 : 1.0);
    }
    if (!second) return;
    static constexpr std::array<std::array<int, 2>, 3> tri{{{0, 1}, {1, 2}, {2, 0}}};
    static constexpr std::array<std::array<int, 2>, 6> tet{{{0, 1}, {1, 2}, {2, 0}, {0, 3}, {1, 3}, {2, 3}}};
    for (int e = 0; e < nodes - corners; ++e) {
        const auto& ends = dim == 2 ? tri[static_cast<std::size_t>(e)] : tet[static_cast<std::size_t>(e)];
        const auto p = static_cast<std::size_t>(ends[0]);
        const auto q = static_cast<std::size_t>(ends[1]);
        N[corners + e] = 4 * L[p] * L[q];
        for (std::size_t a = 0; a < static_cast<std::size_t>(dim); ++a)
            G(static_cast<int>(a), corners + e) = 4 * (dL[p][a] * L[q] + L[p] * dL[q][a]);
    }
}

void wedge(const Vec3& x, Eigen::VectorXd& N, Eigen::MatrixXd& G) {
    const std::array<double, 3> L{1 - x[0] - x[1], x[0], x[1]};
    static constexpr std::array<std::array<double, 2>, 3> dL{{{-1, -1}, {1, 0}, {0, 1}}};
    for (int c = 0; c < 6; ++c) {
        const auto i = static_cast<std::size_t>(c % 3);
        const double s = c < 3 ? -1.0 : 1.0;
        const double h = 0.5 * (1 + s * x[2]);
        N[c] = L[i] * h;
        G(0, c) = dL[i][0] * h;
        G(1, c) = dL[i][1] * h;
        G(2, c) = 0.5 * s * L[i];
    }
}

std::vector<RulePoint> gauss(int dim, int n) {
    const double r = std::sqrt(0.6);
    const std::vector<std::pair<double, double>> line =
        n == 2 ? std::vector<std::pair<double, double>>{{-1 / std::sqrt(3.0), 1.0}, {1 / std::sqrt(3.0), 1.0}}
               : std::vector<std::pair<double, double>>{{-r, 5.0 / 9}, {0.0, 8.0 / 9}, {r, 5.0 / 9}};
    std::vector<RulePoint> out;
    for (const auto& [z, wz] : dim == 3 ? line : std::vector<std::pair<double, double>>{{0.0, 1.0}})
        for (const auto& [y, wy] : line)
            for (const auto& [x, wx] : line) out.push_back({Vec3(x, y, z), wx * wy * wz});
    return out;
}

// Degree 2 and degree 4 on the triangle of area 1/2 (Strang & Fix 1973).
std::vector<RulePoint> triangle_rule(int points) {
    if (points == 3)
        return {{Vec3(1. / 6, 1. / 6, 0), 1. / 6},
                {Vec3(2. / 3, 1. / 6, 0), 1. / 6},
                {Vec3(1. / 6, 2. / 3, 0), 1. / 6}};
    std::vector<RulePoint> out;
    for (const auto& [a, w] :
         {std::pair{0.445948490915965, 0.223381589678011}, std::pair{0.091576213509771, 0.109951743655322}})
        for (const auto& [u, v] : {std::pair{a, a}, std::pair{1 - 2 * a, a}, std::pair{a, 1 - 2 * a}})
            out.push_back({Vec3(u, v, 0), 0.5 * w});
    return out;
}

// Degree 2 (4 points) and degree 3 with positive weights (Keast's 15-point rule is of degree 5: mass of the
// ten-node tetrahedron needs degree 4).
std::vector<RulePoint> tetrahedron_rule(int points) {
    std::vector<RulePoint> out;
    if (points == 4) {
        const double a = 0.1381966011250105;
        const double b = 1 - 3 * a;
        for (const Vec3& p : {Vec3(a, a, a), Vec3(b, a, a), Vec3(a, b, a), Vec3(a, a, b)})
            out.push_back({p, 1. / 24});
        return out;
    }
    // 14 points, degree 5 (Walkington 2000).
    const auto four = [&](double a, double w) {
        const double b = 1 - 3 * a;
        for (const Vec3& p : {Vec3(a, a, a), Vec3(b, a, a), Vec3(a, b, a), Vec3(a, a, b)})
            out.push_back({p, w});
    };
    four(0.3108859192633006, 0.1126879257180159 / 6);
    four(0.0927352503108912, 0.0734930431163619 / 6);
    const double c = 0.0455037041256496;
    const double d = 0.5 - c;
    for (const Vec3& p :
         {Vec3(c, c, d), Vec3(c, d, c), Vec3(d, c, c), Vec3(d, d, c), Vec3(d, c, d), Vec3(c, d, d)})
        out.push_back({p, 0.0425460207770812 / 6});
    return out;
}

std::vector<RulePoint> wedge_rule() {
    std::vector<RulePoint> out;
    for (const double z : {-1 / std::sqrt(3.0), 1 / std::sqrt(3.0)})
        for (RulePoint p : triangle_rule(3)) {
            p.at.z() = z;
            out.push_back(p);
        }
    return out;
}

} // namespace

const KindTraits& traits(ElementKind kind) {
    return table()[static_cast<std::size_t>(kind)];
}

ElementKind first_order(ElementKind kind) {
    switch (kind) {
    case ElementKind::Tri6:
        return ElementKind::Tri3;
    case ElementKind::Quad8:
        return ElementKind::Quad4;
    case ElementKind::Tet10:
        return ElementKind::Tet4;
    case ElementKind::Hex20:
        return ElementKind::Hex8;
    default:
        return kind;
    }
}

int side_corners(std::size_t nodes, bool edge) {
    if (edge) return 2;
    return nodes == 3 || nodes == 6 ? 3 : 4;
}

void interpolate(ElementKind kind, const Vec3& at, Eigen::VectorXd& values, Eigen::MatrixXd& gradient) {
    const KindTraits& t = traits(kind);
    values.resize(t.nodes);
    gradient.resize(t.dimension, t.nodes);
    switch (kind) {
    case ElementKind::Quad4:
    case ElementKind::ShellQuad4:
    case ElementKind::Quad8:
        return brick(2, t.nodes, at, values, gradient);
    case ElementKind::Hex8:
    case ElementKind::Hex20:
        return brick(3, t.nodes, at, values, gradient);
    case ElementKind::Tri3:
    case ElementKind::ShellTri3:
    case ElementKind::Tri6:
        return simplex(2, t.nodes, at, values, gradient);
    case ElementKind::Tet4:
    case ElementKind::Tet10:
        return simplex(3, t.nodes, at, values, gradient);
    case ElementKind::Wedge6:
        return wedge(at, values, gradient);
    }
}

const std::vector<RulePoint>& integration_rule(ElementKind kind) {
    static const auto quad2 = gauss(2, 2);
    static const auto quad3 = gauss(2, 3);
    static const auto hex2 = gauss(3, 2);
    static const auto hex3 = gauss(3, 3);
    static const auto tri3 = triangle_rule(3);
    static const auto tri6 = triangle_rule(6);
    static const auto tet4 = tetrahedron_rule(4);
    static const auto tet14 = tetrahedron_rule(14);
    static const auto wedge6 = wedge_rule();
    switch (kind) {
    case ElementKind::Tri3:
    case ElementKind::ShellTri3:
        return tri3;
    case ElementKind::Tri6:
        return tri6;
    case ElementKind::Quad4:
    case ElementKind::ShellQuad4:
        return quad2;
    case ElementKind::Quad8:
        return quad3;
    case ElementKind::Tet4:
        return tet4;
    case ElementKind::Tet10:
        return tet14;
    case ElementKind::Wedge6:
        return wedge6;
    case ElementKind::Hex8:
        return hex2;
    case ElementKind::Hex20:
        return hex3;
    }
    return hex2;
}

Vec3 natural_center(ElementKind kind) {
    switch (kind) {
    case ElementKind::Tri3:
    case ElementKind::ShellTri3:
    case ElementKind::Tri6:
        return {1. / 3, 1. / 3, 0};
    case ElementKind::Tet4:
    case ElementKind::Tet10:
        return Vec3::Constant(0.25);
    case ElementKind::Wedge6:
        return {1. / 3, 1. / 3, 0};
    default:
        return Vec3::Zero();
    }
}

void interpolate_side(std::size_t nodes, bool edge, const Vec3& at, Eigen::VectorXd& values,
                      Eigen::MatrixXd& gradient) {
    if (!edge)
        return interpolate(nodes == 3   ? ElementKind::Tri3
                           : nodes == 6 ? ElementKind::Tri6
                           : nodes == 4 ? ElementKind::Quad4
                                        : ElementKind::Quad8,
                           at, values, gradient);
    const double s = at.x();
    values.resize(static_cast<Eigen::Index>(nodes));
    gradient.resize(1, static_cast<Eigen::Index>(nodes));
    if (nodes == 2) {
        values << 0.5 * (1 - s), 0.5 * (1 + s);
        gradient << -0.5, 0.5;
    } else {
        values << 0.5 * s * (s - 1), 0.5 * s * (s + 1), 1 - s * s;
        gradient << s - 0.5, s + 0.5, -2 * s;
    }
}

std::vector<SidePoint> integrate_side(const std::vector<Vec3>& places, bool edge, double depth,
                                      const Vec3& up) {
    std::vector<SidePoint> out;
    const auto n = static_cast<Eigen::Index>(places.size());
    Eigen::MatrixXd x(3, n);
    for (Eigen::Index i = 0; i < n; ++i) x.col(i) = places[static_cast<std::size_t>(i)];
    if (edge) {
        for (const RulePoint& p : gauss(1 + 1, 3)) {
            if (p.at.y() != 0.0) continue; // the middle row of the square's rule is the line's
            const double s = p.at.x();
            const double w = p.weight / (8.0 / 9);
            SidePoint point;
            Eigen::MatrixXd slope;
            interpolate_side(places.size(), true, Vec3(s, 0, 0), point.values, slope);
            point.place = x * point.values;
            const Vec3 along = x * slope.transpose();
            point.area = along.cross(up) * (w * depth);
            out.push_back(point);
        }
        return out;
    }
    // A pressure on a curved or warped side is not linear: the finer rule.
    const auto& rule = integration_rule(n == 3 || n == 6 ? ElementKind::Tri6 : ElementKind::Quad8);
    for (const RulePoint& p : rule) {
        SidePoint point;
        Eigen::MatrixXd gradient;
        interpolate_side(places.size(), false, p.at, point.values, gradient);
        point.place = x * point.values;
        const Eigen::MatrixXd tangents = x * gradient.transpose();
        const Vec3 u = tangents.col(0);
        const Vec3 v = tangents.col(1);
        point.area = u.cross(v) * p.weight;
        out.push_back(point);
    }
    return out;
}

} // namespace upright
