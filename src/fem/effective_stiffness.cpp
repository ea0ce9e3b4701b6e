#include "fem/effective_stiffness.hpp"

#include "fem/element.hpp"
#include "solve/linear_solver.hpp"

#include <Eigen/Dense>
#include <array>

namespace upright {

namespace {

constexpr double least_share = 1e-6; // a cell of less is void

// The corners of hex8 in its order.
constexpr std::array<std::array<int, 3>, 8> corners{
    {{0, 0, 0}, {1, 0, 0}, {1, 1, 0}, {0, 1, 0}, {0, 0, 1}, {1, 0, 1}, {1, 1, 1}, {0, 1, 1}}};

// Displacements of a cell's corners under a mean strain of one, about its first corner; shears as in Voigt
// order xy, yz, zx.
Eigen::MatrixXd under_unit_strains() {
    Eigen::MatrixXd out = Eigen::MatrixXd::Zero(24, 6);
    for (int c = 0; c < 8; ++c) {
        const Vec3 x(corners[static_cast<std::size_t>(c)][0], corners[static_cast<std::size_t>(c)][1],
                     corners[static_cast<std::size_t>(c)][2]);
        for (int a = 0; a < 3; ++a) {
            const int b = (a + 1) % 3;
            out(3 * c + a, a) = x[a];
            out(3 * c + a, 3 + a) = 0.5 * x[b];
            out(3 * c + b, 3 + a) = 0.5 * x[a];
        }
    }
    return out;
}

} // namespace

Elastic6 effective_stiffness(int n, const std::vector<double>& share, double E, double nu) {
    Eigen::MatrixXd places(3, 8);
    for (int c = 0; c < 8; ++c)
        for (int a = 0; a < 3; ++a)
            places(a, c) = corners[static_cast<std::size_t>(c)][static_cast<std::size_t>(a)];
    const Eigen::MatrixXd stiffness =
        brick_element(ElementKind::Hex8)
            .stiffness(places, E * elastic_matrix(ElementFamily::Solid, nu), 1.0, Formulation::Enhanced);
    const Eigen::MatrixXd mean = under_unit_strains();

    // Cells of material, and their corners by the number of the cell that has each for its first.
    std::vector<std::array<std::size_t, 8>> nodes;
    std::vector<double> scale;
    for (int k = 0; k < n; ++k)
        for (int j = 0; j < n; ++j)
            for (int i = 0; i < n; ++i) {
                const auto at = [&](int x, int y, int z) {
                    return (static_cast<std::size_t>(z % n) * static_cast<std::size_t>(n) +
                            static_cast<std::size_t>(y % n)) *
                               static_cast<std::size_t>(n) +
                           static_cast<std::size_t>(x % n);
                };
                const double own = share[at(i, j, k)];
                if (own < least_share) continue;
                scale.push_back(own);
                nodes.emplace_back();
                for (std::size_t c = 0; c < 8; ++c)
                    nodes.back()[c] = at(i + corners[c][0], j + corners[c][1], k + corners[c][2]);
            }
    if (nodes.empty()) return Elastic6::Zero();

    // What repeats is the same but for a shift: one node is held.
    ElementSystem system;
    std::vector<std::int32_t> number(share.size(), -2);
    std::int32_t count = 0;
    for (const auto& cell : nodes) {
        for (const std::size_t node : cell) {
            if (number[node] == -2) number[node] = count++ - 1;
            for (int a = 0; a < 3; ++a) system.dofs.push_back(number[node] < 0 ? -1 : 3 * number[node] + a);
        }
        system.starts.push_back(system.dofs.size());
        system.matrix_of.push_back(&stiffness);
    }
    system.unknowns = 3 * static_cast<std::size_t>(count - 1);

    const Eigen::MatrixXd forces = stiffness * mean;
    Eigen::MatrixXd loads = Eigen::MatrixXd::Zero(static_cast<Eigen::Index>(system.unknowns), 6);
    const auto dof = [&](std::size_t e, Eigen::Index d) {
        return system.dofs[system.starts[e] + static_cast<std::size_t>(d)];
    };
    for (std::size_t e = 0; e < nodes.size(); ++e)
        for (Eigen::Index d = 0; d < 24; ++d)
            if (dof(e, d) >= 0) loads.row(dof(e, d)) -= scale[e] * forces.row(d);
    const auto solver = make_direct_solver(system, {});
    solver->update(scale);
    const Eigen::MatrixXd repeating = solver->solve(loads);

    Elastic6 out = Elastic6::Zero();
    for (std::size_t e = 0; e < nodes.size(); ++e) {
        Eigen::MatrixXd u = mean;
        for (Eigen::Index d = 0; d < 24; ++d)
            if (dof(e, d) >= 0) u.row(d) += repeating.row(dof(e, d));
        out += scale[e] * u.transpose() * stiffness * u;
    }
    return out / static_cast<double>(share.size());
}

EffectiveConstants constants_of(const Elastic6& stiffness) {
    const Elastic6 compliance = stiffness.inverse();
    EffectiveConstants out;
    for (Eigen::Index a = 0; a < 3; ++a) {
        out.E[a] = 1.0 / compliance(a, a);
        out.nu[a] = -compliance((a + 1) % 3, a) / compliance(a, a);
        out.G[a] = 1.0 / compliance(3 + a, 3 + a);
    }
    return out;
}

} // namespace upright
