// Meshes that are made, or read, before they are painted. All come finished, with regions still to be given.
#pragma once

#include "mesh/mesh_cells.hpp"

#include <filesystem>

namespace upright {

// Cells around the axis of a cylindrical frame, periodic in the angle: rings, sectors and layers, with lines
// at every coaxial radius and across every end of a coaxial shape, so that wheels and flanges are met
// exactly. Solid: hex8, wedge6 on the axis; plane or shell: quad4, tri3. Throws Error (Input) for absurd
// sizes and where no solid region lies about the axis.
Mesh make_polar_mesh(const Space& space);

// A shell of four-node cells on the lattice of a flat study, void cells included.
Mesh make_shell_mesh(const Space& space, const CellGrid& grid);

// A VTU file: linear and quadratic cells of the kinds served, and its arrays. With `sweep`, plane cells
// become solid ones. Throws Error (Input) for files that are broken, mixed, or of other kinds of cells.
struct FileMesh {
    Mesh mesh;
    MeshSets sets;
};
FileMesh read_mesh_file(const std::filesystem::path& file, const Place& place, double scale,
                        ElementFamily family);

// Plane cells swept along a way in layers: quad4 to hex8, tri3 to wedge6.
Mesh sweep(const Mesh& plane, const Vec3& along, int layers);

} // namespace upright
