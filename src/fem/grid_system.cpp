#include "fem/grid_system.hpp"

#include <algorithm>
#include <array>

namespace upright {

namespace {

// The place of each of an element's nodes among the corners of a cell counted x first.
constexpr std::array<int, 8> corner_of{0, 1, 3, 2, 4, 5, 7, 6};
constexpr std::size_t most_kinds = 64;

} // namespace

std::string unfit_for_grid(const Model& model, const ShapeClasses& classes) {
    const Mesh& mesh = model.mesh;
    if (!mesh.on_grid()) return "the mesh is not a grid of box cells";
    const ElementKind kind = mesh.kinds.front();
    if (kind != ElementKind::Hex8 && kind != ElementKind::Quad4) return "it serves hex8 and quad4 alone";
    if (classes.example.size() > most_kinds) return "its material turns from place to place";
    return {};
}

GridSystem make_grid_system(const Model& model, const Transform& transform, const ShapeClasses& classes,
                            const std::vector<const Eigen::MatrixXd*>& matrices) {
    const Mesh& mesh = model.mesh;
    GridSystem out;
    out.dimension = mesh.dimension();
    out.cells = mesh.grid.count;
    if (out.dimension == 2) out.cells[2] = 1;
    out.element_of = mesh.element_of;
    out.unknowns = transform.unknowns();
    const auto d = static_cast<std::size_t>(out.dimension);
    const std::size_t corners = std::size_t{1} << d;
    for (const Eigen::MatrixXd* matrix : matrices) {
        Eigen::MatrixXd turned(matrix->rows(), matrix->cols());
        const auto w = static_cast<Eigen::Index>(d);
        for (std::size_t a = 0; a < corners; ++a)
            for (std::size_t b = 0; b < corners; ++b)
                turned.block(w * corner_of[a], w * corner_of[b], w, w) =
                    matrix->block(w * static_cast<Eigen::Index>(a), w * static_cast<Eigen::Index>(b), w, w);
        out.kinds.push_back(std::move(turned));
    }
    out.kind_of.assign(classes.of.begin(), classes.of.end());

    // The lattice node of each mesh node.
    const auto nx = static_cast<std::size_t>(out.nodes(0));
    const auto ny = static_cast<std::size_t>(out.nodes(1));
    std::vector<std::int32_t> node_at(out.lattice_nodes(), -1);
    for (std::size_t e = 0; e < mesh.elements(); ++e) {
        const auto ijk = mesh.grid.indices(mesh.cell_of[e]);
        const NodeRange ids = mesh.nodes_of(static_cast<ElementId>(e));
        for (std::size_t i = 0; i < corners; ++i) {
            const auto corner = static_cast<std::size_t>(corner_of[i]);
            const std::size_t k = d == 3 ? static_cast<std::size_t>(ijk[2]) + (corner >> 2) : 0;
            const std::size_t j = static_cast<std::size_t>(ijk[1]) + ((corner >> 1) & 1);
            node_at[(k * ny + j) * nx + static_cast<std::size_t>(ijk[0]) + (corner & 1)] =
                static_cast<std::int32_t>(index(ids[i]));
        }
    }
    out.unknown_of.assign(node_at.size() * d, GridSystem::held);
    for (std::size_t n = 0; n < node_at.size(); ++n) {
        if (node_at[n] < 0) continue;
        for (std::size_t c = 0; c < d; ++c) {
            const std::size_t freedom = model.freedom(static_cast<NodeId>(node_at[n]), static_cast<int>(c));
            std::int32_t& unknown = out.unknown_of[n * d + c];
            if (!transform.dependent(freedom)) {
                unknown = transform.unknown_of(freedom);
                continue;
            }
            if (transform.terms(freedom).empty()) continue;
            unknown = GridSystem::dependent;
            out.dependents.push_back(n * d + c);
            for (const Term& term : transform.terms(freedom))
                out.shares.push_back({static_cast<std::int32_t>(term.freedom), term.factor});
            out.starts.push_back(out.shares.size());
        }
    }
    for (std::size_t f = model.node_freedoms(); f < model.freedoms(); ++f)
        if (!transform.dependent(f)) out.beyond.push_back(transform.unknown_of(f));
    std::sort(out.beyond.begin(), out.beyond.end());
    return out;
}

} // namespace upright
