#include "mesh/mesh_kind.hpp"

#include "mesh/mesh_cells.hpp"
#include "mesh/owned_mesh.hpp"

namespace upright {

MeshList mesh_kinds(const MeshList& more) {
    MeshList out{grid_kind(), polar_kind(), fitted_kind(), file_kind()};
    out.insert(out.end(), more.begin(), more.end());
    return out;
}

MadeMesh make_mesh(const Space& space) {
    // Languages are made of mesh kinds alone.
    return dynamic_cast<const MeshKind&>(*space.mesh.kind).make(space);
}

std::vector<PaintedCells> count_cells(const Space& space, const Painting& painting, const Cells& cells) {
    std::vector<PaintedCells> out(space.regions.size());
    for (std::size_t r = 0; r < out.size(); ++r) {
        PaintedCells& region = out[r];
        const std::vector<bool>& covered = painting.covered[r];
        for (std::size_t c = 0; c < covered.size(); ++c) {
            if (!covered[c]) continue;
            ++region.painted;
            if (space.regions[r].role == Role::Void) {
                for (std::size_t before = 0; before < r; ++before)
                    if (space.regions[before].role != Role::Void && painting.covered[before][c]) {
                        ++region.taken;
                        // Cells of a plane are as thick as the mesh until they are painted.
                        region.taken_volume +=
                            cells.volume(c) * (cells.plane() && !space.mesh.kind->from_file
                                                   ? space.regions[before].deep / space.mesh.thickness
                                                   : 1.0);
                        break;
                    }
            } else if (const RegionId owner = painting.owner[c]; owner != RegionId::None &&
                                                                 index(owner) > r &&
                                                                 space.regions[owner].role == Role::Void) {
                ++region.lost;
            }
        }
    }
    return out;
}

std::vector<std::vector<MeshFace>> picked_faces(const Painting& painting,
                                                const std::vector<std::int32_t>& number) {
    std::vector<std::vector<MeshFace>> out;
    for (const std::vector<CellFace>& list : painting.surfaces) {
        out.emplace_back();
        for (const CellFace& f : list) out.back().push_back({static_cast<ElementId>(number[f.cell]), f.side});
    }
    return out;
}

MadeMesh paint_mesh(const Space& space, Mesh raw, bool stairs, const MeshSets* sets) {
    MadeMesh out;
    Painting painting;
    {
        const MeshCells cells(raw, stairs, sets);
        painting = paint(space, cells);
        out.painted = count_cells(space, painting, cells);
    }
    out.surfaces = picked_faces(painting, keep_solid(raw, space, painting));
    out.regions = std::move(painting.regions);
    out.mesh = std::move(raw);
    return out;
}

void pick_on_owned(const Space& space, MadeMesh& made) {
    const Mesh& mesh = made.mesh;
    Painting painting;
    painting.regions = made.regions;
    painting.owner = mesh.region;
    for (std::size_t r = 0; r < made.regions.size(); ++r) {
        // What another region took over since lies in it all the same.
        std::vector<bool> covered(mesh.elements(), false);
        if (made.regions[r].role != Role::Void)
            for (std::size_t e = 0; e < covered.size(); ++e)
                covered[e] = mesh.region[e] == static_cast<RegionId>(r) ||
                             made.regions.distance(r, mesh.center(e)) <= 0.0;
        painting.covered.push_back(std::move(covered));
    }
    const MeshCells cells(mesh, false);
    pick_surfaces(space, cells, painting);
    made.painted = count_cells(space, painting, cells);
    std::vector<std::int32_t> number(mesh.elements());
    for (std::size_t e = 0; e < number.size(); ++e) number[e] = static_cast<std::int32_t>(e);
    made.surfaces = picked_faces(painting, number);
}

} // namespace upright
