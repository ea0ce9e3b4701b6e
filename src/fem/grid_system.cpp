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
    if (mesh.polar.given()) {
        if (mesh.dimension() != 3 || mesh.shell()) return "of polar meshes it serves solid ones alone";
        if (!classes.round()) return "its material does not look the same from every angle";
        for (const ElementKind kind : mesh.kinds)
            if (kind != ElementKind::Hex8) return "the body has material on its axis";
        return {};
    }
    if (!mesh.on_grid()) return "the mesh is not a lattice of cells";
    const ElementKind kind = mesh.kinds.front();
    if (kind != ElementKind::Hex8 && kind != ElementKind::Quad4) return "it serves hex8 and quad4 alone";
    if (classes.example.size() > most_kinds) return "its material turns from place to place";
    return {};
}

namespace {

// How the cells of a mesh lie on the lattice of the multigrid.
class Lattice {
  public:
    explicit Lattice(const Mesh& mesh) : mesh_(mesh), solid_(mesh.dimension() == 3) {
        if (!mesh.polar.given()) {
            cells_ = mesh.grid.count;
            if (!solid_) cells_[2] = 1;
            return;
        }
        // The ring is the last axis; along the first, where nodes are stored by sixteens, the fewer are
        // wasted the better.
        ring_ = true;
        const int rings = mesh.polar.count[0];
        const int layers = mesh.polar.count[2];
        const auto wasted = [](int cells) { return static_cast<double>(cells / 16 * 16 + 16) / (cells + 1); };
        swapped_ = wasted(layers) < wasted(rings);
        cells_ = {swapped_ ? layers : rings, swapped_ ? rings : layers, mesh.polar.count[1]};
    }
    const std::array<int, 3>& cells() const { return cells_; }
    bool ring() const { return ring_; }
    std::array<int, 3> cell(ElementId e) const {
        if (!ring_) return mesh_.grid.indices(mesh_.cell_of[index(e)]);
        const std::array<int, 3> at = mesh_.polar.indices(mesh_.polar.cell_of[index(e)]);
        return swapped_ ? std::array<int, 3>{at[2], at[0], at[1]} : std::array<int, 3>{at[0], at[2], at[1]};
    }
    // The corner of a lattice cell, x first, where an element's node lies.
    int corner(std::size_t node_of_element) const {
        const int own = corner_of[node_of_element];
        if (!ring_) return own;
        const int radial = own & 1;
        const int around = (own >> 1) & 1;
        const int up = own >> 2;
        return (swapped_ ? up : radial) | (swapped_ ? radial : up) << 1 | around << 2;
    }
    std::size_t cell_number(const std::array<int, 3>& at) const { return number(at, cells_[0], cells_[1]); }
    std::size_t node(const std::array<int, 3>& cell, int corner) const {
        std::array<int, 3> at{cell[0] + (corner & 1), cell[1] + ((corner >> 1) & 1), cell[2] + (corner >> 2)};
        if (!solid_) at[2] = 0;
        if (ring_) at[2] %= cells_[2];
        return number(at, cells_[0] + 1, cells_[1] + 1);
    }

  private:
    static std::size_t number(const std::array<int, 3>& at, int nx, int ny) {
        return (static_cast<std::size_t>(at[2]) * static_cast<std::size_t>(ny) +
                static_cast<std::size_t>(at[1])) *
                   static_cast<std::size_t>(nx) +
               static_cast<std::size_t>(at[0]);
    }
    const Mesh& mesh_;
    bool solid_ = true, ring_ = false, swapped_ = false;
    std::array<int, 3> cells_{};
};

} // namespace

GridSystem make_grid_system(const Model& model, const Transform& transform, const ShapeClasses& classes,
                            const ClassMatrices& matrices) {
    const Mesh& mesh = model.mesh;
    const Lattice lattice(mesh);
    GridSystem out;
    out.dimension = mesh.dimension();
    out.cells = lattice.cells();
    out.ring = lattice.ring();
    out.turns = classes.turns;
    out.turn_of = classes.turn_of;
    out.unknowns = transform.unknowns();
    const auto d = static_cast<std::size_t>(out.dimension);
    const std::size_t corners = std::size_t{1} << d;
    for (const Eigen::MatrixXd& matrix : matrices.kept()) {
        Eigen::MatrixXd turned(matrix.rows(), matrix.cols());
        const auto w = static_cast<Eigen::Index>(d);
        for (std::size_t a = 0; a < corners; ++a)
            for (std::size_t b = 0; b < corners; ++b)
                turned.block(w * lattice.corner(a), w * lattice.corner(b), w, w) =
                    matrix.block(w * static_cast<Eigen::Index>(a), w * static_cast<Eigen::Index>(b), w, w);
        out.kinds.push_back(std::move(turned));
    }
    out.kind_of.assign(classes.of.begin(), classes.of.end());

    // The element of each cell, and the mesh node of each lattice node.
    out.element_of.assign(static_cast<std::size_t>(out.cells[0]) * static_cast<std::size_t>(out.cells[1]) *
                              static_cast<std::size_t>(out.cells[2]),
                          -1);
    std::vector<std::int32_t> node_at(out.lattice_nodes(), -1);
    for (std::size_t e = 0; e < mesh.elements(); ++e) {
        const std::array<int, 3> cell = lattice.cell(static_cast<ElementId>(e));
        out.element_of[lattice.cell_number(cell)] = static_cast<std::int32_t>(e);
        const NodeRange ids = mesh.nodes_of(static_cast<ElementId>(e));
        for (std::size_t i = 0; i < corners; ++i)
            node_at[lattice.node(cell, lattice.corner(i))] = static_cast<std::int32_t>(index(ids[i]));
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
