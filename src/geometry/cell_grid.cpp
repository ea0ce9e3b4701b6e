#include "geometry/cell_grid.hpp"

#include <cmath>
#include <fmt/format.h>

namespace upright {

namespace {

constexpr double most_cells = 5e7;

Bounds solid_bounds(const Space& space) {
    Bounds out;
    for (const FieldRegion& region : space.regions.regions())
        if (const Shape* shape = std::get_if<Shape>(&region.extent);
            shape != nullptr && region.role != Role::Void)
            out.include(bounds(*shape));
    return out;
}

} // namespace

CellGrid make_cell_grid(const Space& space) {
    Bounds box = solid_bounds(space);
    if (box.empty())
        throw Error::input(space.where(), "no region has material and a shape of its own",
                           "Write a [[region]] with role = \"design\" or \"keep\" and a box, a cylinder, …");
    CellGrid grid;
    grid.plane = space.mesh.flat();
    for (const SymmetryPlane& plane : space.symmetry) {
        const int a = plane.axis;
        const double low = box.low[a];
        const double high = box.high[a];
        const double middle = 0.5 * (low + high);
        const double tolerance = 1e-6 * (high - low);
        const char letter = "xyz"[a];
        if (plane.at < low - tolerance || plane.at > high + tolerance)
            throw Error::input(
                plane.place,
                fmt::format("the symmetry plane {} = {:g} does not touch the body, which spans {:g} to {:g}",
                            letter, plane.at, low, high),
                "Put it on a side of the modelled part");
        // The larger side is modelled; of two equal ones the lower.
        const bool keep_high = plane.at < middle - tolerance;
        (keep_high ? box.low : box.high)[a] = plane.at;
        grid.symmetric[static_cast<std::size_t>(a)][keep_high ? 0 : 1] = true;
    }
    grid.origin = box.low;
    double cells = 1.0;
    for (int a = 0; a < grid.axes(); ++a) cells *= std::max(1.0, std::round(box.size()[a] / space.mesh.size));
    if (cells > most_cells)
        throw Error::input(space.mesh.place,
                           fmt::format("a cell size of {:g} {} makes {:.3g} cells", space.mesh.size,
                                       space.units.length, cells),
                           fmt::format("Write a larger size; {:.2g} makes about a hundred thousand",
                                       space.mesh.size * std::pow(cells / 1e5, 1.0 / grid.axes())));
    for (int a = 0; a < grid.axes(); ++a) {
        const double n = std::max(1.0, std::round(box.size()[a] / space.mesh.size));
        grid.count[static_cast<std::size_t>(a)] = static_cast<int>(n);
        grid.cell[a] = box.size()[a] / n;
    }
    if (grid.plane) {
        grid.count[2] = 1;
        grid.cell[2] = space.mesh.thickness;
    }
    if (cells < 2)
        throw Error::input(
            space.mesh.place,
            fmt::format("a cell size of {:g} {} leaves a single cell", space.mesh.size, space.units.length),
            fmt::format("The body measures {:g} x {:g} x {:g}; write a smaller size", box.size().x(),
                        box.size().y(), box.size().z()));
    return grid;
}

} // namespace upright
