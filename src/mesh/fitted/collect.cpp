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
    for (const Segment& s : segments_) {
        const std::int32_t a = number[static_cast<std::size_t>(s.a)];
        const std::int32_t b = number[static_cast<std::size_t>(s.b)];
        if (accepted_ && (a < 0 || b < 0)) continue;
        mesh.segments.insert(edge_key(a, b));
    }
    for (const Patch& p : patches_) mesh.patch_regions.push_back(p.regions);
    optimise_tets(mesh, *this, options_.target);
    return collect(mesh);
}

FittedTets FittedMesher::collect(TetMesh& mesh) {
    FittedTets out;
    std::vector<std::int32_t> number(mesh.nodes.size(), -1);
    double worst = 180.0;
    Vec3 worst_at = Vec3::Zero();
    // Neighbours near each other: analyses read elements one after the other, and with them their nodes.
    std::vector<const TetMesh::Tet*> alive;
    std::vector<Vec3> middles;
    for (TetMesh::Tet& tet : mesh.tets) {
        if (!tet.alive) continue;
        const auto place = [&](std::size_t i) -> const Vec3& {
            return mesh.nodes[static_cast<std::size_t>(tet.node[i])].p;
        };
        // What nothing could make positive is flat, and leaves no hole.
        if (least_sine({place(0), place(1), place(2), place(3)}) < 1e-3) {
            tet.alive = false;
            accepted_ = true;
            ++flat_tets_;
            continue;
        }
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
        const double angle = std::asin(std::clamp(least_sine(p), 0.0, 1.0)) * 180.0 / pi;
        if (angle < worst) {
            worst = angle;
            worst_at = 0.25 * (p[0] + p[1] + p[2] + p[3]);
        }
        out.tets.push_back(ids);
        out.region.push_back(tet.region);
    }
    out.smallest_dihedral = worst;
    collect_skin(mesh, number, out);
    remark_on(out, worst, worst_at);
    return out;
}

// What the user should know of wedges, walls and places that are not covered.
void FittedMesher::remark_on(FittedTets& out, double worst, const Vec3& worst_at) const {
    const auto at = [](const Vec3& p) {
        return fmt::format("({:.4g}, {:.4g}, {:.4g})", p.x(), p.y(), p.z());
    };
    if (worst < 20.0)
        out.remarks.push_back(
            fmt::format("the smallest dihedral angle is {:.3g} deg, at {}", worst, at(worst_at)));
    const Wedge* sharpest = nullptr;
    double length = 0.0;
    for (const Wedge& w : wedges_) {
        length += w.length;
        if (sharpest == nullptr || w.angle < sharpest->angle) sharpest = &w;
    }
    if (sharpest != nullptr)
        out.remarks.push_back(fmt::format(
            "faces meet at a cusp of {:.3g} deg at {} ({} below 15 deg, {:.3g} long in all): {}. Blunt it or "
            "fill "
            "it for better elements",
            sharpest->angle, at(sharpest->place), wedges_.size() == 1 ? "one edge" : "edges", length,
            sharpest->inside ? "elements there are as sharp" : "the gap there is as sharp"));
    if (thinnest_ < 0.15 * options_.size)
        out.remarks.push_back(fmt::format(
            "a wall is {:.3g} thick at {}, {:.2g} of the element size{}", thinnest_, at(thinnest_at_),
            thinnest_ / options_.size,
            thinnest_ < 0.9 * floor_
                ? fmt::format("; elements are not made smaller than {:.3g}, and are flat there", floor_)
                : "; elements there are as small"));
    if (narrow_.faces > 0)
        out.remarks.push_back(
            fmt::format("{} narrow face{} meshed as one with {} (the narrowest {:.2g} wide, at {})",
                        narrow_.faces, narrow_.faces == 1 ? " is" : "s are",
                        narrow_.faces == 1 ? "the neighbour it goes on into smoothly"
                                           : "the neighbours they go on into smoothly",
                        narrow_.width, at(narrow_.at)));
    if (flat_tets_ > 0)
        out.remarks.push_back(
            fmt::format("{} flat element{} left out", flat_tets_, flat_tets_ == 1 ? " is" : "s are"));
    if (off_.faces > 0) {
        double meshed = 0.0;
        for (const auto& tet : out.tets) {
            std::array<Vec3, 4> p;
            for (std::size_t i = 0; i < 4; ++i) p[i] = out.points[static_cast<std::size_t>(tet[i])];
            meshed += (p[1] - p[0]).cross(p[2] - p[0]).dot(p[3] - p[0]) / 6.0;
        }
        double bounded = 0.0;
        for (std::size_t t = 0; t < in_.triangles.size(); ++t) {
            const double share = corner(t, 0).dot(corner(t, 1).cross(corner(t, 2))) / 6.0;
            bounded += ((in_.regions[t][0] >= 0 ? 1.0 : 0.0) - (in_.regions[t][1] >= 0 ? 1.0 : 0.0)) * share;
        }
        out.remarks.push_back(fmt::format(
            "{} of {} faces of the skin leave the exact shape, by up to {:.3g} at {}: edges are cut short or "
            "bridged there, and the mesh holds {:.4f} of the body's volume. Write a smaller size there "
            "([[mesh.refine]]), or blunt what is sharp",
            off_.faces, out.skin.size(), off_.far, at(off_.at), meshed / bounded));
    }
    const bool thin = thinnest_ < 0.9 * floor_;
    out.forced = thin || off_.faces > 0 || (sharpest != nullptr && sharpest->angle < 1.5 * worst + 1.0);
}

