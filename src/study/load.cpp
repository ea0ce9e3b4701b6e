// From the tree of a study file to checked cards.
#include "base/nearest.hpp"
#include "study/document.hpp"
#include "study/material_library.hpp"
#include "study/names.hpp"
#include "study/reader.hpp"
#include "study/study.hpp"

#include "quantity/units.hpp"

#include <algorithm>
#include <cmath>

namespace upright {

const char* text(Measure measure) {
    switch (measure) {
    case Measure::Compliance:
        return "compliance";
    case Measure::Mass:
        return "mass";
    case Measure::Volume:
        return "volume";
    case Measure::MassFraction:
        return "mass-fraction";
    case Measure::VolumeFraction:
        return "volume-fraction";
    }
    return "";
}

Dimension dimension_of(Measure measure) {
    switch (measure) {
    case Measure::Compliance:
        return dimension::moment;
    case Measure::Mass:
        return dimension::mass;
    case Measure::Volume:
        return dimension::volume;
    case Measure::MassFraction:
    case Measure::VolumeFraction:
        return dimension::none;
    }
    return dimension::none;
}

namespace {

const std::vector<std::string> plane_words{"plane-stress", "plane-strain"};

// What every reader of a card needs.
struct Context {
    const Quantities& quantities;
    bool plane;
};

const Node::List no_cards;

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

// Calls `add(name, shift)` once for each copy, or once with the name itself.
template <class Add>
void for_copies(const std::string& name, const std::vector<Vec3>& copies, const Add& add) {
    if (copies.empty()) add(name, Vec3(Vec3::Zero()));
    for (std::size_t i = 0; i < copies.size(); ++i) add(name + "/" + std::to_string(i + 1), copies[i]);
}

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

void need_length(const Node& node, const Vec3& from, const Vec3& to) {
    if ((to - from).norm() < 1e-12) throw Error::input(node.place, "from and to are the same place");
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
        c.from = inner.vector(inner.need("from", "from = [x, y, z]"), dimension::length);
        c.to = inner.vector(inner.need("to", "to = [x, y, z]"), dimension::length);
        c.radius = inner.positive(inner.need("radius", "radius = 10"), dimension::length);
        inner.finish();
        need_length(*node, c.from, c.to);
        shape = c;
    }
    if (const Node* node = once("cone")) {
        CardReader inner = reader.inner(*node, "cone");
        Cone c;
        c.from = inner.vector(inner.need("from", "from = [x, y, z]"), dimension::length);
        c.to = inner.vector(inner.need("to", "to = [x, y, z]"), dimension::length);
        const Node& radii = inner.need("radii", "radii = [20, 10]");
        if (radii.list() == nullptr || radii.list()->size() != 2)
            throw Error::input(radii.place, "radii needs two lengths", "Write radii = [20, 10]");
        c.radius_from = inner.number((*radii.list())[0], dimension::length);
        c.radius_to = inner.number((*radii.list())[1], dimension::length);
        if (c.radius_from < 0 || c.radius_to < 0 || c.radius_from + c.radius_to <= 0)
            throw Error::input(radii.place, "the radii of a cone must not be negative, nor both zero");
        inner.finish();
        need_length(*node, c.from, c.to);
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
        p.from = inner.vector(inner.need("from", "from = [x, y, z]"), dimension::length);
        p.to = inner.vector(inner.need("to", "to = [x, y, z]"), dimension::length);
        inner.finish();
        need_length(*node, p.from, p.to);
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

void read_materials(Study& study, const Node& document, const Context& context) {
    for (const Node& node : cards_of(document, "material")) {
        CardReader reader(node, context.quantities, "[[material]]", context.plane);
        Material material;
        const std::string name = read_name(reader, "steel");
        if (const Node* like = reader.find("like")) {
            const std::string word = reader.text(*like);
            const LibraryMaterial* entry = find_library_material(word);
            if (entry == nullptr)
                throw Error::input(like->place, "the library has no material \"" + word + "\"",
                                   nearest(word, library_names()) ? suggestion(word, library_names())
                                                                  : "\"upright materials\" lists them");
            material = to_material(*entry, study.units);
        }
        material.name = name;
        material.place = node.place;
        const auto take = [&](const char* key, const Dimension& d) -> std::optional<double> {
            const Node* value = reader.find(key);
            if (value == nullptr) return {};
            if (value->list() != nullptr) throw not_served(value->place, "an orthotropic material (a list)");
            if (!material.source.empty() && material.source.find("overridden") == std::string::npos)
                material.source += "; partly overridden in the study";
            return reader.positive(*value, d);
        };
        if (const auto v = take("E", dimension::stress)) material.E = *v;
        if (const Node* nu = reader.find("nu")) {
            if (nu->list() != nullptr) throw not_served(nu->place, "an orthotropic material (a list)");
            material.nu = reader.number(*nu, dimension::none);
            if (material.nu <= -1.0 || material.nu >= 0.5)
                throw Error::input(nu->place, "Poisson's ratio must lie above -1 and below 0.5");
        }
        if (const auto v = take("density", dimension::density)) material.density = *v;
        if (const auto v = take("yield", dimension::stress)) material.yield = *v;
        if (const auto v = take("ultimate", dimension::stress)) material.ultimate = *v;
        if (const auto v = take("expansion", dimension::expansion)) material.expansion = *v;
        reader.finish({"G", "frame"});
        const char* hint =
            "Write it, or like = \"structural steel S235\" (\"upright materials\" lists what there is)";
        if (material.E <= 0.0)
            throw Error::input(node.place, "the material \"" + name + "\" has no E (Young's modulus)", hint);
        if (node.find("like") == nullptr && node.find("nu") == nullptr)
            throw Error::input(node.place, "the material \"" + name + "\" has no nu (Poisson's ratio)", hint);
        if (material.density <= 0.0)
            throw Error::input(node.place, "the material \"" + name + "\" has no density", hint);
        if (material.yield && material.ultimate && *material.yield > *material.ultimate)
            throw Error::input(node.place,
                               "the material \"" + name + "\" yields above its ultimate strength");
        if (material.source.empty()) material.source = "own";
        study.materials.push_back(material);
    }
}

void read_regions(Study& study, const Node& document, const Context& context) {
    for (const Node& node : cards_of(document, "region")) {
        CardReader reader(node, context.quantities, "[[region]]", context.plane);
        RegionCard region;
        region.name = read_name(reader, "block");
        region.place = node.place;
        const std::string role = reader.choice(reader.need("role", "role = \"design\", \"keep\" or \"void\""),
                                               {"design", "keep", "void"});
        region.role = role == "design" ? Role::Design : role == "keep" ? Role::Keep : Role::Void;
        const Node* material = reader.find("material");
        if (material != nullptr) {
            region.material = reader.text(*material);
            if (region.role == Role::Void)
                throw Error::input(material->place, "a void region has no material", "Remove this key");
            const bool own = std::any_of(study.materials.begin(), study.materials.end(),
                                         [&](const Material& m) { return m.name == region.material; });
            if (!own) {
                const LibraryMaterial* entry = find_library_material(region.material);
                if (entry == nullptr) {
                    std::vector<std::string> known;
                    for (const Material& m : study.materials) known.push_back(m.name);
                    for (const std::string& n : library_names()) known.push_back(n);
                    throw Error::input(material->place, "there is no material \"" + region.material + "\"",
                                       suggestion(region.material, known, 4));
                }
                Material from_library = to_material(*entry, study.units);
                from_library.name = region.material;
                from_library.place = material->place;
                study.materials.push_back(from_library);
            }
        } else if (region.role != Role::Void) {
            throw Error::input(node.place, "the region \"" + region.name + "\" has no material",
                               "Write material = \"…\" with the name of a [[material]] or of the library");
        }
        const std::optional<Shape> shape = read_shape(reader);
        const Node* skin = reader.find("skin_of");
        const Node* depth = reader.find("depth");
        if (skin != nullptr) {
            if (shape)
                throw Error::input(skin->place, "a region has either a shape or skin_of",
                                   "Remove one of them");
            if (depth == nullptr)
                throw Error::input(node.place, "skin_of needs a depth", "Write depth = \"6 mm\"");
            region.extent = Skin{reader.names(*skin), reader.positive(*depth, dimension::length)};
        } else {
            if (depth != nullptr)
                throw Error::input(depth->place, "depth belongs to skin_of", "Write skin_of = \"…\" as well");
            // Keys that are not served are named before the shape is missed.
            if (!shape) {
                if (const Node* file = node.find("file"))
                    throw not_served(file->place, "\"file\" in [[region]]");
                std::vector<std::string> shapes =
                    context.plane
                        ? std::vector<std::string>{"box", "disk", "polygon", "skin_of"}
                        : std::vector<std::string>{"box", "cylinder", "cone", "sphere", "prism", "skin_of"};
                // A misspelt shape is an unknown key; that message helps more.
                reader.find("within");
                reader.find("copies");
                reader.find("active");
                reader.finish({"frame", "file", "body", "side_of"});
                std::string list;
                for (const std::string& s : shapes) list += (list.empty() ? "" : ", ") + s;
                throw Error::input(node.place, "the region \"" + region.name + "\" has no shape",
                                   "Write one of " + list);
            }
            region.extent = *shape;
        }
        if (const Node* within = reader.find("within")) region.within = reader.names(*within);
        const std::vector<Vec3> copies = read_copies(reader);
        if (!copies.empty() && skin != nullptr)
            throw Error::input(node.find("copies")->place, "skin_of follows the copies of what it covers",
                               "Remove copies here");
        const bool in_use = active(reader);
        reader.finish({"frame", "file", "body", "side_of"});
        if (!in_use) {
            study.inactive.push_back("region " + region.name);
            continue;
        }
        for_copies(region.name, copies, [&](const std::string& name, const Vec3& shift) {
            RegionCard copy = region;
            copy.name = name;
            if (Shape* s = std::get_if<Shape>(&copy.extent)) *s = shifted(*s, shift);
            study.regions.push_back(copy);
        });
    }
    if (study.regions.empty())
        throw Error::input({study.file.string(), 1, 1}, "the study has no region",
                           "Write a [[region]] with name, role, material and a shape");
}

void read_surfaces(Study& study, const Node& document, const Context& context) {
    for (const Node& node : cards_of(document, "surface")) {
        CardReader reader(node, context.quantities, "[[surface]]", context.plane);
        SurfaceCard surface;
        surface.name = read_name(reader, "feet");
        surface.place = node.place;
        if (const Node* of = reader.find("of")) surface.of = reader.names(*of);
        if (const Node* facing = reader.find("facing")) surface.facing = reader.direction(*facing);
        if (const Node* tilt = reader.find("tilt")) {
            surface.tilt = reader.positive(*tilt, dimension::angle);
            if (surface.tilt > 180.0) throw Error::input(tilt->place, "tilt must not exceed 180 degrees");
            if (!surface.facing)
                throw Error::input(tilt->place, "tilt belongs to facing", "Write facing = [0, 0, 1] as well");
        }
        if (const Node* on_plane = reader.find("on_plane")) {
            CardReader inner = reader.inner(*on_plane, "on_plane");
            SurfaceCard::OnPlane p;
            p.point = inner.vector(inner.need("point", "point = [0, 0, 0]"), dimension::length);
            p.normal = inner.direction(inner.need("normal", "normal = [0, 0, 1]"));
            inner.finish();
            surface.on_plane = p;
        }
        if (const Node* on_cylinder = reader.find("on_cylinder")) {
            if (context.plane)
                throw Error::input(on_cylinder->place, "on_cylinder has no place in a plane model",
                                   "Use of = \"hole\" or inside = { disk = … }");
            CardReader inner = reader.inner(*on_cylinder, "on_cylinder");
            SurfaceCard::OnCylinder c;
            c.from = inner.vector(inner.need("from", "from = [x, y, z]"), dimension::length);
            c.to = inner.vector(inner.need("to", "to = [x, y, z]"), dimension::length);
            c.radius = inner.positive(inner.need("radius", "radius = 10"), dimension::length);
            inner.finish();
            need_length(*on_cylinder, c.from, c.to);
            surface.on_cylinder = c;
        }
        if (const Node* inside = reader.find("inside")) {
            CardReader inner = reader.inner(*inside, "inside");
            surface.inside = read_shape(inner);
            inner.finish();
            if (!surface.inside)
                throw Error::input(inside->place, "inside needs a shape",
                                   "Write inside = { box = [[…], […]] }");
        }
        const std::vector<Vec3> copies = read_copies(reader);
        const bool in_use = active(reader);
        reader.finish({"cad", "hole", "frame"});
        if (surface.of.empty() && !surface.facing && !surface.on_plane && !surface.on_cylinder &&
            !surface.inside)
            throw Error::input(node.place, "the surface \"" + surface.name + "\" has no rule",
                               "Write of, facing, on_plane, on_cylinder or inside; they combine");
        if (!in_use) {
            study.inactive.push_back("surface " + surface.name);
            continue;
        }
        for_copies(surface.name, copies, [&](const std::string& name, const Vec3& shift) {
            SurfaceCard copy = surface;
            copy.name = name;
            if (copy.on_plane) copy.on_plane->point += shift;
            if (copy.on_cylinder) {
                copy.on_cylinder->from += shift;
                copy.on_cylinder->to += shift;
            }
            if (copy.inside) *copy.inside = shifted(*copy.inside, shift);
            study.surfaces.push_back(copy);
        });
    }
}

void read_points(Study& study, const Node& document, const Context& context) {
    for (const Node& node : cards_of(document, "point")) {
        CardReader reader(node, context.quantities, "[[point]]", context.plane);
        PointCard point;
        point.name = read_name(reader, "tip");
        point.place = node.place;
        const Node* at = reader.find("at");
        const Node* center = reader.find("center_of");
        if ((at == nullptr) == (center == nullptr))
            throw Error::input(node.place, "the point \"" + point.name + "\" needs either at or center_of",
                               "Write at = [x, y, z] or center_of = \"a surface\"");
        std::vector<Vec3> copies = read_copies(reader);
        const bool in_use = active(reader);
        reader.finish({"frame"});
        point.at_place = (at != nullptr ? at : center)->place;
        if (!in_use) {
            study.inactive.push_back("point " + point.name);
            continue;
        }
        if (center != nullptr) {
            point.at = reader.text(*center);
            if (!copies.empty())
                throw Error::input(point.at_place, "center_of follows the copies of its surface",
                                   "Remove copies here");
            study.points.push_back(point);
            continue;
        }
        const Vec3 place = reader.vector(*at, dimension::length);
        for_copies(point.name, copies, [&](const std::string& name, const Vec3& shift) {
            PointCard copy = point;
            copy.name = name;
            copy.at = Vec3(place + shift);
            study.points.push_back(copy);
        });
    }
}

void read_supports(Study& study, const Node& document, const Context& context) {
    const std::vector<std::string> axes =
        context.plane ? std::vector<std::string>{"x", "y"} : std::vector<std::string>{"x", "y", "z"};
    for (const Node& node : cards_of(document, "support")) {
        CardReader reader(node, context.quantities, "[[support]]", context.plane);
        SupportCard support;
        support.name = read_name(reader, "bolted");
        support.place = node.place;
        const Node& on = reader.need("on", "on = \"a surface or point\"");
        support.on = reader.names(on);
        support.on_place = on.place;
        const Node& hold =
            reader.need("hold", context.plane ? R"(hold = ["x", "y"])" : R"(hold = ["x", "y", "z"])");
        Node::List single{hold};
        for (const Node& item : hold.list() != nullptr ? *hold.list() : single) {
            const std::string word = reader.choice(item, axes, {"rx", "ry", "rz", "r", "t"});
            support.hold[static_cast<std::size_t>(word[0] - 'x')] = true;
        }
        if (hold.list() != nullptr && hold.list()->empty())
            throw Error::input(hold.place, "hold names no direction", "Write hold = [\"x\"] and so on");
        const bool in_use = active(reader);
        reader.finish({"frame", "move"});
        if (in_use)
            study.supports.push_back(support);
        else
            study.inactive.push_back("support " + support.name);
    }
}

void read_loads(Study& study, const Node& document, const Context& context) {
    for (const Node& node : cards_of(document, "load")) {
        CardReader reader(node, context.quantities, "[[load]]", context.plane);
        LoadCard load;
        load.name = read_name(reader, "thrust");
        load.place = node.place;
        const Node* on = reader.find("on");
        const Node* force = reader.find("force");
        const Node* spread = reader.find("spread");
        const Node* pressure = reader.find("pressure");
        const Node* gravity = reader.find("gravity");
        const bool in_use = active(reader);
        reader.finish({"moment", "toward", "frame", "spin", "heat"});
        const int kinds = (force != nullptr) + (pressure != nullptr) + (gravity != nullptr);
        if (kinds != 1)
            throw Error::input(node.place,
                               "the load \"" + load.name + "\" has " +
                                   (kinds == 0 ? "no size" : "more than one kind"),
                               "Write one of force, pressure and gravity");
        if (gravity != nullptr) {
            if (on != nullptr)
                throw Error::input(on->place, "gravity acts on the whole body", "Remove \"on\"");
            load.kind = GravityLoad{reader.vector(*gravity, dimension::acceleration)};
        } else if (on == nullptr) {
            throw Error::input(node.place, "the load \"" + load.name + "\" acts on nothing",
                               "Write on = \"a surface or point\"");
        }
        if (on != nullptr) {
            load.on = reader.names(*on);
            load.on_place = on->place;
        }
        if (spread != nullptr && force == nullptr)
            throw Error::input(spread->place, "spread belongs to a force", "Remove it");
        if (force != nullptr) {
            ForceLoad kind{reader.vector(*force, dimension::force), false};
            if (kind.total.norm() == 0.0) throw Error::input(force->place, "the force is zero");
            if (spread != nullptr)
                kind.each_face = reader.choice(*spread, {"total", "each-face"}) == "each-face";
            load.kind = kind;
        }
        if (pressure != nullptr) load.kind = PressureLoad{reader.number(*pressure, dimension::stress)};
        if (in_use)
            study.loads.push_back(load);
        else
            study.inactive.push_back("load " + load.name);
    }
}

// The factors of each load in a case: one, or a list that means "each of these".
std::vector<std::pair<std::string, std::vector<double>>> read_factors(const CardReader& reader,
                                                                      const Node& node) {
    std::vector<std::pair<std::string, std::vector<double>>> out;
    if (const Node::Table* table = node.table()) {
        for (const Entry& entry : *table) {
            std::vector<double> factors;
            if (const Node::List* list = entry.node.list()) {
                if (list->empty()) throw Error::input(entry.node.place, "the list of factors is empty");
                for (const Node& item : *list) factors.push_back(reader.number(item, dimension::none));
            } else {
                factors.push_back(reader.number(entry.node, dimension::none));
            }
            out.emplace_back(entry.key, factors);
        }
    } else {
        for (const std::string& name : reader.names(node)) out.emplace_back(name, std::vector<double>{1.0});
    }
    return out;
}

void read_cases(Study& study, const Node& document, const Context& context) {
    for (const Node& node : cards_of(document, "case")) {
        CardReader reader(node, context.quantities, "[[case]]", context.plane);
        StaticCase card;
        card.name = read_name(reader, "start-up");
        card.place = node.place;
        if (const Node* kind = reader.find("kind")) reader.choice(*kind, {"static"}, {"modal"});
        const Node& supports = reader.need("supports", R"(supports = ["bolted"])");
        card.supports = reader.names(supports);
        require_known(card.supports, names_of(study.supports), "support", supports.place);
        const Node& loads = reader.need("loads", "loads = { thrust = 1.0 }");
        const auto factors = read_factors(reader, loads);
        if (factors.empty())
            throw Error::input(loads.place, "the case \"" + card.name + "\" has no load",
                               "Write loads = { thrust = 1.0 }");
        for (const auto& [name, list] : factors) {
            Place place = loads.place;
            if (const Node* entry = loads.find(name)) place = entry->place;
            require_known({name}, names_of(study.loads), "load", place);
        }
        if (const Node* weight = reader.find("weight")) {
            card.weight = reader.number(*weight, dimension::none);
            if (card.weight < 0.0) throw Error::input(weight->place, "a weight must not be negative");
        }
        const bool in_use = active(reader);
        reader.finish({"modes"});
        if (!in_use) {
            study.inactive.push_back("case " + card.name);
            continue;
        }
        std::size_t count = 1;
        for (const auto& [name, list] : factors) count *= list.size();
        if (count > 64)
            throw Error::input(loads.place, "the lists of factors make " + std::to_string(count) + " cases",
                               "At most 64 are allowed; write fewer");
        for (std::size_t i = 0; i < count; ++i) {
            StaticCase one = card;
            if (count > 1) one.name += "/" + std::to_string(i + 1);
            std::size_t rest = i;
            std::size_t block = count;
            for (const auto& [name, list] : factors) {
                block /= list.size();
                one.loads.emplace_back(name, list[rest / block]);
                rest %= block;
            }
            study.cases.push_back(one);
        }
    }
}

void read_symmetry(Study& study, const Node& document, const Context& context) {
    const Node* node = document.find("symmetry");
    if (node == nullptr) return;
    CardReader reader(*node, context.quantities, "[symmetry]", context.plane);
    const Node& planes = reader.need("planes", R"(planes = ["x = 0"])");
    Node::List single{planes};
    for (const Node& item : planes.list() != nullptr ? *planes.list() : single) {
        const std::string word = reader.text(item);
        const auto equals = word.find('=');
        const auto letter = word.find_first_not_of(' ');
        const char* axes = context.plane ? "xy" : "xyz";
        if (equals == std::string::npos || letter == std::string::npos ||
            std::string(axes).find(word[letter]) == std::string::npos ||
            word.find_first_not_of(' ', letter + 1) != equals)
            throw Error::input(item.place, "\"" + word + "\" is not a symmetry plane",
                               "Write \"x = 0\" or \"y = 100 mm\"");
        SymmetryPlane plane;
        plane.axis = word[letter] - 'x';
        plane.at = context.quantities.number(word.substr(equals + 1), dimension::length, item.place);
        plane.place = item.place;
        for (const SymmetryPlane& other : study.symmetry)
            if (other.axis == plane.axis)
                throw Error::input(item.place, "two symmetry planes stand across the same axis",
                                   "One is enough to halve the model");
        study.symmetry.push_back(plane);
    }
    reader.finish();
}

MeshCard read_mesh(const Node& document, const Quantities& quantities, const std::string& file) {
    const Node* node = document.find("mesh");
    if (node == nullptr)
        throw Error::input({file, 1, 1}, "the study has no mesh", "Write [mesh] with size = \"8 mm\"");
    CardReader reader(*node, quantities, "[mesh]", false);
    MeshCard mesh;
    mesh.place = node->place;
    if (const Node* kind = reader.find("kind")) reader.choice(*kind, {"grid"}, {"polar", "fitted", "file"});
    mesh.size = reader.positive(reader.need("size", "size = \"8 mm\""), dimension::length);
    if (const Node* element = reader.find("element")) {
        const std::string word =
            reader.choice(*element, {"solid", "plane-stress", "plane-strain"}, {"shell"});
        mesh.family = word == "solid"          ? ElementFamily::Solid
                      : word == "plane-stress" ? ElementFamily::PlaneStress
                                               : ElementFamily::PlaneStrain;
    }
    if (const Node* thickness = reader.find("thickness")) {
        if (!mesh.plane())
            throw Error::input(thickness->place, "thickness belongs to plane models", "Remove it");
        mesh.thickness = reader.positive(*thickness, dimension::length);
    } else if (mesh.plane()) {
        throw Error::input(node->place, "a plane model needs a thickness", "Write thickness = \"1 mm\"");
    }
    if (const Node* order = reader.find("order"))
        if (reader.whole(*order, 1) != 1)
            throw not_served(order->place, "an order above 1", "Write order = 1");
    if (const Node* formulation = reader.find("formulation"))
        mesh.formulation = reader.choice(*formulation, {"enhanced", "plain"}) == "plain"
                               ? Formulation::Plain
                               : Formulation::Enhanced;
    reader.finish({"refine"});
    return mesh;
}

void read_responses(Study& study, const Node& document, const Context& context) {
    for (const Node& node : cards_of(document, "response")) {
        CardReader reader(node, context.quantities, "[[response]]", context.plane);
        ResponseCard response;
        response.name = read_name(reader, "stiffness");
        response.place = node.place;
        const std::string word =
            reader.choice(reader.need("measure", "measure = \"compliance\""),
                          {"compliance", "mass", "volume", "mass-fraction", "volume-fraction"},
                          {"displacement", "stress", "safety", "frequency", "reaction"});
        for (const Measure m : {Measure::Compliance, Measure::Mass, Measure::Volume, Measure::MassFraction,
                                Measure::VolumeFraction})
            if (word == text(m)) response.measure = m;
        const Node* of = reader.find("of");
        const Node* in_case = reader.find("case");
        const bool compliance = response.measure == Measure::Compliance;
        if (of != nullptr) {
            if (compliance)
                throw Error::input(of->place, "compliance is that of the whole model", "Remove \"of\"");
            response.of = reader.names(*of);
            require_known(response.of, names_of(study.regions), "region", of->place);
        }
        if (in_case != nullptr) {
            if (!compliance)
                throw Error::input(in_case->place, "\"" + word + "\" does not depend on a case",
                                   "Remove \"case\"");
            response.in_case = reader.text(*in_case);
            require_known({response.in_case}, names_of(study.cases), "case", in_case->place);
        }
        const Dimension d = dimension_of(response.measure);
        if (const Node* bound = reader.find("min")) response.min = reader.number(*bound, d);
        if (const Node* bound = reader.find("max")) response.max = reader.positive(*bound, d);
        const bool fraction =
            response.measure == Measure::MassFraction || response.measure == Measure::VolumeFraction;
        if (fraction && response.max && *response.max > 1.0)
            throw Error::input(node.find("max")->place, "a fraction cannot exceed 1",
                               "Write 0.35 or \"35 %\"");
        if (response.min && response.max && *response.min > *response.max)
            throw Error::input(node.find("min")->place, "min lies above max");
        const bool in_use = active(reader);
        reader.finish({"at", "component", "mode", "except"});
        if (in_use)
            study.responses.push_back(response);
        else
            study.inactive.push_back("response " + response.name);
    }
}

void read_goal(Study& study, const Node& document, const Context& context) {
    const Node* node = document.find("goal");
    if (node == nullptr) return;
    CardReader reader(*node, context.quantities, "[goal]", context.plane);
    const Node* minimize = reader.find("minimize");
    const Node* maximize = reader.find("maximize");
    reader.finish();
    if ((minimize == nullptr) == (maximize == nullptr))
        throw Error::input(node->place, "[goal] needs one response to minimize or maximize",
                           "Write minimize = \"stiffness\"");
    if (maximize != nullptr)
        throw not_served(maximize->place, "\"maximize\" in [goal]", "Minimize compliance, mass or volume");
    GoalCard goal;
    goal.response = reader.text(*minimize);
    goal.place = minimize->place;
    require_known({goal.response}, names_of(study.responses), "response", goal.place);
    study.goal = goal;
}

double read_memory(const Node& node, const CardReader& reader) {
    static const std::vector<std::pair<std::string, double>> sizes{{"TB", 1e12}, {"GB", 1e9}, {"MB", 1e6}};
    const std::string word = reader.text(node);
    for (const auto& [unit, size] : sizes) {
        const auto at = word.find(unit);
        if (at == std::string::npos || at + unit.size() != word.size()) continue;
        char* end = nullptr;
        const double number = std::strtod(word.c_str(), &end);
        if (end != word.c_str() && number > 0 &&
            std::string(end).find_first_not_of(' ') == at - static_cast<std::size_t>(end - word.c_str()))
            return number * size;
        if (end == word.c_str() + at && number > 0) return number * size;
    }
    throw Error::input(node.place, "\"" + word + "\" is not a size of memory", "Write \"12 GB\"");
}

void read_run(Study& study, const Node& document, const Context& context) {
    const Node* node = document.find("run");
    if (node == nullptr) return;
    CardReader reader(*node, context.quantities, "[run]", context.plane);
    RunCard& run = study.run;
    if (const Node* n = reader.find("iterations")) run.iterations = reader.whole(*n, 1);
    if (const Node* n = reader.find("stop_when")) run.stop_when = reader.positive(*n, dimension::none);
    if (const Node* n = reader.find("sharpen")) run.sharpen = reader.flag(*n);
    if (const Node* n = reader.find("penalty")) {
        run.penalty = reader.number(*n, dimension::none);
        if (*run.penalty < 1.0 || *run.penalty > 10.0)
            throw Error::input(n->place, "the penalty must lie between 1 and 10", "3 is usual");
    }
    if (const Node* n = reader.find("filter")) {
        run.filter = reader.positive(*n, dimension::length);
        run.filter_place = n->place;
    }
    if (const Node* n = reader.find("start")) {
        if (n->text() != nullptr && *n->text() == "uniform") {
            run.start.reset();
        } else if (n->text() != nullptr && n->text()->find(".run") != std::string::npos) {
            throw not_served(n->place, "a start from an earlier run");
        } else {
            run.start = reader.positive(*n, dimension::none);
            if (*run.start > 1.0) throw Error::input(n->place, "a density lies between 0 and 1");
        }
    }
    if (const Node* n = reader.find("solver"))
        reader.choice(*n, {"auto", "direct"}, {"multigrid", "distributed"});
    if (const Node* n = reader.find("threads")) run.threads = reader.whole(*n, 0);
    if (const Node* n = reader.find("memory")) run.memory = read_memory(*n, reader);
    if (const Node* n = reader.find("keep_every")) run.keep_every = reader.whole(*n, 1);
    reader.finish({"coarse_first"});
}

void check_document(const Node& document) {
    static const std::vector<std::string> served{
        "title",   "notes", "units", "extends",  "values", "material", "region", "surface", "point",
        "support", "load",  "case",  "symmetry", "mesh",   "response", "goal",   "run"};
    static const std::vector<std::string> later{"frame", "coupling", "joint", "mass", "bond", "form"};
    std::vector<std::string> all = served;
    all.insert(all.end(), later.begin(), later.end());
    for (const Entry& entry : *document.table()) {
        if (std::find(served.begin(), served.end(), entry.key) != served.end()) continue;
        if (std::find(later.begin(), later.end(), entry.key) != later.end())
            throw not_served(entry.place, "\"" + entry.key + "\"");
        throw Error::input(entry.place, "a study has no \"" + entry.key + "\"",
                           suggestion(entry.key, nearest(entry.key, all) ? all : served, 30));
    }
}

std::vector<NamedValue> read_values(const Node& document) {
    std::vector<NamedValue> out;
    const Node* node = document.find("values");
    if (node == nullptr) return out;
    if (node->table() == nullptr) throw Error::input(node->place, "values is a table", "Write [values]");
    for (const Entry& entry : *node->table()) {
        if (entry.node.number())
            out.push_back({entry.key, *entry.node.number(), entry.node.place});
        else if (entry.node.text())
            out.push_back({entry.key, *entry.node.text(), entry.node.place});
        else
            throw Error::input(entry.node.place,
                               "a value is a number or a text with a unit and this is " + entry.node.kind());
    }
    return out;
}

UnitSystem read_units(const Node& document) {
    const Node* node = document.find("units");
    if (node == nullptr)
        throw Error::input({document.place.file, 1, 1}, "the study does not say its units",
                           R"(Write units = ["mm", "N", "s"])");
    const Node::List* list = node->list();
    const bool texts =
        list != nullptr && list->size() == 3 &&
        std::all_of(list->begin(), list->end(), [](const Node& n) { return n.text() != nullptr; });
    if (!texts)
        throw Error::input(node->place, "units are a length, a force and a time",
                           R"(Write units = ["mm", "N", "s"])");
    return make_unit_system(*(*list)[0].text(), *(*list)[1].text(), *(*list)[2].text(), node->place);
}

std::string read_text_key(const Node& document, const std::string& key) {
    const Node* node = document.find(key);
    if (node == nullptr) return {};
    if (node->text() == nullptr)
        throw Error::input(node->place, "\"" + key + "\" is a text and this is " + node->kind());
    return *node->text();
}

} // namespace

Study load_study(const std::filesystem::path& file, const std::vector<std::string>& settings) {
    Node document = load_document(file);
    for (const std::string& setting : settings) apply_setting(document, setting);
    check_document(document);

    Study study;
    study.file = file;
    study.resolved = write_document(document);
    study.title = read_text_key(document, "title");
    if (study.title.empty()) study.title = file.stem().string();
    study.notes = read_text_key(document, "notes");
    study.units = read_units(document);
    const Quantities quantities(study.units, read_values(document));
    study.mesh = read_mesh(document, quantities, file.string());
    const Context context{quantities, study.mesh.plane()};
    read_materials(study, document, context);
    read_regions(study, document, context);
    read_surfaces(study, document, context);
    read_points(study, document, context);
    read_supports(study, document, context);
    read_loads(study, document, context);
    read_cases(study, document, context);
    read_symmetry(study, document, context);
    read_responses(study, document, context);
    read_goal(study, document, context);
    read_run(study, document, context);
    check_names(study);
    return study;
}

} // namespace upright
