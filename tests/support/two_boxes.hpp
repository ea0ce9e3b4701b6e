// Two boxes that were meshed separately, as a VTU file with the cell array "zone" (1 and 2).
#pragma once

#include "mesh/mesh.hpp"
#include "store/vtu.hpp"

#include <array>
#include <filesystem>

namespace upright::test {

// From x = 0 to 10 and from 10 + gap to 20 + gap, 10 x 10 across; `cells` of each along and across x, each
// cut into six where tetrahedra are wanted.
inline void write_two_boxes(const std::filesystem::path& file, const std::array<std::array<int, 2>, 2>& cells,
                            int order, double gap = 0.0, bool tetrahedra = false) {
    Mesh mesh;
    std::vector<double> zone;
    for (std::size_t box = 0; box < 2; ++box) {
        const int nx = cells[box][0];
        const int n = cells[box][1];
        const auto first = static_cast<int>(mesh.nodes.size());
        for (int k = 0; k <= n; ++k)
            for (int j = 0; j <= n; ++j)
                for (int i = 0; i <= nx; ++i)
                    mesh.nodes.emplace_back((box == 0 ? 0.0 : 10.0 + gap) + 10.0 * i / nx, 10.0 * j / n,
                                            10.0 * k / n);
        const auto at = [&](int i, int j, int k) {
            return static_cast<NodeId>(first + (k * (n + 1) + j) * (nx + 1) + i);
        };
        for (int k = 0; k < n; ++k)
            for (int j = 0; j < n; ++j)
                for (int i = 0; i < nx; ++i) {
                    const std::array<NodeId, 8> c{
                        at(i, j, k),     at(i + 1, j, k),     at(i + 1, j + 1, k),     at(i, j + 1, k),
                        at(i, j, k + 1), at(i + 1, j, k + 1), at(i + 1, j + 1, k + 1), at(i, j + 1, k + 1)};
                    if (!tetrahedra) {
                        mesh.add(ElementKind::Hex8, {c.begin(), c.end()}, RegionId{0});
                        zone.push_back(static_cast<double>(box + 1));
                        continue;
                    }
                    // Six around the diagonal from the first corner to the one across.
                    static constexpr std::array<std::array<std::size_t, 2>, 6> sides{
                        {{1, 2}, {2, 3}, {3, 7}, {7, 4}, {4, 5}, {5, 1}}};
                    for (const auto& s : sides) {
                        mesh.add(ElementKind::Tet4, {c[0], c[s[0]], c[s[1]], c[6]}, RegionId{0});
                        zone.push_back(static_cast<double>(box + 1));
                    }
                }
    }
    if (order == 2) raise_order(mesh);
    mesh.finish();
    write_vtu(file, mesh, {}, {{"zone", 1, zone}});
}

} // namespace upright::test
