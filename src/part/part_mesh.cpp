#include "part/part_mesh.hpp"

#include "base/edge_key.hpp"
#include "base/error.hpp"
#include "geometry/facets.hpp"
#include "mesh/owned_mesh.hpp"
#include "mesh/quality.hpp"
#include "model/thickened.hpp"
#include "part/solid/face_corners.hpp"

#include <algorithm>
#include <map>
#include <optional>
#include <set>
#include <unordered_map>

namespace upright {

namespace {

constexpr double least_ratio = 0.2;              // of the Jacobian of an element with bent edges
constexpr double beside = 0.02;                  // of a size: there one asks whether the space ends
constexpr double most_off = 0.3, as_along = 0.8; // of a size, and the cosine: a face of the part lies on one
constexpr double most_bent = 0.25;               // of an edge: how far its middle is moved
constexpr std::array<std::array<std::size_t, 2>, 6> edges{{{0, 1}, {1, 2}, {2, 0}, {0, 3}, {1, 3}, {2, 3}}};

class PartKind final : public MeshKind {
  public:
    PartKind(const SolidPart& part, bool bent, const Model& run)
        : part_(part), second_order_(bent), run_(run) {
        if (made_of_sheets(run)) sheets_ = thickened(run);
        word = "part";
        called = "carved parts";
        follows_shapes = leaves_out_voids = true;
        refinable = false;
    }

    MadeMesh make(const Space& space) const override {
        MadeMesh out;
        out.regions = space.regions;
        Mesh& mesh = out.mesh;
        mesh.nodes = part_.points;
        mesh.size = run_.made_by.kind->from_file ? run_.mesh.size : space.mesh.size;
        for (std::size_t t = 0; t < part_.tets.size(); ++t) {
            std::vector<NodeId> nodes;
            for (const std::int32_t n : part_.tets[t]) nodes.push_back(static_cast<NodeId>(n));
            mesh.add(ElementKind::Tet4, nodes, part_.region[t]);
        }
        mesh.finish();
        for (const SymmetryPlane& plane : space.symmetry) {
            const bool low = std::abs(plane.at - mesh.bounds.low[plane.axis]) <=
                             std::abs(plane.at - mesh.bounds.high[plane.axis]);
            mesh.symmetry.push_back({plane.axis, plane.at, !low});
        }
        if (second_order_) {
            raise_order(mesh);
            bend(mesh);
            mesh.finish();
        }
        if (run_.made_by.kind->from_file) {
            count_owned(out);
            for (const ModelSurface& s : run_.surfaces) out.surfaces.push_back(left_of(s, mesh));
        } else {
            pick_on_owned(space, out);
            leave_exact(space, mesh, out.surfaces);
        }
        for (std::size_t s = 0; s < out.surfaces.size(); ++s)
            if (out.surfaces[s].empty())
                throw Error::input(space.surfaces[s].place,
                                   "nothing of the surface \"" + space.surfaces[s].name +
                                       "\" is left on the part",
                                   "Keep a region under it, or carve at a lower density");
        return out;
    }

  private:
    // Middles of the edges of faces, onto what the edge lies on.
    void bend(Mesh& mesh) const {
        std::unordered_map<std::uint64_t, std::set<std::int32_t>> on;
        for (const Improved::Face& f : part_.faces)
            for (std::size_t k = 0; k < 3; ++k)
                if (f.sheet >= 0) on[edge_key(f.nodes[k], f.nodes[(k + 1) % 3])].insert(f.sheet);
        std::vector<std::vector<std::size_t>> users(mesh.nodes.size());
        std::map<std::uint64_t, NodeId> middle; // in order, so that the same comes out every time
        for (std::size_t e = 0; e < mesh.elements(); ++e) {
            const NodeRange ids = mesh.nodes_of(static_cast<ElementId>(e));
            for (std::size_t k = 0; k < 6; ++k) {
                const std::uint64_t key = edge_key(static_cast<std::int32_t>(ids[edges[k][0]]),
                                                   static_cast<std::int32_t>(ids[edges[k][1]]));
                users[index(ids[4 + k])].push_back(e);
                if (on.count(key) != 0) middle[key] = ids[4 + k];
            }
        }
        for (const auto& [key, n] : middle) {
            const std::set<std::int32_t>& sheets = on.at(key);
            if (std::none_of(sheets.begin(), sheets.end(),
                             [&](std::int32_t s) { return (*part_.sheets)[s].curved(); }))
                continue;
            const Vec3 straight = mesh.nodes[index(n)];
            const auto to = part_.sheets->onto({sheets.begin(), sheets.end()}, straight);
            const double length = (mesh.nodes[key >> 32U] - mesh.nodes[key & 0xffffffffU]).norm();
            if (!to || (*to - straight).norm() > most_bent * length) continue;
            for (const double share : {1.0, 0.5, 0.25, 0.0}) {
                mesh.nodes[index(n)] = straight + share * (*to - straight);
                if (std::all_of(users[index(n)].begin(), users[index(n)].end(),
                                [&](std::size_t e) { return least_jacobian(mesh, e) > least_ratio; }))
                    break;
            }
        }
    }

