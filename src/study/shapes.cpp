// Shapes, and the small things that all readers of cards share.
#include "study/cards.hpp"
#include "study/file_slot.hpp"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>

namespace upright {

namespace {

const Node::List no_cards;

Box read_box(const CardReader& reader, const Node& node) {
    const Node::List* list = node.list();
    if (list == nullptr || list->size() != 2)
        throw Error::input(node.place, "a box has two opposite corners",
                           reader.plane() ? "Write [[x, y], [x, y]]" : "Write [[x, y, z], [x, y, z]]");
    Box out{reader.vector((*list)[0], dimension::length), reader.vector((*list)[1], dimension::length)};
    for (int i = 0; i < (reader.plane() ? 2 : 3); ++i) {
        if (out.low[i] > out.high[i]) std::swap(out.low[i], out.high[i]);
        if (!(out.high[i] - out.low[i] > 0.0))
            throw Error::input(node.place, std::string("the box has no extent along ") + "xyz"[i]);
    }
    return out;
}

void need_simple_polygon(const Node& node, const std::vector<Vec2>& corners) {
    double area = 0.0;
    for (std::size_t i = 0; i < corners.size(); ++i) {
        const Vec2& a = corners[i];
        const Vec2& b = corners[(i + 1) % corners.size()];
        area += 0.5 * (a.x() * b.y() - b.x() * a.y());
    }
    if (std::abs(area) < 1e-14) throw Error::input(node.place, "the polygon encloses no area");
}

// The two ends of a swept shape.
template <class Swept> void read_ends(CardReader& reader, const Node& node, Swept& shape) {
    shape.from = reader.vector(reader.need("from", "from = [x, y, z]"), dimension::length);
    shape.to = reader.vector(reader.need("to", "to = [x, y, z]"), dimension::length);
    need_length(node, shape.from, shape.to);
}

} // namespace

// The cards of a kind; an error when the word was used for something else.
const Node::List& cards_of(const Node& document, const std::string& kind) {
    const Node* node = document.find(kind);
    if (node == nullptr) return no_cards;
    const Node::List* list = node->list();
    const bool tables = list != nullptr && std::all_of(list->begin(), list->end(),
                                                       [](const Node& n) { return n.table() != nullptr; });
    if (!tables)
        throw Error::input(node->place, "\"" + kind + "\" is a card", "Write it as [[" + kind + "]]");
    return *list;
}

// The card's name; "/" and "@" have a meaning of their own.
std::string read_name(CardReader& reader, const std::string& kind) {
    const Node& node = reader.need("name", "name = \"" + kind + "-1\"");
    std::string name = reader.text(node);
    if (name.empty()) throw Error::input(node.place, "a name must not be empty");
    for (const char c : name)
        if (c == '/' || c == '@' || c == ',' || static_cast<unsigned char>(c) < 0x20)
            throw Error::input(node.place, "a name may hold no \"/\", \"@\" or comma",
                               "Use letters, digits, - and _");
    return name;
}

bool active(CardReader& reader) {
    const Node* node = reader.find("active");
    return node == nullptr || reader.flag(*node);
}

std::vector<RigidMove> read_copies(CardReader& reader, const Study& study) {
    const Node* node = reader.find("copies");
    if (node == nullptr) return {};
    std::vector<RigidMove> out;
    if (node->table() != nullptr) {
        CardReader inner = reader.inner(*node, "copies");
        inner.need("around", "around = \"a frame\"");
        const Frame* frame = read_frame(inner, study, "around");
        const int count = inner.whole(inner.need("count", "count = 6"), 2);
        inner.finish();
        if (count > 10000) throw Error::input(node->place, "that makes too many copies");
        for (int i = 0; i < count; ++i) {
            RigidMove motion;
            motion.turn =
                Eigen::AngleAxisd(2.0 * 3.14159265358979323846 * i / count, frame->axes.col(2)).matrix();
            motion.shift = frame->origin - motion.turn * frame->origin;
            if (i == 0) motion = RigidMove();
            out.push_back(motion);
        }
        return out;
    }
    const Node::List* list = node->list();
    if (list == nullptr || list->empty())
        throw Error::input(node->place, "copies needs a list of shifts",
                           "Write copies = [[0, 0, 0], [340, 0, 0]] or { around = \"a frame\", count = 6 }");
    for (const Node& shift : *list) {
        RigidMove motion;
        motion.shift = reader.vector(shift, dimension::length);
        out.push_back(motion);
    }
    return out;
}

std::filesystem::path read_path(const CardReader& reader, const Node& node, const Context& context,
                                bool folder) {
    const std::filesystem::path given(reader.text(node));
    const std::filesystem::path beside = std::filesystem::path(node.place.file).parent_path();
    const std::filesystem::path path =
        given.is_absolute() ? given : (beside.empty() ? context.folder : beside) / given;
    std::error_code ignored;
    const bool there = folder ? std::filesystem::is_directory(path, ignored)
                              : std::filesystem::is_regular_file(path, ignored);
    if (context.need_files && !there)
        throw Error::input(node.place, (folder ? "there is no run " : "there is no file ") + path.string(),
                           "Names of files are relative to the study's folder");
    return path;
}

void need_length(const Node& node, const Vec3& from, const Vec3& to) {
    if ((to - from).norm() < 1e-12) throw Error::input(node.place, "from and to are the same place");
}

std::optional<Shape> read_shape(CardReader& reader, const Context& context) {
    std::optional<Shape> shape;
    std::string first;
    const auto once = [&](const std::string& key) -> const Node* {
        const Node* node = reader.find(key);
        if (node == nullptr) return nullptr;
        if (shape)
            throw Error::input(node->place,
                               reader.title() + " has two shapes, \"" + first + "\" and \"" + key + "\"",
                               "Write one region for each");
        first = key;
        return node;
    };
    if (const Node* node = once("box")) shape = read_box(reader, *node);
    if (const Node* node = once("side_of")) {
        CardReader inner = reader.inner(*node, "side_of");
        if (inner.find("point") == nullptr && inner.find("normal") == nullptr) {
            const std::optional<Shape> surface = read_shape(inner, context);
            inner.finish();
            if (!surface)
                throw Error::input(
                    node->place, "side_of needs a plane or a shape",
                    "Write side_of = { point = […], normal = […] }, or side_of = { cylinder = … } "
                    "for all that lies outside of it");
            shape = Outside{std::make_shared<const AnyShape>(AnyShape{*surface})};
        } else {
            HalfSpace half;
            half.point = inner.vector(inner.need("point", "point = [0, 0, 0]"), dimension::length);
            half.normal = inner.direction(inner.need("normal", "normal = [0, 0, 1]"));
            inner.finish();
            shape = half;
        }
    }
    if (const Node* node = once("cells")) {
        CardReader inner = reader.inner(*node, "cells");
        CellSet set;
        set.array = inner.text(inner.need("array", "array = \"zone\""));
        if (const Node* value = inner.find("value")) set.value = inner.number(*value, dimension::none);
        inner.finish();
        shape = set;
    }
    if (reader.plane()) {
        if (const Node* node = once("disk")) {
            CardReader inner = reader.inner(*node, "disk");
            Disk disk;
            disk.center = inner.vector(inner.need("center", "center = [x, y]"), dimension::length);
            disk.radius = inner.positive(inner.need("radius", "radius = 10"), dimension::length);
            if (const Node* hole = inner.find("inner")) {
                disk.inner = inner.positive(*hole, dimension::length);
                if (disk.inner >= disk.radius)
                    throw Error::input(hole->place, "the inner radius must be less than the radius");
            }
            inner.finish();
            shape = disk;
        }
        if (const Node* node = once("polygon")) {
            Polygon polygon{reader.corners(*node)};
            need_simple_polygon(*node, polygon.corners);
            shape = polygon;
        }
        for (const char* solid : {"cylinder", "cone", "sphere", "prism"})
            if (const Node* node = once(solid))
                throw Error::input(node->place, std::string("a ") + solid + " has no place in a plane model",
                                   "Write box, disk or polygon");
        return shape;
    }
    if (const Node* node = once("file")) {
        FileBody body;
        body.slot = std::make_shared<FileSlot>();
        body.slot->file = read_path(reader, *node, context);
        body.slot->place = node->place;
        if (const Node* name = reader.find("body")) body.slot->body = reader.text(*name);
        if (const Node* unit = reader.find("file_unit")) {
            body.slot->scale = reader.positive(*unit, dimension::length);
            body.slot->unit_given = true;
        }
        body.slot->length_si = context.quantities.units().length_si;
        shape = body;
    }
    for (const char* flat : {"disk", "polygon"})
        if (const Node* node = once(flat))
            throw Error::input(node->place, std::string("a ") + flat + " is a shape of plane models",
                               "Write cylinder or prism");
    if (const Node* node = once("cylinder")) {
        CardReader inner = reader.inner(*node, "cylinder");
        Cylinder c;
        read_ends(inner, *node, c);
        c.radius = inner.positive(inner.need("radius", "radius = 10"), dimension::length);
        inner.finish();
        shape = c;
    }
    if (const Node* node = once("cone")) {
        CardReader inner = reader.inner(*node, "cone");
        Cone c;
        read_ends(inner, *node, c);
        const Node& radii = inner.need("radii", "radii = [20, 10]");
        if (radii.list() == nullptr || radii.list()->size() != 2)
            throw Error::input(radii.place, "radii needs two lengths", "Write radii = [20, 10]");
        c.radius_from = inner.number((*radii.list())[0], dimension::length);
        c.radius_to = inner.number((*radii.list())[1], dimension::length);
        if (c.radius_from < 0 || c.radius_to < 0 || c.radius_from + c.radius_to <= 0)
            throw Error::input(radii.place, "the radii of a cone must not be negative, nor both zero");
        inner.finish();
        shape = c;
    }
    if (const Node* node = once("sphere")) {
        CardReader inner = reader.inner(*node, "sphere");
        Sphere s;
        s.center = inner.vector(inner.need("center", "center = [x, y, z]"), dimension::length);
        s.radius = inner.positive(inner.need("radius", "radius = 10"), dimension::length);
        inner.finish();
        shape = s;
    }
    if (const Node* node = once("prism")) {
        CardReader inner = reader.inner(*node, "prism");
        Prism p;
        const Node& polygon = inner.need("polygon", "polygon = [[x, y], [x, y], [x, y]]");
        p.polygon = inner.corners(polygon);
        need_simple_polygon(polygon, p.polygon);
        read_ends(inner, *node, p);
        inner.finish();
        shape = p;
    }
    return shape;
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
