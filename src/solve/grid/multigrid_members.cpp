// Thin members: their material factorised by itself, the voids with a multigrid of their own.
#include "solve/grid/multigrid_parts.hpp"

#include "base/error.hpp"

#include <algorithm>
#ifdef __GLIBC__
#include <malloc.h>
#endif
#include <tuple>

namespace upright::grid {

namespace {

constexpr double thin_share = 0.25; // of a block's nodes, in thin members
// What a cycle with its product takes, and what factorising thin members does (docs/performance.md). Times
// are guessed from counts, so that they are the same in every run.
constexpr double cycle_seconds = 2.8e-8;   // an unknown of the block
constexpr double around_seconds = 2.0e-7;  // an unknown of the block: the levels of the voids
constexpr double unknown_seconds = 8.0e-6; // an unknown of the members
constexpr double factor_seconds = 4.0e-10; // an operation

// Returns what was freed to the machine, where the allocator would keep it.
void give_back() {
#ifdef __GLIBC__
    malloc_trim(0);
#endif
}

} // namespace

// By the nodes of the first coarse level, whose share is the larger one.
bool Multigrid::may_strengthen() const {
    return matrix_free_ && slopes_.empty() && levels_.size() > 1 &&
           static_cast<double>(thick_nodes_) <
               2.0 * thin_share * static_cast<double>(levels_[1]->node_count());
}

// The system of what is not factorised: its unknowns at the factorised ones are held.
void Multigrid::surround(Exact& exact, const std::vector<std::size_t>& cells,
                         const std::vector<std::int32_t>& unknown_of) const {
    GridSystem& around = exact.void_system;
    around.dimension = 3;
    around.cells = system_.cells;
    around.kinds = system_.kinds;
    around.kind_of = system_.kind_of;
    around.element_of = system_.element_of;
    for (const std::size_t cell : cells) around.element_of[cell] = -1;
    around.unknown_of = system_.unknown_of;
    for (std::size_t f = 0; f < unknown_of.size(); ++f)
        if (unknown_of[f] >= 0 || (mask_[f / 3] & (1U << f % 3)) != 0)
            around.unknown_of[f] = GridSystem::held;
    double most = 0.0;
    for (std::size_t cell = 0; cell < cell_kind_.size(); ++cell)
        if (around.element_of[cell] >= 0)
            most = std::max(most, last_scale_[static_cast<std::size_t>(around.element_of[cell])]);
    if (most > 0.0) {
        exact.void_stiffness = most;
        exact.voids = std::make_unique<Multigrid>(around, options_);
        std::vector<std::int32_t>().swap(around.unknown_of); // nothing asks for it any more
        std::vector<double> soft = last_scale_;
        for (double& s : soft) s /= most;
        exact.voids->update(soft);
    }
}

bool Multigrid::strengthen(double cycles) {
    const double worth = cycles * cycle_seconds * static_cast<double>(length_);
    if (exact_ != nullptr || !may_strengthen() || last_scale_.empty() ||
        worth < around_seconds * static_cast<double>(length_))
        return false;
    const Level& fine = *levels_[0];
    auto exact = std::make_unique<Exact>();
    ElementSystem system;
    std::vector<std::int32_t> unknown_of(mask_.size() * 3, -1);
    std::vector<std::size_t> cells;
    for (std::size_t cell = 0; cell < cell_kind_.size(); ++cell) {
        const std::int32_t e = system_.element_of[cell];
        if (e >= 0 && last_scale_[static_cast<std::size_t>(e)] > void_scale) cells.push_back(cell);
    }
    for (const std::size_t cell : cells)
        for (int a = 0; a < 8; ++a) {
            const std::size_t node = corner(fine, cell, a);
            for (std::size_t c = 0; c < 3; ++c)
                if ((mask_[node] & (1U << c)) == 0) unknown_of[node * 3 + c] = 0;
        }
    for (std::size_t f = 0; f < unknown_of.size(); ++f) {
        if (unknown_of[f] < 0) continue;
        unknown_of[f] = static_cast<std::int32_t>(exact->places.size());
        exact->places.push_back(place(f));
    }
    system.unknowns = exact->places.size();
    if (system.unknowns == 0) return false;
    std::vector<double> scale;
    for (const std::size_t cell : cells) {
        const auto e = static_cast<std::size_t>(system_.element_of[cell]);
        for (int a = 0; a < 8; ++a) {
            const std::size_t node = corner(fine, cell, a);
            for (std::size_t c = 0; c < 3; ++c) system.dofs.push_back(unknown_of[node * 3 + c]);
        }
        system.starts.push_back(system.dofs.size());
        system.matrix_of.push_back(&system_.kinds[system_.kind_of[e]]);
        scale.push_back(last_scale_[e]);
    }
    double flops = 0.0;
    std::tie(system.order, flops) = order_of(fine, unknown_of);
    if (worth < factor_seconds * flops + unknown_seconds * static_cast<double>(system.unknowns) +
                    around_seconds * static_cast<double>(length_))
        return false;
    SolverOptions options;
    options.threads = options_.threads;
    options.memory = 0.5 * options_.memory;
    options.once = true;
    try {
        exact->solver = make_direct_solver(system, options);
        exact->solver->update(scale);
    } catch (const Error&) {
        // Too large, or islands of material that nothing but voids hold.
        return false;
    }
    system = {};
    std::vector<double>().swap(scale);
    surround(*exact, cells, unknown_of);
    std::vector<std::int32_t>().swap(unknown_of);
    // The coarse levels are not asked for before the next update makes them anew.
    levels_.resize(1);
    give_back();
    exact_ = std::move(exact);
    return true;
}

} // namespace upright::grid
