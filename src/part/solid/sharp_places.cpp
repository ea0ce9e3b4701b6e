#include "part/solid/sharp_places.hpp"

#include "base/edge_key.hpp"
#include "mesh/quality.hpp"

#include <algorithm>
#include <map>
#include <optional>

namespace upright {

namespace {

using Triangle = std::array<std::int32_t, 3>;

Triangle sorted(Triangle nodes) {
    std::sort(nodes.begin(), nodes.end());
    return nodes;
}

} // namespace

std::vector<SharpPlace> sharp_places(const SolidPart& part, double limit) {
    struct Found {
        std::size_t tet, edge;
        double angle;
    };
    std::vector<Found> found;
    for (std::size_t t = 0; t < part.tets.size(); ++t) {
        const std::array<double, 6> angles = dihedral_angles(part.corners(t));
        const auto least = static_cast<std::size_t>(
            std::distance(angles.begin(), std::min_element(angles.begin(), angles.end())));
        if (angles[least] < limit) found.push_back({t, least, angles[least]});
    }
    if (found.empty()) return {};
    std::sort(found.begin(), found.end(), [](const Found& a, const Found& b) {
        return std::pair{a.angle, a.tet} < std::pair{b.angle, b.tet};
    });
    std::map<Triangle, std::int32_t> sheet_of; // of the skin and of borders of regions
    for (const Improved::Face& f : part.faces) sheet_of.emplace(sorted(f.nodes), f.sheet);
    // What a region has at such an edge altogether.
    const auto key_of = [&](const Found& f) {
        const auto& n = part.tets[f.tet];
        return edge_key(n[dihedral_edges[f.edge][0]], n[dihedral_edges[f.edge][1]]);
    };
    std::map<std::pair<std::uint64_t, RegionId>, double> whole;
    for (const Found& f : found) whole.emplace(std::pair{key_of(f), part.region[f.tet]}, 0.0);
    for (std::size_t t = 0; t < part.tets.size(); ++t) {
        std::optional<std::array<double, 6>> angles;
        for (std::size_t k = 0; k < 6; ++k) {
            const auto& n = part.tets[t];
            const auto at =
                whole.find({edge_key(n[dihedral_edges[k][0]], n[dihedral_edges[k][1]]), part.region[t]});
            if (at == whole.end()) continue;
            if (!angles) angles = dihedral_angles(part.corners(t));
            at->second += (*angles)[k];
        }
    }
    std::vector<SharpPlace> out;
    for (const Found& f : found) {
        const auto& n = part.tets[f.tet];
        const auto& e = dihedral_edges[f.edge];
        SharpPlace place;
        place.angle = f.angle;
        place.at = 0.5 * (part.points[static_cast<std::size_t>(n[e[0]])] +
                          part.points[static_cast<std::size_t>(n[e[1]])]);
        for (std::size_t side = 0; side < 2; ++side) {
            const auto at = sheet_of.find(sorted({n[e[0]], n[e[1]], n[e[2 + side]]}));
            if (at != sheet_of.end()) place.sheets[side] = at->second;
        }
        place.own = whole.at({key_of(f), part.region[f.tet]}) < limit && place.sheets[0] != place.sheets[1];
        out.push_back(place);
    }
    return out;
}

} // namespace upright
