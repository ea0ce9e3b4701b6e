// Tetrahedra (in the plane triangles) that follow the shapes of regions.
#include "mesh/fitted_mesh.hpp"
#include "mesh/mesh_cells.hpp"
#include "mesh/mesh_kind.hpp"
#include "mesh/owned_mesh.hpp"
#include "study/language.hpp"

#include <algorithm>
#include <fmt/format.h>

namespace upright {

namespace {

// Layers under surfaces can only be found on the mesh: elements of which half lies within the depth of the
// picked faces. None elsewhere, as painting in order has them.
std::vector<RegionId> surface_layers(const Space& space, const Mesh& mesh, RegionField& regions) {
    const MeshCells cells(mesh, false);
    Painting painting = paint(space, cells);
    std::vector<RegionId> out = std::move(painting.owner);
    for (RegionId& r : out)
        if (r != RegionId::None && !painting.regions.extents().skins[index(r)]) r = RegionId::None;
    regions = std::move(painting.regions);
    return out;
}

bool has_surface_layers(const RegionField& regions) {
    return std::any_of(regions.regions().begin(), regions.regions().end(),
                       [](const FieldRegion& region) { return !region.on_surfaces.empty(); });
}

// The mesh comes with its regions; what else painting tells is asked of the elements' middles.
MadeMesh make_fitted(const Space& space) {
    MadeMesh out;
    out.regions = space.regions;
    FittedMesh fitted = make_fitted_mesh(space);
    out.mesh = std::move(fitted.mesh);
    out.remarks = std::move(fitted.remarks);
    if (has_surface_layers(space.regions)) {
        const std::vector<RegionId> layers = surface_layers(space, out.mesh, out.regions);
        std::vector<std::size_t> count(out.regions.size(), 0);
        for (std::size_t e = 0; e < layers.size(); ++e)
            if (layers[e] != RegionId::None) {
                out.mesh.region[e] = layers[e];
                ++count[index(layers[e])];
            }
        for (std::size_t r = 0; r < count.size(); ++r)
            if (count[r] > 0)
                out.remarks.push_back(
                    fmt::format("the layer \"{}\" under a surface takes whole elements: its "
                                "inner border is no smooth face",
                                out.regions[r].name));
    }
    pick_on_owned(space, out);
    return out;
}

class Fitted final : public MeshKind {
  public:
    Fitted() {
        word = "fitted";
        called = "fitted meshes";
        says =
            "tet4 or tet10 that follow the shapes, in the plane and for flat shells tri3 or tri6; finer "
            "where "
            "they bend, where walls and gaps are thin and inside `[[mesh.refine]]` cards. Wedges, walls "
            "thinner than the least element and narrow faces of CAD are meshed as well as they can be, and "
            "`check` says where and how well; bodies a hair apart are refused. Void and design, keep and "
            "design meet at faces. A layer under a surface takes whole elements, those of which half lies "
            "within its depth. Cutting regions into bodies of triangles, and skins of skins, need a grid";
        const auto fitted_only = [](Key<MeshCard> k) {
            return std::move(k).elsewhere(k.facts.name + " belongs to fitted meshes",
                                          "Write kind = \"fitted\"");
        };
        keys = {
            mesh_size_key(),
            fitted_only(key("curvature", value::quantity(dimension::angle).above(0), &MeshCard::curvature)
                            .fallback("25 degrees, of triangles 20")
                            .example("curvature = \"15 deg\"")
                            .says("of a round face, or in the plane of a border, that an element may span")),
            fitted_only(key("smallest", value::quantity(dimension::length).above(0), &MeshCard::smallest)
                            .fallback("0.15 of size, of triangles 0.05")
                            .example("smallest = \"0.5 mm\"")
                            .says("element that curvature may ask for")),
            key<MeshCard>("refine", {value::list(value::table(refine_facts))}, [](MeshCard&, const Given&) {})
                .elsewhere("refine belongs to fitted meshes", "Write kind = \"fitted\"")
                .example("[[mesh.refine]]")
                .says("finer elements somewhere")};
        follows_shapes = leaves_out_voids = true;
    }

    MadeMesh make(const Space& space) const override { return make_fitted(space); }
};

} // namespace

std::shared_ptr<const MeshKind> fitted_kind() {
    return std::make_shared<Fitted>();
}

} // namespace upright
