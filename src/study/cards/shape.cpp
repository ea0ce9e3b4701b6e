// Shapes: what a region fills, a surface lies inside of, a finer mesh fills.
#include "study/cards/cards.hpp"
#include "study/file_slot.hpp"

#include <algorithm>
#include <cmath>

namespace upright {

namespace {

constexpr auto length = dimension::length;

ValueForm positive_length() {
    return value::quantity(length).above(0);
}

// The two ends of a swept shape.
template <class Swept> std::vector<Key<Swept>> ends() {
    return {key("from", value::place(), &Swept::from).must("from = [x, y, z]").says("one end"),
            key("to", value::place(), &Swept::to).must("to = [x, y, z]").says("the other end")};
}
template <class Swept> void check_ends(Swept& shape, const CardReader& reader) {
    need_length(reader.place(), shape.from, shape.to);
}

void need_simple_polygon(const Place& place, const std::vector<Vec2>& corners) {
    double area = 0.0;
    for (std::size_t i = 0; i < corners.size(); ++i) {
        const Vec2& a = corners[i];
        const Vec2& b = corners[(i + 1) % corners.size()];
        area += 0.5 * (a.x() * b.y() - b.x() * a.y());
    }
    if (std::abs(area) < 1e-14) throw Error::input(place, "the polygon encloses no area");
}

const Schema<Cylinder>& cylinder_schema() {
    static const Schema<Cylinder> out = [] {
        auto s = schema<Cylinder>("cylinder", "a round bar between two ends", ends<Cylinder>(),
                                  check_ends<Cylinder>);
        s.add({key("radius", positive_length(), &Cylinder::radius).must("radius = 10").says("of the bar")});
        return s;
    }();
    return out;
}

const Schema<Cone>& cone_schema() {
    static const Schema<Cone> out = [] {
        auto s = schema<Cone>("cone", "a round bar whose radius changes", ends<Cone>(), check_ends<Cone>);
        s.add({key<Cone>("radii", {value::list(value::quantity(length).at_least(0), 2)},
                         [](Cone& c, const Given& g) {
                             const Node::List* list = g.node.list();
                             if (list == nullptr || list->size() != 2)
                                 throw Error::input(g.node.place, "radii needs two lengths",
                                                    "Write radii = [20, 10]");
                             c.radius_from = g.card.number((*list)[0], length);
                             c.radius_to = g.card.number((*list)[1], length);
                             if (c.radius_from < 0 || c.radius_to < 0 || c.radius_from + c.radius_to <= 0)
                                 throw Error::input(
                                     g.node.place, "the radii of a cone must not be negative, nor both zero");
                         })
                   .must("radii = [20, 10]")
                   .says("at its two ends; one may be zero")});
        return s;
    }();
    return out;
}

const Schema<Sphere>& sphere_schema() {
    static const Schema<Sphere> out = schema<Sphere>(
        "sphere", "a ball",
        {key("center", value::place(), &Sphere::center).must("center = [x, y, z]").says("its middle"),
         key("radius", positive_length(), &Sphere::radius).must("radius = 10").says("of the ball")});
    return out;
}

const Schema<Prism>& prism_schema() {
    static const Schema<Prism> out = [] {
        auto s = schema<Prism>("prism", "a polygon swept along a line", ends<Prism>(), check_ends<Prism>);
        s.add(
            {key<Prism>("polygon", {value::corners()},
                        [](Prism& p, const Given& g) {
                            p.polygon = g.corners();
                            need_simple_polygon(g.node.place, p.polygon);
                        })
                 .must("polygon = [[x, y], [x, y], [x, y]]")
                 .says("corners measured from `from`, along the two coordinate axes across the sweep in the "
                       "order x, y, z (swept along y: u is x and v is z)")});
        return s;
    }();
    return out;
}

const Schema<Disk>& disk_schema() {
    static const Schema<Disk> out = schema<Disk>(
        "disk", "a round plate, with a hole where `inner` is given",
        {key("center", value::place(), &Disk::center).must("center = [x, y]").says("its middle"),
         key("radius", positive_length(), &Disk::radius).must("radius = 10").says("of the rim"),
         key("inner", positive_length(), &Disk::inner)
             .fallback("none")
             .example("inner = 4")
             .says("of its hole")},
        [](Disk& disk, const CardReader& reader) {
            if (disk.inner >= disk.radius)
                throw Error::input(reader.place_of("inner"), "the inner radius must be less than the radius");
        });
    return out;
}

const Schema<CellSet>& cells_schema() {
    static const Schema<CellSet> out =
        schema<CellSet>("cells", "cells of a mesh file by the value of an array",
                        {key("array", value::text("a cell array of the file"), &CellSet::array)
                             .must("array = \"zone\"")
                             .says("its name"),
                         key("value", value::quantity(dimension::none), &CellSet::value)
                             .fallback("any but zero")
                             .example("value = 2")
                             .says("of the cells that are meant")});
    return out;
}

struct SideDraft : ShapeTable {
    std::optional<Vec3> point, normal;
};
const Schema<SideDraft>& side_schema() {
    static const Schema<SideDraft> out = [] {
        auto s = schema<SideDraft>(
            "side_of", "everything on one side of a plane, or outside of a shape",
            {key<SideDraft>("point", {value::place()},
                            [](SideDraft& d, const Given& g) { d.point = g.vector(); })
                 .example("point = [0, 0, 0]")
                 .says("a place of the plane"),
             key<SideDraft>("normal", {value::direction()},
                            [](SideDraft& d, const Given& g) { d.normal = g.direction(); })
                 .example("normal = [0, 0, 1]")
                 .says("the side that is meant")},
            [](SideDraft& d, const CardReader& reader) {
                if (d.shape && (d.point || d.normal))
                    throw Error::input(reader.place(), "side_of needs a plane or a shape, and has both",
                                       "Remove one of them");
                for (const auto& [given, word] :
                     {std::pair(d.point.has_value(), "point"), std::pair(d.normal.has_value(), "normal")})
                    if (!given && (d.point || d.normal))
                        throw Error::input(reader.place(), reader.title() + " lacks \"" + word + "\"",
                                           std::string("Write ") + word + " = [0, 0, " +
                                               (std::string(word) == "normal" ? "1]" : "0]"));
                if (!d.shape && !d.point)
                    throw Error::input(
                        reader.place(), "side_of needs a plane or a shape",
                        "Write side_of = { point = […], normal = […] }, or side_of = { cylinder = … } "
                        "for all that lies outside of it");
            });
        s.add(keys_of_shapes<SideDraft>());
        return s;
    }();
    return out;
}

std::optional<Shape> read_box(const Given& g) {
    const Node::List* list = g.node.list();
    if (list == nullptr || list->size() != 2)
        throw Error::input(g.node.place, "a box has two opposite corners",
                           g.card.flat() ? "Write [[x, y], [x, y]]" : "Write [[x, y, z], [x, y, z]]");
    Box out{g.card.vector((*list)[0], length), g.card.vector((*list)[1], length)};
    for (int i = 0; i < (g.card.flat() ? 2 : 3); ++i) {
        if (out.low[i] > out.high[i]) std::swap(out.low[i], out.high[i]);
        if (!(out.high[i] - out.low[i] > 0.0))
            throw Error::input(g.node.place, std::string("the box has no extent along ") + "xyz"[i]);
    }
    return out;
}

std::optional<Shape> read_file_body(const Given& g) {
    FileBody body;
    body.slot = std::make_shared<FileSlot>();
    body.slot->file = g.card.path(g.node);
    body.slot->place = g.node.place;
    if (const Node* name = g.card.find("body")) body.slot->body = g.card.text(*name);
    if (const Node* unit = g.card.find("file_unit")) {
        const KeyFacts facts = facts_for("file_unit", positive_length());
        body.slot->scale = Given(*unit, facts, g.card).number();
        body.slot->unit_given = true;
    }
    if (const Node* heal = g.card.find("heal")) {
        const KeyFacts facts = facts_for("heal", positive_length());
        body.slot->heal = Given(*heal, facts, g.card).number();
    }
    body.slot->length_si = g.card.quantities().units().length_si;
    return body;
}

std::optional<Shape> read_side(const Given& g) {
    const SideDraft d = read_table(side_schema(), g.inner());
    if (d.shape) return Outside{std::make_shared<const AnyShape>(AnyShape{*d.shape})};
    return HalfSpace{*d.point, *d.normal};
}

std::optional<Shape> read_polygon(const Given& g) {
    Polygon polygon{g.corners()};
    need_simple_polygon(g.node.place, polygon.corners);
    return polygon;
}

template <class T, const Schema<T>& (*inner)()> std::optional<Shape> read_inner(const Given& g) {
    return read_table(inner(), g.inner());
}

ShapeKey shape_key(const char* name, ValueForm form, const char* example, const char* says,
                   std::optional<Shape> (*read)(const Given&)) {
    KeyFacts facts;
    facts.name = name;
    facts.forms = {std::move(form)};
    facts.example = example;
    facts.says = says;
    return {facts, read};
}
ShapeKey solid_only(ShapeKey k, const char* called) {
    k.facts.homes.push_back(
        {{}, in_space, std::string(called) + " has no place in a plane model", "Write box, disk or polygon"});
    return k;
}
ShapeKey plane_only(ShapeKey k, const char* called) {
    k.facts.homes.push_back(
        {{}, in_plane, std::string(called) + " is a shape of plane models", "Write cylinder or prism"});
    return k;
}
// A word that belongs to a body of a file.
ShapeKey of_file(ShapeKey k) {
    k.facts.homes.push_back({{"file"},
                             {},
                             k.facts.name + " belongs to file",
                             "Write file = \"part.step\" as well, or remove it"});
    return k;
}
std::optional<Shape> read_nothing(const Given&) {
    return {};
}

std::vector<ShapeKey> make_shape_keys() {
    return {
        shape_key("box", value::list(value::place(), 2), "box = [[0, 0, 0], [80, 40, 40]]",
                  "any two opposite corners", read_box),
        solid_only(shape_key("cylinder", value::table(facts_of<Cylinder, cylinder_schema>),
                             "cylinder = { from = [0, 0, 0], to = [0, 0, 40], radius = 10 }",
                             "a round bar between two ends", read_inner<Cylinder, cylinder_schema>),
                   "a cylinder"),
        solid_only(shape_key("cone", value::table(facts_of<Cone, cone_schema>),
                             "cone = { from = [0, 0, 0], to = [0, 0, 40], radii = [20, 10] }",
                             "a round bar whose radius changes", read_inner<Cone, cone_schema>),
                   "a cone"),
        solid_only(shape_key("sphere", value::table(facts_of<Sphere, sphere_schema>),
                             "sphere = { center = [0, 0, 0], radius = 10 }", "a ball",
                             read_inner<Sphere, sphere_schema>),
                   "a sphere"),
        solid_only(
            shape_key("prism", value::table(facts_of<Prism, prism_schema>),
                      "prism = { polygon = [[0, 0], [30, 0], [0, 20]], from = [0, 0, 0], to = [0, 0, 40] }",
                      "a polygon swept along a line", read_inner<Prism, prism_schema>),
            "a prism"),
        solid_only(
            shape_key("file", value::path("a STEP, STL or OBJ file"), "file = \"part.step\"",
                      "a body of a STEP file (AP203, 214, 242; its own unit is converted), or of a closed "
                      "STL or OBJ (no unit: the study's, or `file_unit`)",
                      read_file_body),
            "a body of a file"),
        of_file(shape_key("body", value::text("a body of the file"), "body = \"housing\"",
                          "which body of a file that has several", read_nothing)),
        of_file(shape_key("file_unit", value::quantity(length).above(0), "file_unit = \"1 in\"",
                          "length of one unit of a file that does not say its own", read_nothing)),
        of_file(
            shape_key("heal", value::quantity(length).above(0), "heal = \"0.05 mm\"",
                      "faults of a STEP body's faces below this length are mended: parts of one surface "
                      "joined, slivers and short edges taken out; `check` and `inspect --heal` say which, "
                      "and what became of the volume",
                      read_nothing)),
        shape_key(
            "side_of", value::table(facts_of<SideDraft, side_schema>),
            "side_of = { point = [0, 0, 20], normal = [0, 0, 1] }",
            "everything on the side of a plane to which its normal points, or, with a shape (`side_of = { "
            "cylinder = … }`), everything outside of its surface; with `within` it splits a region",
            read_side),
        shape_key("cells", value::table(facts_of<CellSet, cells_schema>),
                  "cells = { array = \"zone\", value = 2 }",
                  "the cells of a mesh file whose value in that array is the given one (any but zero without "
                  "`value`)",
                  read_inner<CellSet, cells_schema>),
        plane_only(shape_key("disk", value::table(facts_of<Disk, disk_schema>),
                             "disk = { center = [0, 0], radius = 10 }", "plane models and flat shells",
                             read_inner<Disk, disk_schema>),
                   "a disk"),
        plane_only(shape_key("polygon", value::corners(), "polygon = [[0, 0], [30, 0], [0, 20]]",
                             "plane models and flat shells", read_polygon),
                   "a polygon")};
}

} // namespace

const std::vector<ShapeKey>& shape_keys() {
    static const std::vector<ShapeKey> out = make_shape_keys();
    return out;
}

std::vector<std::string> shape_words() {
    std::vector<std::string> out;
    for (const ShapeKey& k : shape_keys())
        if (k.facts.name != "body" && k.facts.name != "file_unit" && k.facts.name != "heal")
            out.push_back(k.facts.name);
    return out;
}

const Schema<ShapeTable>& shape_schema() {
    static const Schema<ShapeTable> out = [] {
        auto s = schema<ShapeTable>("shape", "one shape", keys_of_shapes<ShapeTable>(),
                                    [](ShapeTable& t, const CardReader& reader) {
                                        if (!t.shape)
                                            throw Error::input(reader.place(), "inside needs a shape",
                                                               "Write inside = { box = [[…], […]] }");
                                    });
        s.facts.choices.push_back(
            {shape_words(), false, {}, "{title} has two shapes, {two}", "Write one of them"});
        s.add({key<ShapeTable>("frame", {value::name("frame")},
                               [](ShapeTable& t, const Given& g) {
                                   const Frame& frame = read_frame(g);
                                   if (t.shape) t.shape = in_frame(*t.shape, frame);
                               })
                   .fallback("the global axes")
                   .example("frame = \"bore\"")
                   .says("the shape is written in its axes")});
        return s;
    }();
    return out;
}

const TableFacts* shape_facts() {
    return &shape_schema().facts;
}

namespace {

struct HoleOf {
    double radius = 0.0;
};
const Schema<HoleOf>& hole_schema() {
    static const Schema<HoleOf> out =
        schema<HoleOf>("hole", "every hole of a radius: void cylinders, and concave cylinders of CAD bodies",
                       {key("radius", positive_length(), &HoleOf::radius)
                            .must("radius = 6")
                            .says("of the holes that are meant")});
    return out;
}

} // namespace

const TableFacts* hole_facts() {
    return &hole_schema().facts;
}

double read_hole(const Given& given) {
    return read_table(hole_schema(), given.inner()).radius;
}

void need_length(const Place& place, const Vec3& from, const Vec3& to) {
    if ((to - from).norm() < 1e-12) throw Error::input(place, "from and to are the same place");
}

namespace {

// A shape in axes of its own: exact for whatever has no orientation but its ends.
Shape placed(const Shape& shape, const Mat3& axes, const Vec3& origin) {
    const auto at = [&](const Vec3& p) { return Vec3(axes * p + origin); };
    const bool shift_alone = axes.isIdentity(1e-12);
    return std::visit(
        [&](auto s) -> Shape {
            using T = std::decay_t<decltype(s)>;
            if constexpr (std::is_same_v<T, Sphere> || std::is_same_v<T, Disk>) {
                s.center = at(s.center);
                return s;
            } else if constexpr (std::is_same_v<T, Cylinder> || std::is_same_v<T, Cone>) {
                s.from = at(s.from);
                s.to = at(s.to);
                return s;
            } else if constexpr (std::is_same_v<T, HalfSpace>) {
                s.point = at(s.point);
                s.normal = axes * s.normal;
                return s;
            } else if constexpr (std::is_same_v<T, Polygon>) {
                for (Vec2& c : s.corners) c = at(Vec3(c.x(), c.y(), 0.0)).template head<2>();
                return s;
            } else if constexpr (std::is_same_v<T, CellSet>) {
                return s;
            } else if constexpr (std::is_same_v<T, Outside>) {
                return Outside{
                    std::make_shared<const AnyShape>(AnyShape{placed(s.shape->shape, axes, origin)})};
            } else if constexpr (std::is_same_v<T, Placed>) {
                return Placed{s.shape, axes * s.axes, at(s.origin)};
            } else {
                if constexpr (std::is_same_v<T, Box>)
                    if (shift_alone) return Box{s.low + origin, s.high + origin};
                if constexpr (std::is_same_v<T, Prism>)
                    if (shift_alone) return Prism{s.polygon, s.from + origin, s.to + origin};
                if (shift_alone && origin.isZero()) return s;
                return Placed{std::make_shared<const AnyShape>(AnyShape{s}), axes, origin};
            }
        },
        shape);
}

} // namespace

Shape moved(const Shape& shape, const RigidMove& by) {
    return placed(shape, by.turn, by.shift);
}

Shape in_frame(const Shape& shape, const Frame& frame) {
    return placed(shape, frame.axes, frame.origin);
}

} // namespace upright
