#include "part/solid/mesh_space.hpp"

#include "base/error.hpp"
#include "geometry/facets.hpp"
#include "model/finished.hpp"

#include <algorithm>
#include <fmt/format.h>

namespace upright {

namespace {

constexpr double as_flat = 1e-3; // of the mesh's size: a face is a plane or a cylinder

class MeshDivider {
  public:
    MeshDivider(const Mesh& mesh, const Place& place) : mesh_(mesh), place_(place) {}

    SpaceTets run() {
        for (const Vec3& p : mesh_.nodes) tets_.add_point(p);
        for (std::size_t e = 0; e < mesh_.elements(); ++e) divide(static_cast<ElementId>(e));
        tets_.keep(std::vector<bool>(tets_.tets.size(), true)); // middles of edges go
        find_faces();
        return {std::move(tets_), SheetSet(std::move(sheets_), mesh_.size), 0.0};
    }

  private:
    void add(ElementId e, const std::array<std::int32_t, 4>& nodes) {
        tets_.add_tet(nodes, static_cast<std::int32_t>(index(mesh_.region[index(e)])));
        if (tets_.volume(tets_.tets.size() - 1) <= 0.0) {
            const Vec3& at = mesh_.center(e);
            throw Error::input(place_,
                               fmt::format("the element about ({:.5g}, {:.5g}, {:.5g}) is too bent to be cut "
                                           "into tetrahedra",
                                           at.x(), at.y(), at.z()),
                               "Mend the mesh there; of shells make them thinner, or their elements larger");
        }
    }

    void divide(ElementId e) {
        const NodeRange ids = mesh_.nodes_of(e);
        const auto node = [&](int i) { return static_cast<std::int32_t>(ids[static_cast<std::size_t>(i)]); };
        const ElementKind kind = first_order(mesh_.kind(e));
        if (kind == ElementKind::Tet4) {
            add(e, {node(0), node(1), node(2), node(3)});
            return;
        }
        const std::int32_t middle = tets_.add_point(mesh_.center(e));
        std::vector<std::array<std::int32_t, 4>> found;
        for (const std::vector<int>& side : traits(kind).sides) {
            std::vector<std::int32_t> ring;
            for (const int i : side) ring.push_back(node(i));
            std::rotate(ring.begin(), std::min_element(ring.begin(), ring.end()), ring.end());
            for (std::size_t i = 2; i < ring.size(); ++i)
                found.push_back({ring[0], ring[i], ring[i - 1], middle});
        }
        // The middle may lie on the wrong side of one that is twisted.
        const auto flat = [&](const std::array<std::int32_t, 4>& n) {
            std::array<Vec3, 4> p;
            for (std::size_t k = 0; k < 4; ++k) p[k] = tets_.points[static_cast<std::size_t>(n[k])];
            return tet_volume(p) <= 0.0;
        };
        if (kind == ElementKind::Wedge6 && std::any_of(found.begin(), found.end(), flat))
            return divide_wedge(e, node);
        for (const auto& tet : found) add(e, tet);
    }

    // Three without a middle, with the corner of the least number first: two sides are cut from it.
    template <class NodeOf> void divide_wedge(ElementId e, const NodeOf& node) {
        int least = 0;
        for (int i = 1; i < 6; ++i)
            if (node(i) < node(least)) least = i;
        std::array<std::int32_t, 6> n{};
        for (int k = 0; k < 3; ++k) {
            const int corner = least < 3 ? (least + k) % 3 : (least + 3 - k) % 3;
            n[static_cast<std::size_t>(k)] = node(least < 3 ? corner : corner + 3);
            n[static_cast<std::size_t>(k + 3)] = node(least < 3 ? corner + 3 : corner);
        }
        if (std::min(n[1], n[5]) < std::min(n[2], n[4])) {
            add(e, {n[0], n[1], n[2], n[5]});
            add(e, {n[0], n[1], n[5], n[4]});
        } else {
            add(e, {n[0], n[1], n[2], n[4]});
            add(e, {n[0], n[4], n[2], n[5]});
        }
        add(e, {n[0], n[4], n[5], n[3]});
    }

    // Those to the outside and those between regions.
    void find_faces() {
        const auto beyond = neighbours_of(tets_);
        FacetMesh outer;
        FacetMesh inner;
        outer.points = inner.points = tets_.points;
        for (std::size_t t = 0; t < beyond.size(); ++t)
            for (std::size_t side = 0; side < 4; ++side) {
                const std::int32_t o = beyond[t][side];
                if (o >= 0 && (static_cast<std::size_t>(o) < t ||
                               tets_.label[static_cast<std::size_t>(o)] == tets_.label[t]))
                    continue;
                std::array<std::int32_t, 3> face{};
                for (std::size_t k = 0; k < 3; ++k) face[k] = tets_.tets[t][tet_faces[side][k]];
                (o < 0 ? outer : inner).triangles.push_back(face);
            }
        for (FacetMesh* faces : {&outer, &inner}) {
            number_patches(*faces, sharp_in_file);
            const std::vector<std::int32_t> sheet =
                add_sheets_of(*faces, mesh_.size, as_flat * mesh_.size, sheets_);
            for (std::size_t t = 0; t < faces->triangles.size(); ++t)
                for (const std::int32_t n : faces->triangles[t])
                    tets_.put_on(n, sheet[static_cast<std::size_t>(faces->face_of[t])]);
        }
    }

    const Mesh& mesh_;
    Place place_;
    CutTets tets_;
    std::vector<Sheet> sheets_;
};

} // namespace

SpaceTets space_of_mesh(const Mesh& mesh, const Place& place) {
    return MeshDivider(mesh, place).run();
}

} // namespace upright
