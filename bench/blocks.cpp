#include "blocks.hpp"

#include "design/interpolation.hpp"
#include "fem/element.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <random>

namespace upright::bench {

namespace {

// Distance from a point to a segment.
double distance(const Eigen::Vector3d& p, const Eigen::Vector3d& a, const Eigen::Vector3d& b) {
    const Eigen::Vector3d d = b - a;
    const double t = std::clamp((p - a).dot(d) / d.squaredNorm(), 0.0, 1.0);
    return (p - a - t * d).norm();
}

// A space truss of four bays, in shares of the block.
std::vector<std::pair<Eigen::Vector3d, Eigen::Vector3d>> truss(double n) {
    std::vector<std::pair<Eigen::Vector3d, Eigen::Vector3d>> out;
    const auto chord = [&](int bay, int which) {
        const double y = (which % 2 == 0 ? 0.12 : 0.88) * n;
        const double z = (which / 2 == 0 ? 0.12 : 0.97) * n;
        return Eigen::Vector3d(0.5 * bay * n, y, z);
    };
    for (int bay = 0; bay < 4; ++bay)
        for (int c = 0; c < 4; ++c) {
            out.emplace_back(chord(bay, c), chord(bay + 1, c));
            out.emplace_back(chord(bay, c), chord(bay + 1, c ^ 1));
            out.emplace_back(chord(bay, c), chord(bay + 1, c ^ 2));
        }
    for (int bay = 1; bay <= 4; ++bay)
        for (int c = 0; c < 4; ++c) {
            out.emplace_back(chord(bay, c), chord(bay, c ^ 1));
            out.emplace_back(chord(bay, c), chord(bay, c ^ 2));
        }
    return out;
}

} // namespace

Eigen::MatrixXd rigid_motions(const Block& block) {
    Eigen::MatrixXd out = Eigen::MatrixXd::Zero(static_cast<Eigen::Index>(block.system.unknowns), 6);
    for (std::size_t n = 0; n < block.places.size(); ++n)
        for (int c = 0; c < 3; ++c) {
            const auto row = static_cast<Eigen::Index>(3 * n) + c;
            out(row, c) = 1.0;
            for (int axis = 0; axis < 3; ++axis)
                out(row, 3 + axis) =
                    Eigen::Vector3d::Unit(axis).cross(block.places[n])[c] / block.system.cells[0];
        }
    return out;
}

std::vector<double> scales(const std::vector<double>& density, double penalty) {
    return stiffness_share(density, penalty);
}

Block make_block(int n, const std::string& kind, bool with_elements) {
    Block out;
    GridSystem& g = out.system;
    g.cells = {2 * n, n, n};
    const std::size_t cells = static_cast<std::size_t>(2) * static_cast<std::size_t>(n) *
                              static_cast<std::size_t>(n) * static_cast<std::size_t>(n);
    g.element_of.resize(cells);
    for (std::size_t c = 0; c < cells; ++c) g.element_of[c] = static_cast<std::int32_t>(c);
    g.kind_of.assign(cells, 0);
    Eigen::MatrixXd places(3, 8);
    constexpr int box[8][3] = {{0, 0, 0}, {1, 0, 0}, {1, 1, 0}, {0, 1, 0},
                               {0, 0, 1}, {1, 0, 1}, {1, 1, 1}, {0, 1, 1}};
    constexpr int own[8] = {0, 1, 3, 2, 4, 5, 7, 6};
    for (int a = 0; a < 8; ++a) places.col(a) << box[a][0], box[a][1], box[a][2];
    Eigen::MatrixXd D = Eigen::MatrixXd::Zero(6, 6);
    const double nu = 0.3;
    const double lambda = nu / (1 + nu) / (1 - 2 * nu);
    const double mu = 0.5 / (1 + nu);
    D.topLeftCorner(3, 3).setConstant(lambda);
    for (int i = 0; i < 3; ++i) D(i, i) += 2 * mu;
    for (int i = 3; i < 6; ++i) D(i, i) = mu;
    const Eigen::MatrixXd K = element_for(ElementKind::Hex8).stiffness(places, D, 1.0, Formulation::Plain);
    Eigen::MatrixXd turned(24, 24);
    for (int a = 0; a < 8; ++a)
        for (int b = 0; b < 8; ++b) turned.block<3, 3>(3 * a, 3 * b) = K.block<3, 3>(3 * own[a], 3 * own[b]);
    g.kinds.push_back(turned);
    const int nx = 2 * n + 1;
    const int ny = n + 1;
    for (std::size_t node = 0; node < g.lattice_nodes(); ++node)
        for (int c = 0; c < 3; ++c)
            g.unknown_of.push_back(node % static_cast<std::size_t>(nx) == 0
                                       ? GridSystem::held
                                       : static_cast<std::int32_t>(g.unknowns++));
    for (std::size_t node = 0; node < g.lattice_nodes(); ++node)
        if (node % static_cast<std::size_t>(nx) != 0)
            out.places.emplace_back(
                static_cast<double>(node % static_cast<std::size_t>(nx)),
                static_cast<double>(node / static_cast<std::size_t>(nx) % static_cast<std::size_t>(ny)),
                static_cast<double>(node / static_cast<std::size_t>(nx) / static_cast<std::size_t>(ny)));
    out.load = Eigen::VectorXd::Zero(static_cast<Eigen::Index>(g.unknowns));
    for (int j = 0; j <= n; ++j) {
        const std::size_t node =
            (static_cast<std::size_t>(n) * static_cast<std::size_t>(ny) + static_cast<std::size_t>(j)) *
                static_cast<std::size_t>(nx) +
            static_cast<std::size_t>(2 * n);
        out.load[g.unknown_of[3 * node + 2]] = -1.0 / n;
    }
    std::mt19937 random(7);
    std::uniform_real_distribution<double> any(0.0, 1.0);
    const auto bars = truss(n);
    for (std::size_t c = 0; c < cells; ++c) {
        const auto i = static_cast<double>(c % static_cast<std::size_t>(2 * n));
        const auto j = static_cast<double>(c / static_cast<std::size_t>(2 * n) % static_cast<std::size_t>(n));
        const auto k = static_cast<double>(c / static_cast<std::size_t>(2 * n) / static_cast<std::size_t>(n));
        const Eigen::Vector3d p(i + 0.5, j + 0.5, k + 0.5);
        double value = 1.0;
        if (kind == "random") value = any(random);
        if (kind == "struts" || kind == "gray") {
            double nearest = 1e30;
            for (const auto& [a, b] : bars) nearest = std::min(nearest, distance(p, a, b));
            // The load's edge is solid, as a pad would be.
            if (i > 2 * n - 3 && k > n - 3) nearest = 0.0;
            value = kind == "struts" ? (nearest < 1.5 ? 1.0 : 0.0)
                                     : std::clamp(2.5 + 0.5 - 0.5 * nearest, 0.0, 1.0);
            if (kind == "gray") value = std::clamp(1.0 - (nearest - 2.5) / 2.0, 0.0, 1.0);
        }
        out.density.push_back(value);
    }
    if (with_elements) {
        out.elements.unknowns = g.unknowns;
        for (std::size_t c = 0; c < cells; ++c) {
            const std::size_t i = c % static_cast<std::size_t>(2 * n);
            const std::size_t j = c / static_cast<std::size_t>(2 * n) % static_cast<std::size_t>(n);
            const std::size_t k = c / static_cast<std::size_t>(2 * n) / static_cast<std::size_t>(n);
            for (std::size_t a = 0; a < 8; ++a) {
                const std::size_t node =
                    ((k + (a >> 2)) * static_cast<std::size_t>(ny) + j + ((a >> 1) & 1)) *
                        static_cast<std::size_t>(nx) +
                    i + (a & 1);
                for (std::size_t d = 0; d < 3; ++d) out.elements.dofs.push_back(g.unknown_of[3 * node + d]);
            }
            out.elements.starts.push_back(out.elements.dofs.size());
            out.elements.matrix_of.push_back(&g.kinds[0]);
        }
    }
    return out;
}

} // namespace upright::bench
