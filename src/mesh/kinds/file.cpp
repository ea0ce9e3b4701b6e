// A mesh that was made elsewhere.
#include "mesh/generators.hpp"
#include "mesh/mesh_kind.hpp"

#include <fmt/format.h>

namespace upright {

namespace {

using Sweep = MeshCard::Sweep;

const Schema<Sweep>& sweep_schema() {
    static const Schema<Sweep> out = schema<Sweep>(
        "sweep", "a plane mesh made solid",
        {key("along", value::three(dimension::length), &Sweep::along)
             .must("along = [0, 0, 40]")
             .says("the whole way"),
         key("layers", value::whole(1), &Sweep::layers).must("layers = 5").says("of elements along it")},
        [](Sweep& s, const CardReader& reader) {
            if (s.along.norm() == 0.0) throw Error::input(reader.place(), "the sweep has no length");
        });
    return out;
}

// Symmetry planes of a mesh that was made elsewhere: they must lie on its boundary.
void add_cuts(Mesh& mesh, const Space& space) {
    for (const SymmetryPlane& plane : space.symmetry) {
        const double low = mesh.bounds.low[plane.axis];
        const double high = mesh.bounds.high[plane.axis];
        const double slack = 1e-6 * mesh.bounds.diagonal();
        const bool at_low = std::abs(plane.at - low) < slack;
        if (!at_low && std::abs(plane.at - high) > slack)
            throw Error::input(
                plane.place,
                fmt::format("the symmetry plane {} = {:g} is no side of the mesh, which spans {:g} to {:g}",
                            "xyz"[plane.axis], plane.at, low, high),
                "A mesh from a file is taken as it is: it must be the modelled part");
        mesh.symmetry.push_back({plane.axis, at_low ? low : high, !at_low});
    }
}

// Values of a plane mesh for each of its layers, or planes of nodes.
void repeat(std::map<std::string, std::vector<double>>& arrays, std::size_t times) {
    for (auto& [name, values] : arrays) {
        const std::vector<double> one = values;
        for (std::size_t k = 1; k < times; ++k) values.insert(values.end(), one.begin(), one.end());
    }
}

class File final : public MeshKind {
  public:
    File() {
        using M = MeshCard;
        word = "file";
        called = "a mesh from a file";
        says = "a VTU file; regions by `cells`, surfaces by `set` or any rule; `element` tells solids, plane "
               "cells and "
               "shells. The part of solids is cut from the elements themselves";
        keys = {key<M>("file", {value::path("a VTU file")},
                       [](M& m, const Given& g) { m.file = g.card.path(g.node); })
                    .must("file = \"wheel.vtu\"")
                    .says("the mesh"),
                key("file_unit", value::quantity(dimension::length).above(0), &M::file_scale)
                    .fallback("the study's")
                    .example("file_unit = \"1 m\"")
                    .says("length of one unit of the file"),
                table_key("sweep", sweep_schema, &M::sweep, facts_of<Sweep, sweep_schema>)
                    .example("sweep = { along = [0, 0, 40], layers = 5 }")
                    .says("makes solids of a plane mesh")};
        from_file = true;
        refinable = second_order = false;
    }

    MadeMesh make(const Space& space) const override {
        const std::optional<Sweep>& swept = space.mesh.sweep;
        FileMesh file = read_mesh_file(*space.mesh.file, space.mesh.place, space.mesh.file_scale,
                                       swept ? ElementFamily::PlaneStress : space.mesh.family);
        if (swept) {
            const auto layers = static_cast<std::size_t>(swept->layers);
            file.mesh = sweep(file.mesh, swept->along, swept->layers);
            repeat(file.sets.cells, layers);
            repeat(file.sets.points, layers + 1);
        }
        add_cuts(file.mesh, space);
        return paint_mesh(space, std::move(file.mesh), false, &file.sets);
    }
};

} // namespace

std::shared_ptr<const MeshKind> file_kind() {
    return std::make_shared<File>();
}

} // namespace upright
