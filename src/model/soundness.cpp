#include "model/soundness.hpp"

#include "base/sensible.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <limits>

namespace upright {

namespace {

constexpr std::size_t most_numbers = std::numeric_limits<std::int32_t>::max();

// Asked of every node and element: words are put together only where it does not hold.
void require(bool holds, const char* wrong, const char* where = nullptr) {
    if (!holds) throw Damage(where == nullptr ? wrong : fmt::format("{}, in {}", wrong, where));
}

void require_nodes(const Mesh& mesh, NodeRange nodes, const char* where) {
    for (const NodeId n : nodes)
        require(static_cast<std::int64_t>(n) >= 0 && index(n) < mesh.nodes.size(), "a node that is not there",
                where);
}
NodeRange range(const std::vector<NodeId>& nodes) {
    return {nodes.data(), nodes.data() + nodes.size()};
}

void require_elements(const Mesh& mesh) {
    const std::size_t count = mesh.elements();
    require(count > 0 && mesh.nodes.size() <= most_numbers && mesh.connectivity.size() <= most_numbers,
            "no elements, or too many");
    for (const Vec3& p : mesh.nodes) require(is_place(p), "a node that has no place, in mesh/nodes");
    require((mesh.starts.empty() || mesh.starts.size() == count + 1) && mesh.start(0) == 0 &&
                mesh.start(count) == mesh.connectivity.size(),
            "elements without nodes, in mesh/start");
    for (const ElementKind kind : mesh.kinds)
        require(static_cast<int>(kind) < element_kinds, "a kind of element that is not known, in mesh/kind");
    const KindTraits& first = traits(mesh.kinds.front());
    for (std::size_t e = 0; e < count; ++e) {
        const KindTraits& t = traits(mesh.kinds[e]);
        require(t.space == first.space && t.shell == first.shell,
                "plane, shell and solid elements side by side, in mesh/kind");
        require(mesh.start(e + 1) == mesh.start(e) + static_cast<std::size_t>(t.nodes),
                "an element with too many or too few nodes, in mesh/start");
    }
    require_nodes(mesh, range(mesh.connectivity), "mesh/connectivity");
    require(mesh.region.size() == count, "not as many regions as elements, in mesh/region");
    const bool thick = first.space == 2 || first.shell;
    require(mesh.thickness.size() == (thick ? count : 0), "not as many thicknesses as elements");
    for (const double t : mesh.thickness)
        require(t > 0.0 && t <= largest_number, "a thickness that none has");
    require(mesh.size > 0.0 && mesh.size <= largest_number, "a size of elements that none has");
    require(mesh.symmetry.size() <= 3, "too many planes of symmetry");
    for (const SymmetryCut& c : mesh.symmetry) {
        require(c.axis >= 0 && c.axis < first.space && std::abs(c.at) <= largest_number,
                "a plane of symmetry that is none, in mesh/symmetry");
        for (const SymmetryCut& other : mesh.symmetry)
            require(&c == &other || c.axis != other.axis, "a plane of symmetry twice, in mesh/symmetry");
    }
}

// The cells of a lattice, one an element, each once.
void require_cells(const std::vector<std::uint32_t>& cell_of, std::size_t elements,
                   const std::array<int, 3>& count, const char* where) {
    std::size_t cells = 1;
    for (const int n : count) {
        require(n > 0, "a lattice without cells", where);
        require(cells <= most_numbers / static_cast<std::size_t>(n), "a lattice that is too large", where);
        cells *= static_cast<std::size_t>(n);
    }
    require(cell_of.size() == elements, "not as many cells as elements", where);
    std::vector<bool> taken(cells, false);
    for (const std::size_t c : cell_of) {
        require(c < cells && !taken[c], "a cell that is not there, or is there twice", where);
        taken[c] = true;
    }
}

void require_lattice(const Mesh& mesh) {
    const CellGrid& grid = mesh.grid;
    require_cells(mesh.cell_of, mesh.elements(), grid.count, "mesh/grid");
    require(is_place(grid.origin) && is_place(grid.cell) && grid.cell.minCoeff() > 0.0 &&
                grid.plane == (mesh.dimension() == 2) && (!grid.plane || grid.count[2] == 1),
            "cells of no size, in mesh/grid");
    const int axes = grid.axes();
    for (std::size_t e = 0; e < mesh.elements(); ++e) {
        const auto id = static_cast<ElementId>(e);
        require(mesh.kinds[e] == mesh.kinds.front() &&
                    (mesh.shell() || traits(mesh.kinds[e]).corners == (grid.plane ? 4 : 8)),
                "elements of several kinds on one lattice, in mesh/kind");
        if (mesh.shell()) continue;
        const Vec3 middle = grid.center(mesh.cell_of[e]);
        for (const NodeId n : mesh.nodes_of(id)) {
            const Vec3 off = mesh.nodes[index(n)] - middle;
            for (int a = 0; a < axes; ++a) {
                const double steps = 2.0 * off[a] / grid.cell[a]; // a corner, or the middle of an edge
                require(std::abs(steps - std::round(steps)) < 1e-3 && std::abs(steps) < 1.5,
                        "a node beside its cell, in mesh/nodes");
            }
        }
    }
}

void require_terms(const std::vector<Term>& terms, std::size_t freedoms, const char* where) {
    for (const Term& t : terms)
        require(t.freedom < freedoms && std::isfinite(t.factor), "a displacement that is not there", where);
}

void require_equations(const std::vector<Equation>& equations, std::size_t freedoms, const char* where) {
    for (const Equation& e : equations) {
        require(!e.terms.empty() && std::isfinite(e.value), "an equation without terms", where);
        require_terms(e.terms, freedoms, where);
        const double largest =
            std::abs(std::max_element(e.terms.begin(), e.terms.end(), [](const Term& a, const Term& b) {
                         return std::abs(a.factor) < std::abs(b.factor);
                     })->factor);
        require(largest > 0.0 && largest <= largest_number, "an equation that says nothing", where);
    }
}

void require_freedoms(const std::vector<std::size_t>& list, std::size_t freedoms, const char* where) {
    for (const std::size_t f : list) require(f < freedoms, "a displacement that is not there", where);
}

bool is_share(double nu) {
    return nu > -1.0 && nu < 0.5;
}

void require_materials(const Model& model) {
    for (const Material& m : model.materials) {
        const bool good = m.E > 0.0 && m.E <= largest_number && m.density >= 0.0 &&
                          m.density <= largest_number && (m.orthotropic || is_share(m.nu));
        require(good, "a material that none is, in materials");
        for (const std::optional<double>& strength : {m.yield, m.ultimate})
            require(!strength || (*strength > 0.0 && *strength <= largest_number),
                    "a strength that none has, in materials");
        if (!m.orthotropic) continue;
        const Orthotropic& o = *m.orthotropic;
        require(o.E.minCoeff() > 0.0 && is_place(o.E) && o.G.minCoeff() > 0.0 && is_place(o.G) &&
                    is_place(o.nu) && is_place(o.frame.origin) &&
                    (o.frame.axes.transpose() * o.frame.axes).isIdentity(1e-6),
                "an orthotropic material that none is, in materials");
    }
}

void require_regions(const Model& model) {
    require(!model.regions.empty() && model.regions.size() < 32768, "no regions, or too many");
    for (const ModelRegion& r : model.regions) {
        require(r.role == Role::Design || r.role == Role::Keep || r.role == Role::Void,
                "a role that is not known, in regions/role");
        const auto m = static_cast<std::int64_t>(r.material);
        require(m >= -1 && m < static_cast<std::int64_t>(model.materials.size()) &&
                    (r.role == Role::Void || m >= 0),
                "a material that is not there, in regions/material");
    }
    for (const RegionId id : model.mesh.region) {
        const auto r = static_cast<std::int64_t>(id);
        require(r >= 0 && r < static_cast<std::int64_t>(model.regions.size()) &&
                    model.regions[static_cast<std::size_t>(r)].material != MaterialId::None,
                "a region that is not there, or a void one, in mesh/region");
    }
}

void require_places(const Model& model) {
    const Mesh& mesh = model.mesh;
    for (const ModelSurface& s : model.surfaces) {
        require(is_place(s.centroid) && is_place(s.normal), "a surface that has no place, in surfaces");
        for (const MeshFace& f : s.faces)
            require(static_cast<std::int64_t>(f.element) >= 0 && index(f.element) < mesh.elements() &&
                        f.side >= 0 && f.side < mesh.sides(f.element),
                    "a face that is not there, in surfaces");
        require_nodes(mesh, range(s.nodes), "surfaces");
    }
    for (const ModelPoint& p : model.points) {
        require(is_place(p.at), "a point that has no place, in points");
        require_nodes(mesh, {&p.node, &p.node + 1}, "points");
    }
}

void require_links(const Model& model) {
    const std::size_t freedoms = model.freedoms();
    for (const ModelCoupling& c : model.couplings) {
        require(is_place(c.at), "a coupling that has no place, in couplings");
        require_nodes(model.mesh, range(c.nodes), "couplings");
        require_equations(c.equations, freedoms, "couplings");
    }
    for (const ModelJoint& j : model.joints) {
        require(j.axis.allFinite() && std::abs(j.axis.norm() - 1.0) < 1e-6,
                "a joint without an axis, in joints");
        require_freedoms(j.freedoms, freedoms, "joints");
        require(j.matrix.size() == 0 ||
                    (j.matrix.allFinite() && j.matrix.cwiseAbs().maxCoeff() <= largest_number),
                "a stiffness that none is, in joints");
    }
    for (const ModelMass& m : model.masses) {
        require(m.value >= 0.0 && m.value <= largest_number, "a mass that none is, in masses");
        require_terms(m.diagonal, freedoms, "masses");
        for (const ModelMass::Share& s : m.shares)
            require(s.freedom + static_cast<std::size_t>(model.mesh.dimension()) <= freedoms &&
                        is_place(s.at) && s.mass >= 0.0 && s.mass <= largest_number,
                    "a mass on a displacement that is not there, in masses");
    }
    for (const ModelBond& b : model.bonds) require_equations(b.equations, freedoms, "bonds");
    require_equations(model.symmetry, freedoms, "symmetry");
}

void require_acts(const Model& model) {
    const std::size_t freedoms = model.freedoms();
    for (const ModelSupport& s : model.supports) {
        require_equations(s.equations, freedoms, "supports");
        require_freedoms(s.held, freedoms, "supports");
        for (const double m : s.move)
            require(std::abs(m) <= largest_number, "a motion that none is, in supports");
    }
    for (const ModelLoad& l : model.loads) {
        require_terms(l.forces, freedoms, "loads");
        require(std::abs(l.heat) <= largest_number && std::abs(l.pressure) <= largest_number,
                "a load that none is, in loads");
        require(!l.gravity || is_place(*l.gravity), "a load that none is, in loads");
        require(!l.spin || (is_place(l.spin->origin) && is_place(l.spin->axis) && l.spin->axis.norm() > 0.0 &&
                            std::abs(l.spin->speed) <= largest_number &&
                            std::abs(l.spin->speed_up) <= largest_number),
                "a load that none is, in loads");
    }
    for (const ModelCase& c : model.cases) {
        require(c.weight >= 0.0 && c.weight <= largest_number, "a weight that none is, in cases");
        for (const auto& [load, factor] : c.loads)
            require(std::abs(factor) <= largest_number, "a factor that none is, in cases");
    }
    for (const ModelModalCase& c : model.modal_cases)
        require(c.modes >= 1 && c.modes <= 10000 && c.up_to >= 0.0 && c.up_to <= largest_number,
                "a number of modes that none is, in modal_cases");
}

} // namespace

void require_sound(const Mesh& mesh) {
    require_elements(mesh);
    if (mesh.on_grid()) require_lattice(mesh);
    if (!mesh.polar.given()) return;
    require_cells(mesh.polar.cell_of, mesh.elements(), mesh.polar.count, "mesh/polar");
    require(is_place(mesh.polar.origin) && std::abs(mesh.polar.axis.norm() - 1.0) < 1e-6,
            "rings without an axis, in mesh/polar");
}

void require_sound(const Model& model) {
    const UnitSystem& u = model.units;
    for (const double si : {u.length_si, u.force_si, u.time_si})
        require(si > 0.0 && si <= largest_number, "a unit of no size, in units_si");
    const bool shell = model.family == ElementFamily::Shell;
    const bool solid = model.family == ElementFamily::Solid;
    require(model.mesh.shell() == shell && (model.mesh.dimension() == 3) == (solid || shell),
            "a family that its elements are not of, in family_and_formulation");
    require_materials(model);
    require_regions(model);
    require_places(model);
    require_links(model);
    require_acts(model);
}

} // namespace upright
