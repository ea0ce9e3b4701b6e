#include "model/model.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <fmt/format.h>

namespace upright {

namespace {

ModelSurface make_surface(const Mesh& mesh, const std::string& name, const std::vector<CellFace>& faces) {
    ModelSurface out;
    out.name = name;
    for (const CellFace& face : faces) {
        const MeshFace f{static_cast<ElementId>(mesh.element_of[face.cell]), face.side};
        const double area = mesh.face_area(f);
        out.faces.push_back(f);
        out.area += area;
        out.centroid += area * mesh.face_center(f);
        out.normal += area * mesh.face_normal(f);
        for (const NodeId node : mesh.face_nodes(f)) out.nodes.push_back(node);
    }
    out.centroid /= out.area;
    out.normal /= out.area;
    std::sort(out.nodes.begin(), out.nodes.end());
    out.nodes.erase(std::unique(out.nodes.begin(), out.nodes.end()), out.nodes.end());
    return out;
}

ModelPoint make_point(const Model& model, const PointCard& card) {
    ModelPoint out;
    out.name = card.name;
    if (const Vec3* at = std::get_if<Vec3>(&card.at)) {
        out.at = *at;
    } else {
        double area = 0.0;
        for (const ModelSurface& surface : model.surfaces) {
            if (!refers_to(std::get<std::string>(card.at), surface.name)) continue;
            out.at += surface.area * surface.centroid;
            area += surface.area;
        }
        out.at /= area;
    }
    out.off = 1e300;
    for (std::size_t n = 0; n < model.mesh.nodes.size(); ++n) {
        const double d = (model.mesh.nodes[n] - out.at).norm();
        if (d < out.off) {
            out.off = d;
            out.node = static_cast<NodeId>(n);
        }
    }
    return out;
}

// The surfaces and points that names refer to.
struct Target {
    std::vector<const ModelSurface*> surfaces;
    std::vector<const ModelPoint*> points;
};

Target find_target(const Model& model, const std::vector<std::string>& names) {
    Target out;
    for (const ModelSurface& s : model.surfaces)
        if (refers_to(names, s.name)) out.surfaces.push_back(&s);
    for (const ModelPoint& p : model.points)
        if (refers_to(names, p.name)) out.points.push_back(&p);
    return out;
}

void require_near(const Model& model, const Target& target, const Place& place) {
    const double reach = model.mesh.grid.cell.head(model.mesh.dimension()).norm();
    for (const ModelPoint* p : target.points)
        if (p->off > reach)
            throw Error::input(
                place,
                fmt::format("the point \"{}\" lies {:g} {} off the body, which is more than one cell",
                            p->name, p->off, model.units.length),
                "Move it onto the body; loads and supports act on nodes");
}

void sort_unique(std::vector<HeldDirection>& held) {
    std::sort(held.begin(), held.end());
    held.erase(std::unique(held.begin(), held.end()), held.end());
}

ModelSupport make_support(const Model& model, const SupportCard& card) {
    ModelSupport out;
    out.name = card.name;
    out.on = card.on;
    out.hold = card.hold;
    const Target target = find_target(model, card.on);
    require_near(model, target, card.on_place);
    const auto hold = [&](NodeId node) {
        for (int axis = 0; axis < 3; ++axis)
            if (card.hold[static_cast<std::size_t>(axis)]) out.held.push_back({node, axis});
    };
    for (const ModelSurface* s : target.surfaces)
        for (const NodeId node : s->nodes) hold(node);
    for (const ModelPoint* p : target.points) hold(p->node);
    sort_unique(out.held);
    return out;
}

// Adds a traction (force on each unit of area) to the nodes of a face: consistent for box cells.
void add_traction(const Mesh& mesh, const MeshFace& face, const Vec3& traction, std::vector<Vec3>& forces) {
    const std::vector<NodeId> nodes = mesh.face_nodes(face);
    const Vec3 share = traction * (mesh.face_area(face) / static_cast<double>(nodes.size()));
    for (const NodeId node : nodes) forces[index(node)] += share;
}

// A total force spreads over the area of all its surfaces together, or over its points in equal shares.
void add_force(const Model& model, const LoadCard& card, const ForceLoad& force, const Target& target,
               std::vector<Vec3>& forces) {
    if (!target.surfaces.empty() && !target.points.empty())
        throw Error::input(
            card.on_place,
            "the force acts on surfaces and points at once, which leaves open how it is shared",
            "Write two loads");
    double area = 0.0;
    for (const ModelSurface* s : target.surfaces) area += s->area;
    for (const ModelSurface* s : target.surfaces)
        for (const MeshFace& face : s->faces)
            add_traction(model.mesh, face,
                         force.each_face ? Vec3(force.total / model.mesh.face_area(face))
                                         : Vec3(force.total / area),
                         forces);
    for (const ModelPoint* p : target.points)
        forces[index(p->node)] += force.total / static_cast<double>(target.points.size());
}

ModelLoad make_load(const Model& model, const LoadCard& card) {
    ModelLoad out;
    out.name = card.name;
    out.on = card.on;
    const Target target = find_target(model, card.on);
    require_near(model, target, card.on_place);
    std::vector<Vec3> forces(model.mesh.nodes.size(), Vec3::Zero());
    if (const auto* force = std::get_if<ForceLoad>(&card.kind)) {
        out.kind = "force";
        add_force(model, card, *force, target, forces);
    } else if (const auto* pressure = std::get_if<PressureLoad>(&card.kind)) {
        out.kind = "pressure";
        out.pressure = pressure->value;
        for (const ModelSurface* s : target.surfaces)
            for (const MeshFace& face : s->faces)
                add_traction(model.mesh, face, -pressure->value * model.mesh.face_normal(face), forces);
    } else {
        out.kind = "gravity";
        out.gravity = std::get<GravityLoad>(card.kind).acceleration;
    }
    for (std::size_t n = 0; n < forces.size(); ++n)
        if (forces[n] != Vec3::Zero()) out.forces.push_back({static_cast<NodeId>(n), forces[n]});
    return out;
}

std::vector<HeldDirection> hold_symmetry(const Mesh& mesh) {
    std::vector<HeldDirection> out;
    const Bounds box = mesh.grid.box();
    for (int axis = 0; axis < mesh.dimension(); ++axis) {
        const auto& sides = mesh.grid.symmetric[static_cast<std::size_t>(axis)];
        if (!sides[0] && !sides[1]) continue;
        const double at = sides[0] ? box.low[axis] : box.high[axis];
        for (std::size_t n = 0; n < mesh.nodes.size(); ++n)
            if (std::abs(mesh.nodes[n][axis] - at) < 1e-6 * mesh.grid.cell[axis])
                out.push_back({static_cast<NodeId>(n), axis});
    }
    sort_unique(out);
    return out;
}

void add_regions(Model& model, const Study& study) {
    for (const RegionCard& card : study.regions) {
        ModelRegion region;
        region.name = card.name;
        region.role = card.role;
        for (std::size_t m = 0; m < study.materials.size(); ++m)
            if (study.materials[m].name == card.material) region.material = static_cast<int>(m);
        model.regions.push_back(region);
    }
    for (std::size_t e = 0; e < model.mesh.elements(); ++e) {
        ModelRegion& region = model.regions[index(model.mesh.region[e])];
        const double volume = model.mesh.volume(static_cast<ElementId>(e));
        ++region.elements;
        region.volume += volume;
        region.mass += volume * model.material(static_cast<ElementId>(e)).density;
    }
}

void add_cases(Model& model, const Study& study) {
    for (const StaticCase& card : study.cases) {
        ModelCase c;
        c.name = card.name;
        c.weight = card.weight;
        for (std::size_t s = 0; s < study.supports.size(); ++s)
            if (std::find(card.supports.begin(), card.supports.end(), study.supports[s].name) !=
                card.supports.end())
                c.supports.push_back(s);
        for (const auto& [name, factor] : card.loads)
            for (std::size_t l = 0; l < study.loads.size(); ++l)
                if (study.loads[l].name == name) c.loads.emplace_back(l, factor);
        model.cases.push_back(c);
    }
}

Resultant of_forces(const Mesh& mesh, const std::vector<NodalForce>& forces) {
    Resultant out;
    for (const NodalForce& f : forces) {
        out.force += f.force;
        out.moment += mesh.nodes[index(f.node)].cross(f.force);
    }
    return out;
}

} // namespace

std::vector<HeldDirection> Model::held(const ModelCase& c) const {
    std::vector<HeldDirection> out = symmetry;
    for (const std::size_t s : c.supports)
        out.insert(out.end(), supports[s].held.begin(), supports[s].held.end());
    sort_unique(out);
    return out;
}

Eigen::VectorXd Model::forces(const ModelCase& c, const std::vector<double>& density) const {
    const int d = mesh.dimension();
    Eigen::VectorXd out = Eigen::VectorXd::Zero(static_cast<Eigen::Index>(freedoms()));
    for (const auto& [l, factor] : c.loads) {
        const ModelLoad& load = loads[l];
        for (const NodalForce& f : load.forces)
            out.segment(static_cast<Eigen::Index>(index(f.node)) * d, d) += factor * f.force.head(d);
        if (!load.gravity) continue;
        const int corners = mesh.nodes_per_element();
        for (std::size_t e = 0; e < mesh.elements(); ++e) {
            const auto id = static_cast<ElementId>(e);
            const double share = factor * density[e] * material(id).density * mesh.volume(id) / corners;
            for (int a = 0; a < corners; ++a)
                out.segment(static_cast<Eigen::Index>(index(mesh.node(id, a))) * d, d) +=
                    share * load.gravity->head(d);
        }
    }
    return out;
}

Model build_model(const Study& study) {
    Model model;
    model.units = study.units;
    model.family = study.mesh.family;
    model.formulation = study.mesh.formulation;
    model.materials = study.materials;
    model.painting = paint(study, make_cell_grid(study));
    model.mesh = make_grid_mesh(study, model.painting);
    add_regions(model, study);
    for (std::size_t s = 0; s < study.surfaces.size(); ++s)
        model.surfaces.push_back(
            make_surface(model.mesh, study.surfaces[s].name, model.painting.surfaces[s]));
    for (const PointCard& card : study.points) model.points.push_back(make_point(model, card));
    for (const SupportCard& card : study.supports) model.supports.push_back(make_support(model, card));
    model.symmetry = hold_symmetry(model.mesh);
    for (const LoadCard& card : study.loads) model.loads.push_back(make_load(model, card));
    add_cases(model, study);
    return model;
}

Resultant resultant(const Model& model, const ModelLoad& load) {
    if (!load.gravity) return of_forces(model.mesh, load.forces);
    Resultant out;
    for (std::size_t e = 0; e < model.mesh.elements(); ++e) {
        const auto id = static_cast<ElementId>(e);
        const Vec3 force = model.material(id).density * model.mesh.volume(id) * *load.gravity;
        out.force += force;
        out.moment += model.mesh.center(id).cross(force);
    }
    return out;
}

Resultant resultant(const Model& model, const ModelCase& c) {
    Resultant out;
    for (const auto& [l, factor] : c.loads) {
        const Resultant one = resultant(model, model.loads[l]);
        out.force += factor * one.force;
        out.moment += factor * one.moment;
    }
    return out;
}

} // namespace upright
