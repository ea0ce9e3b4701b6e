// The faces that one tetrahedron alone has, of those chosen: the border of them together.
#pragma once

#include "part/part.hpp"

#include <algorithm>
#include <map>

namespace upright {

struct OpenFace {
    std::array<std::int32_t, 3> corners{}; // seen from outside counter-clockwise
    std::size_t tet = 0;
};
// By their corners, ascending.
using OpenFaces = std::map<std::array<std::int32_t, 3>, OpenFace>;

template <class Chosen> OpenFaces open_faces(const WholeTets& whole, const Chosen& chosen) {
    OpenFaces out;
    for (std::size_t t = 0; t < whole.tets.size(); ++t) {
        if (!chosen(t)) continue;
        for (const auto& face : tet_faces) {
            const std::array<std::int32_t, 3> corners{whole.tets[t][face[0]], whole.tets[t][face[1]],
                                                      whole.tets[t][face[2]]};
            std::array<std::int32_t, 3> key = corners;
            std::sort(key.begin(), key.end());
            // One that two of them share is inside.
            if (const auto found = out.find(key); found != out.end())
                out.erase(found);
            else
                out.emplace(key, OpenFace{corners, t});
        }
    }
    return out;
}

} // namespace upright
