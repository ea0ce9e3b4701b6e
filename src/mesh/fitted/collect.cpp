// What is handed over: tetrahedra with their regions, and the skin on exact faces.
#include "base/spatial_order.hpp"
#include "mesh/fitted/mesher.hpp"
#include "mesh/quality.hpp"

namespace upright::fitting {

FittedTets FittedMesher::optimised() {
    TetMesh mesh;
    std::vector<std::int32_t> number(samples_.size(), -1);
    const auto& tets = delaunay_->tets();
    for (std::size_t t = 0; t < tets.size(); ++t) {
        if (!tets[t].alive || label_[t] < 0) continue;
        TetMesh::Tet tet;
        for (std::size_t i = 0; i < 4; ++i) {
            const auto s = static_cast<std::size_t>(sample_of_[static_cast<std::size_t>(tets[t].node[i])]);
            if (number[s] < 0) {
                number[s] = static_cast<std::int32_t>(mesh.nodes.size());
                TetMesh::Node node;
                node.p = samples_[s].p;
                node.on = static_cast<std::int32_t>(samples_[s].on);
                node.entity = samples_[s].entity;
                std::vector<std::int32_t> list;
                patches_of(static_cast<std::int32_t>(s), list);
                node.patches = list;
                node.size = size(node.p);
                mesh.nodes.push_back(node);
            }
            tet.node[i] = number[s];
        }
        tet.region = label_[t];
        mesh.tets.push_back(tet);
    }
    for (const Segment& s : segments_)
        mesh.segments.insert(
            edge_key(number[static_cast<std::size_t>(s.a)], number[static_cast<std::size_t>(s.b)]));
    for (const Patch& p : patches_) mesh.patch_regions.push_back(p.regions);
    optimise_tets(mesh, *this, options_.target);
    return collect(mesh);
}

FittedTets FittedMesher::collect(const TetMesh& mesh) {
    FittedTets out;
    std::vector<std::int32_t> number(mesh.nodes.size(), -1);
    double worst = 180.0;
    Vec3 worst_at = Vec3::Zero();
    // Neighbours near each other: analyses read elements one after the other, and with them their nodes.
    std::vector<const TetMesh::Tet*> alive;
    std::vector<Vec3> middles;
    for (const TetMesh::Tet& tet : mesh.tets) {
        if (!tet.alive) continue;
        alive.push_back(&tet);
        middles.emplace_back(Vec3::Zero());
        for (const std::int32_t n : tet.node)
            middles.back() += 0.25 * mesh.nodes[static_cast<std::size_t>(n)].p;
    }
    for (const std::int32_t next : spatial_order(middles)) {
        const TetMesh::Tet& tet = *alive[static_cast<std::size_t>(next)];
        std::array<std::int32_t, 4> ids{};
        std::array<Vec3, 4> p;
        for (std::size_t i = 0; i < 4; ++i) {
            const auto n = static_cast<std::size_t>(tet.node[i]);
            if (number[n] < 0) {
                number[n] = static_cast<std::int32_t>(out.points.size());
                out.points.push_back(mesh.nodes[n].p);
                out.entity.push_back({mesh.nodes[n].on, mesh.nodes[n].entity, 0});
            }
            ids[i] = number[n];
            p[i] = mesh.nodes[n].p;
        }
        if (!((p[1] - p[0]).cross(p[2] - p[0]).dot(p[3] - p[0]) > 0.0)) {
            bad_places_ = {p[0]};
            fail();
        }
        const double angle = std::asin(std::clamp(least_sine(p), 0.0, 1.0)) * 180.0 / pi;
        if (angle < worst) {
            worst = angle;
            worst_at = 0.25 * (p[0] + p[1] + p[2] + p[3]);
        }
        out.tets.push_back(ids);
        out.region.push_back(tet.region);
    }
    out.smallest_dihedral = worst;
    if (worst < 20.0)
        out.remarks.push_back(
            fmt::format("the smallest dihedral angle is {:.1f} deg, at ({:.4g}, {:.4g}, {:.4g})", worst,
                        worst_at.x(), worst_at.y(), worst_at.z()));
    if (thinnest_ < 0.15 * options_.size)
        out.remarks.push_back(
            fmt::format("a wall is {:.3g} thick, less than a sixth of the element size", thinnest_));
    collect_skin(mesh, number, out);
    return out;
}

// The skin, checked: every edge of it between two faces of it (or where more regions meet), every face on
// one patch.
void FittedMesher::collect_skin(const TetMesh& mesh, const std::vector<std::int32_t>& number,
                                FittedTets& out) {
    struct Half {
        std::array<std::int32_t, 3> nodes;
        std::int32_t region;
    };
    std::unordered_map<std::string, Half> open;
    const auto key = [](std::array<std::int32_t, 3> n) {
        std::sort(n.begin(), n.end());
        return std::string(reinterpret_cast<const char*>(n.data()), sizeof n);
    };
    static constexpr std::array<std::array<std::size_t, 3>, 4> faces{
        {{1, 2, 3}, {0, 3, 2}, {0, 1, 3}, {0, 2, 1}}};
    for (const TetMesh::Tet& tet : mesh.tets) {
        if (!tet.alive) continue;
        for (const auto& f : faces) {
            const std::array<std::int32_t, 3> n{tet.node[f[0]], tet.node[f[1]], tet.node[f[2]]};
            const auto [at, fresh] = open.emplace(key(n), Half{n, tet.region});
            if (fresh) continue;
            if (at->second.region == tet.region)
                open.erase(at);
            else if (at->second.region >= 0)
                at->second.region = -2 - at->second.region; // an interface, told apart below
        }
    }
    std::unordered_map<std::uint64_t, int> edges;
    for (const auto& [k, half] : open) {
        FittedTets::Face face;
        std::array<std::int32_t, 3> s = half.nodes;
        std::vector<std::int32_t> common = mesh.nodes[static_cast<std::size_t>(s[0])].patches;
        for (const std::int32_t n : s) {
            const auto& list = mesh.nodes[static_cast<std::size_t>(n)].patches;
            common.erase(std::remove_if(common.begin(), common.end(),
                                        [&](std::int32_t p) {
                                            return std::find(list.begin(), list.end(), p) == list.end();
                                        }),
                         common.end());
        }
        const Vec3 center =
            (mesh.nodes[static_cast<std::size_t>(s[0])].p + mesh.nodes[static_cast<std::size_t>(s[1])].p +
             mesh.nodes[static_cast<std::size_t>(s[2])].p) /
            3.0;
        double best = 1e300;
        for (const std::int32_t p : common)
            if (const double d = (on_patch(p, center) - center).norm(); d < best) {
                best = d;
                face.face = face_of_patch_[static_cast<std::size_t>(p)];
            }
        if (face.face < 0) {
            bad_places_ = {center};
            fail();
        }
        for (std::size_t i = 0; i < 3; ++i) {
            face.nodes[i] = number[static_cast<std::size_t>(s[i])];
            ++edges[edge_key(s[i], s[(i + 1) % 3])];
        }
        out.skin.push_back(face);
    }
    for (const auto& [edge, count] : edges)
        if (count < 2) {
            bad_places_ = {mesh.nodes[static_cast<std::size_t>(edge >> 32U)].p};
            fail();
        }
}

} // namespace upright::fitting
