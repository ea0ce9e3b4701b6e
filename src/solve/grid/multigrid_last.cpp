// The last level: an order of elimination and its factor.
#include "solve/grid/multigrid_parts.hpp"

#include "base/error.hpp"
#include "solve/dissection.hpp"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

namespace upright::grid {

namespace {

constexpr double coarse_shift = 1e-6;

} // namespace

std::pair<std::vector<std::int32_t>, double>
Multigrid::order_of(const Level& level, const std::vector<std::int32_t>& unknown_of) const {
    const auto d = static_cast<std::size_t>(dimension_);
    const auto nx = static_cast<std::size_t>(level.nodes[0]);
    const auto ny = static_cast<std::size_t>(level.nodes[1]);
    if (level.ring) return {};
    std::vector<std::array<std::int32_t, 3>> places;
    std::vector<std::size_t> nodes;
    for (std::size_t n = 0; n < unknown_of.size() / d; ++n) {
        bool any = false;
        for (std::size_t c = 0; c < d; ++c) any = any || unknown_of[n * d + c] >= 0;
        if (!any) continue;
        nodes.push_back(n);
        places.push_back({static_cast<std::int32_t>(n % nx), static_cast<std::int32_t>(n / nx % ny),
                          static_cast<std::int32_t>(n / nx / ny)});
    }
    const DissectionOrder order = dissection_order(places);
    std::vector<std::int32_t> out;
    for (const std::int32_t at : order.nodes)
        for (std::size_t c = 0; c < d; ++c)
            if (const std::int32_t u = unknown_of[nodes[static_cast<std::size_t>(at)] * d + c]; u >= 0)
                out.push_back(u);
    return {std::move(out), order.flops * static_cast<double>(d * d * d)};
}

// Which unknowns are factorised: those with more than void around them. Whether they are the same as before.
bool Multigrid::take_pattern(Coarsest& coarsest, const std::vector<double>& diagonal) {
    double most = 0.0;
    for (const double v : diagonal) most = std::max(most, v);
    std::vector<std::uint8_t> pattern(diagonal.size());
    for (std::size_t n = 0; n < diagonal.size(); ++n) pattern[n] = diagonal[n] > void_scale * most ? 1 : 0;
    const bool same = coarsest.solver != nullptr && pattern == coarsest.pattern;
    coarsest.jacobi.assign(diagonal.size(), 0.0);
    for (std::size_t n = 0; n < diagonal.size(); ++n)
        if (pattern[n] == 0 && diagonal[n] > 0.0) coarsest.jacobi[n] = 1.0 / diagonal[n];
    if (!same) {
        coarsest.pattern = pattern;
        coarsest.unknown_of.assign(diagonal.size(), -1);
        std::int32_t next = 0;
        for (std::size_t n = 0; n < pattern.size(); ++n)
            if (pattern[n] != 0) coarsest.unknown_of[n] = next++;
        coarsest.matrices.clear();
        coarsest.system = {};
        coarsest.system.unknowns = static_cast<std::size_t>(next);
        coarsest.solver.reset();
    }
    return same;
}

// The last level, when a cycle first asks for it: a design whose material is factorised needs none.
void Multigrid::factorise() {
    if (factorised_) return;
    factorised_ = true;
    const std::size_t size = static_cast<std::size_t>(width_) * static_cast<std::size_t>(width_);
    Level& level = *levels_.back();
    if (coarsest_ == nullptr) coarsest_ = std::make_unique<Coarsest>();
    Coarsest& coarsest = *coarsest_;
    const auto d = static_cast<std::size_t>(dimension_);
    const auto width = static_cast<std::size_t>(width_);
    const auto nx = static_cast<std::size_t>(level.cells[0]);
    const auto ny = static_cast<std::size_t>(level.cells[1]);
    const auto node = [&](std::size_t cell, int a) { return corner(level, cell, a); };
    if (late_) element_scale_ = &last_scale_;
    // Of a cell, into `room` where it is not there yet.
    const auto matrix = [&](std::size_t c, std::array<float, 576>& room) -> const float* {
        if (!late_) return level.matrices.data() + c * size;
        first_matrix(static_cast<int>(c % nx), static_cast<int>(c / nx % ny), static_cast<int>(c / nx / ny),
                     room.data());
        return room.data();
    };
    std::vector<float> diagonals(level.cell_count() * width);
#pragma omp parallel for num_threads(options_.threads) schedule(static)
    for (std::size_t c = 0; c < level.cell_count(); ++c) {
        std::array<float, 576> room;
        const float* m = matrix(c, room);
        for (std::size_t i = 0; i < width; ++i) diagonals[c * width + i] = m[i * (width + 1)];
    }
    std::vector<double> diagonal(level.node_count() * d, 0.0);
    for (std::size_t c = 0; c < level.cell_count(); ++c)
        for (int a = 0; a < corners_; ++a)
            for (std::size_t e = 0; e < d; ++e)
                diagonal[node(c, a) * d + e] +=
                    static_cast<double>(diagonals[c * width + static_cast<std::size_t>(a) * d + e]);
    std::vector<float>().swap(diagonals);
    const bool same = take_pattern(coarsest, diagonal);
    std::vector<std::size_t> used;
    for (std::size_t c = 0; c < level.cell_count(); ++c) {
        bool any = false;
        for (int a = 0; a < corners_; ++a)
            for (std::size_t e = 0; e < d; ++e) any = any || coarsest.unknown_of[node(c, a) * d + e] >= 0;
        if (any) used.push_back(c);
    }
    if (!same) {
        coarsest.matrices.resize(used.size());
        for (const std::size_t c : used) {
            for (int a = 0; a < corners_; ++a)
                for (std::size_t e = 0; e < d; ++e)
                    coarsest.system.dofs.push_back(coarsest.unknown_of[node(c, a) * d + e]);
            coarsest.system.starts.push_back(coarsest.system.dofs.size());
        }
    }
#pragma omp parallel for num_threads(options_.threads) schedule(static)
    for (std::size_t n = 0; n < used.size(); ++n) {
        std::array<float, 576> room;
        const Eigen::MatrixXd m =
            Eigen::Map<const Eigen::MatrixXf>(matrix(used[n], room), width_, width_).cast<double>();
        coarsest.matrices[n] = 0.5 * (m + m.transpose());
        coarsest.matrices[n].diagonal() *= 1.0 + coarse_shift;
    }
    if (late_) element_scale_ = nullptr;
    std::vector<float>().swap(level.matrices);
    if (!same) {
        for (const Eigen::MatrixXd& m : coarsest.matrices) coarsest.system.matrix_of.push_back(&m);
        coarsest.system.order = order_of(level, coarsest.unknown_of).first;
        SolverOptions direct;
        direct.threads = 1;
        coarsest.solver = make_direct_solver(coarsest.system, direct);
    }
    coarsest.solver->update(std::vector<double>(used.size(), 1.0));
}

} // namespace upright::grid
