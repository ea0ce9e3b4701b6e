#include "part/lean.hpp"

#include "base/angles.hpp"
#include "design/making_rule.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <array>
#include <cmath>
#include <map>

namespace upright {

namespace {

constexpr double alike = 45.0;          // degrees: normals that are of one wall
constexpr double parting_within = 0.25; // of a cell
constexpr double one_way = 1e-9;        // less than this is missing of a cosine of one

struct Facet {
    Vec3 middle = Vec3::Zero();
    Vec3 normal = Vec3::Zero(); // of its area; of the lower die's the mirror image
    bool across = false;        // the parting runs through it: it is of neither die
};

using Cube = std::array<long, 3>;

Cube cube_of(const Vec3& p, double width) {
    return {std::lround(std::floor(p.x() / width)), std::lround(std::floor(p.y() / width)),
            std::lround(std::floor(p.z() / width))};
}

} // namespace

Dies dies_of(const Model& model, const Vec3& along) {
    Dies out;
    out.along = along;
    const auto& draw = model.form.draw;
    out.two = draw && draw->dies == 2;
    if (out.two && draw->parting != FormCard::Draw::Parting::Found && along.dot(draw->along) > 1.0 - one_way)
        out.parting = draw_parting(model, model.form);
    out.near = parting_within * model.mesh.size;
    return out;
}

std::vector<double> leans(const Triangles& surface, const std::vector<bool>& counts, const Dies& dies,
                          double within) {
    const std::size_t all = surface.corners.size();
    std::vector<Facet> facets(all);
    std::map<Cube, std::vector<std::size_t>> cubes;
    for (std::size_t t = 0; t < all; ++t) {
        if (!counts[t]) continue;
        const auto& c = surface.corners[t];
        const auto at = [&](std::size_t k) -> const Vec3& {
            return surface.points[static_cast<std::size_t>(c[k])];
        };
        facets[t].middle = (at(0) + at(1) + at(2)) / 3.0;
        facets[t].normal = 0.5 * (at(1) - at(0)).cross(at(2) - at(0));
        if (dies.two && dies.parting) {
            double low = 1e300;
            double high = -1e300;
            for (std::size_t k = 0; k < 3; ++k) {
                const double off = at(k).dot(dies.along) - *dies.parting;
                low = std::min(low, off);
                high = std::max(high, off);
            }
            facets[t].across = low < 0.0 && high > 0.0;
            const double up = facets[t].normal.dot(dies.along);
            const bool near = std::abs(facets[t].middle.dot(dies.along) - *dies.parting) <= dies.near;
            if (near ? up < 0.0 : high <= 0.0) facets[t].normal -= 2.0 * up * dies.along;
        }
        if (within > 0.0 && !facets[t].across) cubes[cube_of(facets[t].middle, within)].push_back(t);
    }
    const double same = std::cos(alike * degree);
    const auto wall_at = [&](std::size_t t) {
        const Vec3 own = facets[t].normal.normalized();
        if (within <= 0.0) return own;
        Vec3 sum = Vec3::Zero();
        const Cube here = cube_of(facets[t].middle, within);
        for (long a = -1; a <= 1; ++a)
            for (long b = -1; b <= 1; ++b)
                for (long c = -1; c <= 1; ++c) {
                    const auto found = cubes.find({here[0] + a, here[1] + b, here[2] + c});
                    if (found == cubes.end()) continue;
                    for (const std::size_t o : found->second) {
                        const double away =
                            (facets[o].middle - facets[t].middle).squaredNorm() / (within * within);
                        if (away > 1.0 || facets[o].normal.dot(own) < same * facets[o].normal.norm())
                            continue;
                        sum += (1.0 - away) * (1.0 - away) * facets[o].normal;
                    }
                }
        return sum.norm() > 0.0 ? Vec3(sum.normalized()) : own;
    };
    std::vector<double> out(all, 0.0);
#pragma omp parallel for schedule(dynamic, 256)
    for (std::size_t t = 0; t < all; ++t) {
        if (!counts[t]) continue;
        const double up = std::asin(std::clamp(wall_at(t).dot(dies.along), -1.0, 1.0)) / degree;
        out[t] = facets[t].across || (dies.two && !dies.parting) ? std::abs(up) : up;
    }
    return out;
}

} // namespace upright