// The skin, checked: every edge of it between two faces of it (or where more regions meet), every face on
// one patch.
void FittedMesher::collect_skin(const TetMesh& mesh, const std::vector<std::int32_t>& number,
                                FittedTets& out) {
    struct Half {
        std::array<std::int32_t, 3> nodes;
        std::array<std::int32_t, 2> rest; // its larger nodes, in order
        std::int32_t region;
    };
    // Faces in buckets of their smallest node; those that come twice from one region are inside of it.
    static constexpr std::array<std::array<std::size_t, 3>, 4> faces{
        {{1, 2, 3}, {0, 3, 2}, {0, 1, 3}, {0, 2, 1}}};
    std::vector<std::size_t> first(mesh.nodes.size() + 1, 0);
    const auto smallest = [](const TetMesh::Tet& tet, const std::array<std::size_t, 3>& f) {
        return static_cast<std::size_t>(std::min({tet.node[f[0]], tet.node[f[1]], tet.node[f[2]]}));
    };
    for (const TetMesh::Tet& tet : mesh.tets)
        for (const auto& f : faces)
            if (tet.alive) ++first[smallest(tet, f) + 1];
    for (std::size_t n = 0; n + 1 < first.size(); ++n) first[n + 1] += first[n];
    std::vector<Half> halves(first.back());
    std::vector<std::size_t> next(first.begin(), first.end() - 1);
    for (const TetMesh::Tet& tet : mesh.tets) {
        if (!tet.alive) continue;
        for (const auto& f : faces) {
            const std::array<std::int32_t, 3> n{tet.node[f[0]], tet.node[f[1]], tet.node[f[2]]};
            std::array<std::int32_t, 3> sorted = n;
            std::sort(sorted.begin(), sorted.end());
            halves[next[static_cast<std::size_t>(sorted[0])]++] = {n, {sorted[1], sorted[2]}, tet.region};
        }
    }
    std::vector<Half> open;
    for (std::size_t n = 0; n + 1 < first.size(); ++n) {
        const auto from = halves.begin() + static_cast<std::ptrdiff_t>(first[n]);
        const auto to = halves.begin() + static_cast<std::ptrdiff_t>(first[n + 1]);
        std::stable_sort(from, to, [](const Half& a, const Half& b) { return a.rest < b.rest; });
        for (auto h = from; h != to; ++h) {
            const bool twice = h + 1 != to && (h + 1)->rest == h->rest;
            if (!twice || (h + 1)->region != h->region) open.push_back(*h);
            if (twice) ++h;
        }
    }
    std::unordered_map<std::uint64_t, int> edges;
    for (const Half& half : open) {
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
        for (const std::int32_t p : common) {
            const Patch& patch = patches_[static_cast<std::size_t>(p)];
            const FacetTree::Nearest near = patch.tree.nearest(center);
            if (near.triangle < 0 || near.distance >= best) continue;
            best = near.distance;
            face.face = in_.face_of[patch.triangles[static_cast<std::size_t>(near.triangle)]];
        }
        if (face.face < 0) {
            if (!accepted_) {
                bad_places_ = {center};
                fail();
            }
            const FacetTree::Nearest near = all_.nearest(center);
            face.face = in_.face_of[static_cast<std::size_t>(near.triangle)];
            if (off_.faces++ == 0 || near.distance > off_.far) {
                off_.far = near.distance;
                off_.at = center;
            }
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
