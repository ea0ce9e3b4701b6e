// Box cells on a lattice.
#include "mesh/generators.hpp"
#include "mesh/mesh_kind.hpp"

namespace upright {

namespace {

class Grid final : public MeshKind {
  public:
    Grid() {
        word = "grid";
        called = "a grid";
        says = "box cells, stretched a little so that a whole number fits the body's box: hex8, hex20, "
               "quad4, quad8, "
               "flat shells of quad4";
        keys = {mesh_size_key()};
    }

    MadeMesh make(const Space& space) const override {
        if (space.mesh.shell()) return paint_mesh(space, make_shell_mesh(space, make_cell_grid(space)), true);
        Painting painting = paint(space, make_cell_grid(space));
        MadeMesh out;
        out.mesh = make_grid_mesh(space, painting);
        out.painted = count_cells(space, painting, GridCells(painting.grid));
        out.surfaces = picked_faces(painting, out.mesh.element_of);
        out.regions = std::move(painting.regions);
        return out;
    }
};

} // namespace

std::shared_ptr<const MeshKind> grid_kind() {
    return std::make_shared<Grid>();
}

} // namespace upright
