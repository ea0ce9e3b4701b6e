// Shapes, and the small things that all readers of cards share.
#include "study/cards.hpp"

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

std::vector<Vec3> read_copies(CardReader& reader) {
    const Node* node = reader.find("copies");
    if (node == nullptr) return {};
    if (node->table() != nullptr)
        throw not_served(node->place, "copies around a frame",
                         "Write shifts: copies = [[0, 0, 0], [340, 0, 0]]");
    const Node::List* list = node->list();
    if (list == nullptr || list->empty())
        throw Error::input(node->place, "copies needs a list of shifts",
                           "Write copies = [[0, 0, 0], [340, 0, 0]]");
    std::vector<Vec3> out;
    for (const Node& shift : *list) out.push_back(reader.vector(shift, dimension::length));
    return out;
}

void need_length(const Node& node, const Vec3& from, const Vec3& to) {
    if ((to - from).norm() < 1e-12) throw Error::input(node.place, "from and to are the same place");
}

std::optional<Shape> read_shape(CardReader& reader) {
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

Shape shifted(Shape shape, const Vec3& by) {
    std::visit(
        [&](auto& s) {
            using T = std::decay_t<decltype(s)>;
            if constexpr (std::is_same_v<T, Box>) {
                s.low += by;
                s.high += by;
            } else if constexpr (std::is_same_v<T, Sphere> || std::is_same_v<T, Disk>) {
                s.center += by;
            } else if constexpr (std::is_same_v<T, Polygon>) {
                for (Vec2& corner : s.corners) corner += by.head<2>();
            } else {
                s.from += by;
                s.to += by;
            }
        },
        shape);
    return shape;
}

} // namespace upright
