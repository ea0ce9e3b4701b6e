#include "mesh/generators.hpp"

#include "base/sensible.hpp"
#include "mesh/vtu_file.hpp"

#include <vtkCellType.h>

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <fstream>
#include <limits>
#include <stdexcept>

namespace upright {

namespace {

constexpr std::size_t most = std::numeric_limits<std::int32_t>::max();

// The kind of a file's cell in a study of the family; nothing for other cells.
std::optional<ElementKind> kind_of(int type, ElementFamily family) {
    const bool shell = family == ElementFamily::Shell;
    switch (type) {
    case VTK_TRIANGLE:
        return shell ? ElementKind::ShellTri3 : ElementKind::Tri3;
    case VTK_QUAD:
        return shell ? ElementKind::ShellQuad4 : ElementKind::Quad4;
    case VTK_QUADRATIC_TRIANGLE:
        return shell ? std::nullopt : std::optional(ElementKind::Tri6);
    case VTK_QUADRATIC_QUAD:
        return shell ? std::nullopt : std::optional(ElementKind::Quad8);
    case VTK_TETRA:
        return ElementKind::Tet4;
    case VTK_QUADRATIC_TETRA:
        return ElementKind::Tet10;
    case VTK_WEDGE:
        return ElementKind::Wedge6;
    case VTK_HEXAHEDRON:
        return ElementKind::Hex8;
    case VTK_QUADRATIC_HEXAHEDRON:
        return ElementKind::Hex20;
    default:
        return {};
    }
}

// Of the arrays of a file those with one number each; the others are named with how many they have.
std::map<std::string, std::vector<double>> sets_of(std::map<std::string, VtuArray>& arrays,
                                                   std::map<std::string, int>& vectors) {
    std::map<std::string, std::vector<double>> out;
    for (auto& [name, array] : arrays)
        if (array.components == 1)
            out[name] = std::move(array.values);
        else
            vectors[name] = array.components;
    return out;
}

double signed_size(const Mesh& mesh, const std::vector<NodeId>& ids, ElementKind kind) {
    Eigen::VectorXd N;
    Eigen::MatrixXd G;
    interpolate(kind, natural_center(kind), N, G);
    Eigen::MatrixXd x(3, static_cast<Eigen::Index>(ids.size()));
    for (std::size_t i = 0; i < ids.size(); ++i)
        x.col(static_cast<Eigen::Index>(i)) = mesh.nodes[index(ids[i])];
    const Eigen::MatrixXd J = x * G.transpose();
    if (traits(kind).dimension == 3) return J.topLeftCorner(3, 3).determinant();
    if (traits(kind).shell) return 1.0;
    return J(0, 0) * J(1, 1) - J(0, 1) * J(1, 0);
}

// The same cell with its sense turned.
std::vector<NodeId> turned(const std::vector<NodeId>& n, ElementKind kind) {
    const auto pick = [&](std::initializer_list<std::size_t> order) {
        std::vector<NodeId> out;
        for (const std::size_t i : order) out.push_back(n[i]);
        return out;
    };
    switch (kind) {
    case ElementKind::Tri3:
        return pick({0, 2, 1});
    case ElementKind::Tri6:
        return pick({0, 2, 1, 5, 4, 3});
    case ElementKind::Quad4:
        return pick({0, 3, 2, 1});
    case ElementKind::Quad8:
        return pick({0, 3, 2, 1, 7, 6, 5, 4});
    case ElementKind::Tet4:
        return pick({0, 2, 1, 3});
    case ElementKind::Tet10:
        return pick({0, 2, 1, 3, 6, 5, 4, 7, 9, 8});
    case ElementKind::Wedge6:
        return pick({0, 2, 1, 3, 5, 4});
    case ElementKind::Hex8:
        return pick({0, 3, 2, 1, 4, 7, 6, 5});
    case ElementKind::Hex20:
        return pick({0, 3, 2, 1, 4, 7, 6, 5, 11, 10, 9, 8, 15, 14, 13, 12, 16, 19, 18, 17});
    default:
        return n;
    }
}

} // namespace

FileMesh read_mesh_file(const std::filesystem::path& file, const Place& place, double scale,
                        ElementFamily family) {
    const Place at = place.file.empty() ? Place{file.string()} : place;
    if (!std::ifstream(file)) throw Error::input(at, file.string() + " cannot be read");
    VtuFile grid;
    try {
        grid = read_vtu_file(file, [](const std::string&, int components) { return components == 1; });
    } catch (const std::runtime_error& bad) {
        const std::string why = bad.what();
        const bool about = why.rfind("is ", 0) == 0 || why.rfind("has ", 0) == 0; // the file
        throw Error::input(at, file.string() + (about ? " " : ": ") + why,
                           "Write it again, as an unstructured grid (.vtu)");
    }
    if (grid.cells() == 0)
        throw Error::input(at, file.string() + " holds no cells", "Write it as an unstructured grid (.vtu)");
    if (grid.connectivity.size() > most || grid.points.size() > most)
        throw Error::input(at, file.string() + " holds more than 2147483647 points");
    FileMesh out;
    for (std::size_t i = 0; i < grid.points.size(); ++i) {
        const Vec3 p = scale * grid.points[i];
        if (!is_place(p))
            throw Error::input(at, fmt::format("point {} of {} is at ({:g}, {:g}, {:g}), which is no place",
                                               i, file.string(), p.x(), p.y(), p.z()));
        out.mesh.nodes.push_back(p);
    }
    out.sets.cells = sets_of(grid.at_cells, out.sets.cell_vectors);
    out.sets.points = sets_of(grid.at_points, out.sets.point_vectors);
    std::vector<std::size_t> taken;
    const int wanted = family == ElementFamily::Solid ? 3 : 2;
    std::map<std::string, std::size_t> others;
    double edges = 0.0;
    std::size_t edge_count = 0;
    for (std::size_t c = 0; c < grid.cells(); ++c) {
        const std::optional<ElementKind> kind = kind_of(grid.types[c], family);
        if (!kind || traits(*kind).dimension != wanted) {
            ++others[kind ? traits(*kind).name : fmt::format("VTK type {}", grid.types[c])];
            continue;
        }
        std::vector<NodeId> ids;
        for (auto k = grid.starts[c]; k < grid.starts[c + 1]; ++k)
            ids.push_back(static_cast<NodeId>(grid.connectivity[static_cast<std::size_t>(k)]));
        if (ids.size() != static_cast<std::size_t>(traits(*kind).nodes))
            throw Error::input(at,
                               fmt::format("cell {} of {} is a {} with {} points", c, file.string(),
                                           traits(*kind).name, ids.size()),
                               fmt::format("It needs {}", traits(*kind).nodes));
        if (signed_size(out.mesh, ids, *kind) < 0.0) ids = turned(ids, *kind);
        for (int k = 0; k + 1 < traits(*kind).corners; ++k) {
            edges += (out.mesh.nodes[index(ids[static_cast<std::size_t>(k)])] -
                      out.mesh.nodes[index(ids[static_cast<std::size_t>(k) + 1])])
                         .norm();
            ++edge_count;
        }
        out.mesh.add(*kind, ids, RegionId::None);
        taken.push_back(static_cast<std::size_t>(c));
    }
    if (taken.empty()) {
        std::string list;
        for (const auto& [name, count] : others)
            list += fmt::format("{}{} {}", list.empty() ? "" : ", ", count, name);
        throw Error::input(
            at, file.string() + " holds no " + (wanted == 3 ? "solid" : "plane") + " cells but " + list,
            wanted == 3 ? "Write element = \"shell\", or sweep = { along, layers }"
                        : "Write element = \"solid\"");
    }
    for (auto& [name, values] : out.sets.cells) {
        std::vector<double> kept;
        for (const std::size_t c : taken) kept.push_back(values[c]);
        values = std::move(kept);
    }
    out.mesh.size = edges / static_cast<double>(edge_count);
    if (wanted == 2) out.mesh.thickness.assign(taken.size(), 1.0);
    // The point arrays must follow the nodes when unused ones are dropped.
    std::vector<bool> used(out.mesh.nodes.size(), false);
    for (const NodeId n : out.mesh.connectivity) used[index(n)] = true;
    for (auto& [name, values] : out.sets.points) {
        std::vector<double> kept;
        for (std::size_t i = 0; i < used.size(); ++i)
            if (used[i]) kept.push_back(values[i]);
        values = std::move(kept);
    }
    drop_unused_nodes(out.mesh);
    try {
        out.mesh.finish();
    } catch (const Error& bad) {
        throw Error::input(at, file.string() + ": " + bad.what());
    }
    return out;
}

} // namespace upright