    // Supports and loads act on the outside of the space, as it was written: neither on faces that the design
    // drew, nor on those of a kept region that the design laid bare.
    void leave_exact(const Space& space, const Mesh& mesh,
                     std::vector<std::vector<MeshFace>>& surfaces) const {
        std::map<Corners, std::int32_t> exact;
        for (const Improved::Face& f : part_.faces)
            if (f.sheet >= 0 && !part_.free(f.sheet)) exact[sorted(f.nodes)] = f.sheet;
        const auto outside = [&](const MeshFace& f) {
            const std::vector<NodeId> n = mesh.face_corners(f);
            const auto found =
                exact.find(sorted({static_cast<std::int32_t>(n[0]), static_cast<std::int32_t>(n[1]),
                                   static_cast<std::int32_t>(n[2])}));
            if (found == exact.end()) return false;
            Vec3 middle = Vec3::Zero();
            for (std::size_t k = 0; k < 3; ++k) middle += mesh.nodes[index(n[k])] / 3.0;
            // Beyond the arc where the face is its chord.
            const double chord = std::abs((*part_.sheets)[found->second].value(middle));
            const Vec3 beyond = middle + (chord + beside * mesh.size) * mesh.face_normal(f);
            const RegionId owner = space.regions.owner(beyond);
            return owner == RegionId::None || space.regions[owner].role == Role::Void;
        };
        for (auto& faces : surfaces)
            faces.erase(
                std::remove_if(faces.begin(), faces.end(), [&](const MeshFace& f) { return !outside(f); }),
                faces.end());
    }

    static void count_owned(MadeMesh& made) {
        made.painted.resize(made.regions.size());
        for (const RegionId r : made.mesh.region) ++made.painted[index(r)].painted;
    }

    // Of a face of the run, as it is on the part.
    std::vector<Vec3> ring_of(const MeshFace& f) const {
        if (sheets_) return sheets_->side(run_.mesh, f);
        std::vector<Vec3> out;
        for (const NodeId n : run_.mesh.face_corners(f)) out.push_back(run_.mesh.nodes[index(n)]);
        return out;
    }

    // The faces of the part that lie on those of a surface of the run.
    std::vector<MeshFace> left_of(const ModelSurface& surface, const Mesh& mesh) const {
        std::vector<Vec3> points;
        std::vector<std::array<std::int32_t, 3>> triangles;
        for (const MeshFace& f : surface.faces) {
            const auto first = static_cast<std::int32_t>(points.size());
            const std::vector<Vec3> ring = ring_of(f);
            points.insert(points.end(), ring.begin(), ring.end());
            for (std::int32_t i = 2; i < static_cast<std::int32_t>(ring.size()); ++i)
                triangles.push_back({first, first + i - 1, first + i});
        }
        const FacetTree tree(points, triangles);
        const double size = run_.mesh.size;
        std::vector<MeshFace> out;
        for (const MeshFace& f : mesh.boundary()) {
            const std::vector<NodeId> ring = mesh.face_corners(f);
            Vec3 middle = Vec3::Zero();
            for (const NodeId n : ring) middle += mesh.nodes[index(n)] / static_cast<double>(ring.size());
            const FacetTree::Nearest at = tree.nearest(middle, most_off * size);
            if (at.triangle < 0) continue;
            const auto& c = tree.corners()[static_cast<std::size_t>(at.triangle)];
            const Vec3 normal = Vec3((c[1] - c[0]).cross(c[2] - c[0])).normalized();
            const Vec3 off = middle - at.place;
            const bool beside_it = (off - normal * normal.dot(off)).norm() > beside * size;
            if (!beside_it && normal.dot(mesh.face_normal(f)) > as_along) out.push_back(f);
        }
        return out;
    }

    const SolidPart& part_;
    bool second_order_;
    const Model& run_;
    std::optional<Thickened> sheets_; // of shells
};

} // namespace

namespace {

// Of shells: what held the turning of an edge, held on a face of the part.
void hold_faces(const Study& study, SupportCard& support) {
    if (std::any_of(study.couplings.begin(), study.couplings.end(),
                    [&](const auto& c) { return refers_to(support.on, c.name); }))
        return;
    if (std::any_of(support.move.begin() + 3, support.move.end(), [](double turn) { return turn != 0.0; }))
        throw Error::input(
            support.place,
            "the support \"" + support.name +
                "\" turns shells by themselves, and nodes of the part have no rotations to turn",
            "Turn a [[coupling]] of them");
    std::fill(support.hold.begin() + 3, support.hold.end(), false);
}

} // namespace

Model build_part_model(const Study& study, const SolidPart& part, bool second_order, const Model& run) {
    Study own = study;
    const auto kind = std::make_shared<PartKind>(part, second_order, run);
    own.mesh.kind = kind;
    own.mesh.order = second_order ? 2 : 1;
    own.mesh.family = ElementFamily::Solid;
    if (run.mesh.shell())
        for (SupportCard& support : own.supports) hold_faces(own, support);
    Model out = build_model(own);
    // The kind refers to part and run, which need not live as long.
    out.made_by.kind = study.mesh.kind;
    return out;
}

std::vector<SurfaceLeft> surfaces_left(const Model& part, const Model& whole) {
    std::vector<SurfaceLeft> out;
    for (std::size_t s = 0; s < part.surfaces.size(); ++s)
        out.push_back({part.surfaces[s].name, part.surfaces[s].area, whole.surfaces[s].area});
    return out;
}

} // namespace upright
