// Surfaces: named pieces of the boundary, picked by rules that combine. And points.
#include "study/cards/cards.hpp"
#include "study/mesh_word.hpp"
#include "study/names.hpp"

#include <algorithm>

namespace upright {

namespace {

using OnPlane = SurfaceCard::OnPlane;
using OnCylinder = SurfaceCard::OnCylinder;

struct SurfaceDraft : SurfaceCard {
    std::vector<RigidMove> copies;
};

const Schema<OnPlane>& plane_schema() {
    static const Schema<OnPlane> out = schema<OnPlane>(
        "plane", "a plane",
        {key("point", value::place(), &OnPlane::point).must("point = [0, 0, 0]").says("a place of it"),
         key("normal", value::direction(), &OnPlane::normal).must("normal = [0, 0, 1]").says("across it")});
    return out;
}

const Schema<OnCylinder>& on_cylinder_schema() {
    static const Schema<OnCylinder> out = schema<OnCylinder>(
        "on_cylinder", "the round face of a cylinder",
        {key("from", value::place(), &OnCylinder::from).must("from = [x, y, z]").says("one end"),
         key("to", value::place(), &OnCylinder::to).must("to = [x, y, z]").says("the other end"),
         key("radius", value::quantity(dimension::length).above(0), &OnCylinder::radius)
             .must("radius = 10")
             .says("of the face")},
        [](OnCylinder& c, const CardReader& reader) { need_length(reader.place(), c.from, c.to); });
    return out;
}

bool mesh_of_file(const Context& context) {
    return context.study.mesh.kind->from_file;
}

void finish_surface(SurfaceDraft& s, const CardReader& reader) {
    if (s.of.empty() && s.facing.empty() && !s.on_plane && !s.on_cylinder && !s.inside && s.cad.empty() &&
        !s.hole_radius && s.set.empty())
        throw Error::input(s.place, "the surface \"" + s.name + "\" has no rule",
                           "Write of, facing, on_plane, on_cylinder, inside, cad, hole or set; they combine");
    if (!in_use(reader) || s.copies.empty()) return;
    // Copies of a surface of one copy of a region would all be the same.
    for (const std::string& of : s.of) {
        const auto slash = of.find('/');
        if (slash == std::string::npos) continue;
        throw Error::input(reader.place_of("of"),
                           "the surface \"" + s.name + "\" has copies and names one copy, \"" + of +
                               "\", of a region: each would be the same",
                           "Write of = \"" + of.substr(0, slash) +
                               "\" (each copy then takes its own), or remove copies");
    }
}

const Schema<SurfaceDraft>& surface_schema() {
    using S = SurfaceDraft;
    static const Schema<S> out = cards<S>(
        "surface", "a named piece of the boundary; its rules combine, and `check` shows what came out",
        "feet", true,
        {key("of", value::names("regions"), &S::of)
             .fallback("any region")
             .example("of = \"block\"")
             .says("whose boundary: the wall that a void leaves bears the void's name, and a region keeps "
                   "the faces "
                   "over which later regions were painted"),
         key<S>("facing", {value::direction(), value::list(value::direction())},
                [](S& s, const Given& g) {
                    const Node::List* list = g.node.list();
                    if (list != nullptr && !list->empty() && list->front().list() != nullptr)
                        for (const Node& one : *list) s.facing.push_back(g.card.direction(one));
                    else
                        s.facing.push_back(g.direction());
                })
             .fallback("whatever way")
             .example("facing = [0, 0, -1]")
             .says("the way its normal points, or several ways of which any will do; judged by the shape "
                   "that made a "
                   "wall, not by its stairs"),
         key("tilt", value::quantity(dimension::angle).above(0), &S::tilt)
             .beside({"facing"}, "tilt belongs to facing", "Write facing = [0, 0, 1] as well")
             .fallback("20 degrees")
             .example("tilt = \"30 deg\"")
             .says("how far the normal may be off `facing`"),
         table_key("on_plane", plane_schema, &S::on_plane, facts_of<OnPlane, plane_schema>)
             .example("on_plane = { point = [0, 0, 40], normal = [0, 0, 1] }")
             .says("faces that lie in a plane"),
         table_key("on_cylinder", on_cylinder_schema, &S::on_cylinder,
                   facts_of<OnCylinder, on_cylinder_schema>)
             .where(in_space, "on_cylinder has no place in a plane model",
                    "Use of = \"hole\" or inside = { disk = … }")
             .example("on_cylinder = { from = [0, 0, 0], to = [0, 0, 40], radius = 10 }")
             .says("faces that lie on a cylinder"),
         key<S>("inside", {value::table(shape_facts)},
                [](S& s, const Given& g) { s.inside = read_table(shape_schema(), g.inner()).shape; })
             .example("inside = { box = [[0, 0, 0], [10, 10, 10]] }")
             .says("faces whose middle lies in a shape"),
         key<S>("cad", {value::list(value::whole(1)), value::whole(1)},
                [](S& s, const Given& g) {
                    const KeyFacts one = facts_for("cad", value::whole(1));
                    if (g.items().empty())
                        throw Error::input(g.node.place, "cad names no face", "Write cad = [12, 14]");
                    for (const Node* n : g.items()) s.cad.push_back(Given(*n, one, g.card).whole());
                })
             .example("cad = [12, 14]")
             .says("faces as `inspect` numbers them; `of` says of which body"),
         key<S>("hole", {value::table(hole_facts)},
                [](S& s, const Given& g) { s.hole_radius = read_hole(g); })
             .example("hole = { radius = 6 }")
             .says("walls of holes of that radius"),
         key("set", value::text("a set of points of the mesh file"), &S::set)
             .where(mesh_of_file, "set names a set of points of a mesh file",
                    "Write [mesh] kind = \"file\", or another rule")
             .example("set = \"rim\"")
             .says("faces whose points are all in a set of the mesh file"),
         copies_key<S>()},
        [](S& s, const CardReader& reader) {
            if (s.tilt > 180.0)
                throw Error::input(reader.place_of("tilt"), "tilt must not exceed 180 degrees");
            finish_surface(s, reader);
        });
    return out;
}

// The copy of a surface of a copied region is that of the copy with its number.
SurfaceCard copy_of(const SurfaceCard& surface, const std::string& name, const RigidMove& motion,
                    const Study& study) {
    SurfaceCard copy = surface;
    copy.name = name;
    for (std::string& of : copy.of)
        if (name != surface.name) {
            const std::string numbered = of + name.substr(surface.name.size());
            for (const RegionCard& region : study.regions)
                if (region.name == numbered) of = numbered;
        }
    for (Vec3& direction : copy.facing) direction = motion.turn * direction;
    if (copy.on_plane) {
        copy.on_plane->point = motion.place(copy.on_plane->point);
        copy.on_plane->normal = motion.turn * copy.on_plane->normal;
    }
    if (copy.on_cylinder) {
        copy.on_cylinder->from = motion.place(copy.on_cylinder->from);
        copy.on_cylinder->to = motion.place(copy.on_cylinder->to);
    }
    if (copy.inside) *copy.inside = moved(*copy.inside, motion);
    return copy;
}

struct PointDraft : PointCard {
    std::optional<Vec3> where;
    const Frame* frame = nullptr;
    std::vector<RigidMove> copies;
};

void finish_point(PointDraft& p, const CardReader&) {
    if (p.where) {
        if (p.frame != nullptr) p.where = p.frame->axes * *p.where + p.frame->origin;
        return;
    }
    if (p.frame != nullptr) throw Error::input(p.at_place, "center_of needs no frame", "Remove it");
    if (!p.copies.empty())
        throw Error::input(p.at_place, "center_of follows the copies of its surface", "Remove copies here");
}

const Schema<PointDraft>& point_schema() {
    using P = PointDraft;
    static const Schema<P> out = [] {
        auto s = cards<P>(
            "point",
            "a place with a name. Loads and supports on it act on the node nearest to it, which `check` "
            "shows; a coupling's point may lie anywhere",
            "tip", true,
            {key<P>("at", {value::place()},
                    [](P& p, const Given& g) {
                        p.where = g.vector();
                        p.at_place = g.node.place;
                    })
                 .example("at = [x, y, z]")
                 .says("where it lies"),
             key<P>("center_of", {value::name("surface")},
                    [](P& p, const Given& g) {
                        p.at = g.text();
                        p.at_place = g.node.place;
                    })
                 .example("center_of = \"a surface\"")
                 .says("instead of `at`: the centroid of a surface"),
             key<P>("frame", {value::name("frame")}, [](P& p, const Given& g) { p.frame = &read_frame(g); })
                 .fallback("the global axes")
                 .example("frame = \"bore\"")
                 .says("`at` is written in its axes"),
             copies_key<P>()},
            finish_point);
        s.facts.choices.push_back({{"at", "center_of"},
                                   true,
                                   "the point {name} needs either at or center_of",
                                   "the point {name} needs either at or center_of",
                                   "Write at = [x, y, z] or center_of = \"a surface\""});
        return s;
    }();
    return out;
}

} // namespace

const TableFacts& surface_facts() {
    return surface_schema().facts;
}

const TableFacts& point_facts() {
    return point_schema().facts;
}

void read_surfaces(Study& study, const Node& document, const Context& context) {
    read_cards(surface_schema(), document, context, study, [&](SurfaceDraft surface, const CardReader&) {
        for_copies(surface.name, surface.copies, [&](const std::string& name, const RigidMove& motion) {
            study.surfaces.push_back(copy_of(surface, name, motion, study));
        });
    });
}

void read_points(Study& study, const Node& document, const Context& context) {
    read_cards(point_schema(), document, context, study, [&](PointDraft point, const CardReader&) {
        if (!point.where) {
            study.points.push_back(point);
            return;
        }
        for_copies(point.name, point.copies, [&](const std::string& name, const RigidMove& motion) {
            PointCard copy = point;
            copy.name = name;
            copy.at = motion.place(*point.where);
            study.points.push_back(copy);
        });
    });
}

} // namespace upright
