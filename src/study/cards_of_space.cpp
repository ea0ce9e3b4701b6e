// Materials, regions, surfaces, points.
#include "base/nearest.hpp"
#include "study/cards.hpp"
#include "study/material_library.hpp"
#include "study/names.hpp"

#include <Eigen/Dense>
#include <algorithm>

namespace upright {

namespace {

// Lists of three make a material orthotropic; all of E, nu and G are lists then.
std::optional<Orthotropic> read_orthotropic(CardReader& reader, const Study& study, const Node& card,
                                            const Context& context) {
    const Node* E = reader.find("E");
    const Node* nu = reader.find("nu");
    const Node* G = reader.find("G");
    const bool any =
        (E != nullptr && E->list() != nullptr) || (nu != nullptr && nu->list() != nullptr) || G != nullptr;
    if (!any) {
        if (const Node* frame = reader.find("frame"))
            throw Error::input(frame->place, "frame belongs to an orthotropic material",
                               "Write E, nu and G as lists of three, or remove it");
        return {};
    }
    const char* hint = "Write E = [three], nu = [xy, yz, zx], G = [xy, yz, zx]";
    for (const Node* part : {E, nu, G})
        if (part == nullptr || part->list() == nullptr)
            throw Error::input(part == nullptr ? card.place : part->place,
                               "an orthotropic material needs E, nu and G, each a list of three", hint);
    Orthotropic out;
    CardReader in_space(card, context.quantities, "[[material]]", false);
    out.E = in_space.vector(*E, dimension::stress);
    out.nu = in_space.vector(*nu, dimension::none);
    out.G = in_space.vector(*G, dimension::stress);
    if (!(out.E.minCoeff() > 0.0)) throw Error::input(E->place, "every Young's modulus must be above zero");
    if (!(out.G.minCoeff() > 0.0)) throw Error::input(G->place, "every shear modulus must be above zero");
    Mat3 S = Mat3::Zero();
    for (int a = 0; a < 3; ++a) {
        const int b = (a + 1) % 3;
        S(a, a) = 1.0 / out.E[a];
        S(a, b) = S(b, a) = -out.nu[a] / out.E[a];
    }
    if (!(S(0, 0) * S(1, 1) > S(0, 1) * S(0, 1)) || !(S(1, 1) * S(2, 2) > S(1, 2) * S(1, 2)) ||
        !(S(2, 2) * S(0, 0) > S(0, 2) * S(0, 2)) || !(S.determinant() > 0.0))
        throw Error::input(nu->place,
                           "no material has these ratios: some load would give energy back (nu xy must stay "
                           "below the square root of E x / E y, and so on)",
                           "nu xy is the contraction along y under a stress along x");
    if (const Node* expansion = reader.find("expansion");
        expansion != nullptr && expansion->list() != nullptr)
        out.expansion = in_space.vector(*expansion, dimension::expansion);
    if (const Frame* frame = read_frame(reader, study)) out.frame = *frame;
    return out;
}

} // namespace

void read_materials(Study& study, const Node& document, const Context& context) {
    for (const Node& node : cards_of(document, "material")) {
        CardReader reader(node, context.quantities, "[[material]]", context.flat);
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
            if (!material.source.empty() && material.source.find("overridden") == std::string::npos)
                material.source += "; partly overridden in the study";
            return reader.positive(*value, d);
        };
        material.orthotropic = read_orthotropic(reader, study, node, context);
        const Node* nu = reader.find("nu");
        if (material.orthotropic) {
            material.E = material.orthotropic->E.maxCoeff();
            material.nu = 0.0;
            material.source = "own";
        } else if (const auto v = take("E", dimension::stress)) {
            material.E = *v;
        }
        if (nu != nullptr && !material.orthotropic) {
            material.nu = reader.number(*nu, dimension::none);
            if (material.nu <= -1.0 || material.nu >= 0.5)
                throw Error::input(nu->place, "Poisson's ratio must lie above -1 and below 0.5");
        }
        if (const auto v = take("density", dimension::density)) material.density = *v;
        if (const auto v = take("yield", dimension::stress)) material.yield = *v;
        if (const auto v = take("ultimate", dimension::stress)) material.ultimate = *v;
        if (material.orthotropic && material.orthotropic->expansion)
            material.expansion = material.orthotropic->expansion->mean();
        else if (const auto v = take("expansion", dimension::expansion))
            material.expansion = *v;
        reader.finish();
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
        CardReader reader(node, context.quantities, "[[region]]", context.flat);
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
        const std::optional<Shape> shape = read_shape(reader, context);
        const Frame* frame = read_frame(reader, study);
        const Node* skin = reader.find("skin_of");
        const Node* depth = reader.find("depth");
        const Node* into = reader.find("into");
        const Node* ring = reader.find("ring");
        if (const Node* old = node.find("washer"))
            throw Error::input(old->place, "a region has no key \"washer\" any more", "Write ring = { … }");
        if (into != nullptr && skin == nullptr)
            throw Error::input(into->place, "into belongs to skin_of", "Write skin_of = \"…\" as well");
        if (ring != nullptr) {
            if (shape || skin != nullptr)
                throw Error::input(ring->place, "a region has either a shape, skin_of or ring",
                                   "Remove the others");
            CardReader inner = reader.inner(*ring, "ring");
            HoleRing rings;
            const Node* around = inner.find("around");
            const Node* hole = inner.find("hole");
            if ((around == nullptr) == (hole == nullptr))
                throw Error::input(ring->place, "a ring needs either around or hole",
                                   "Write around = \"a void cylinder\" or hole = { radius = 6 }");
            if (around != nullptr) rings.around = inner.names(*around);
            if (hole != nullptr) {
                CardReader of_hole = inner.inner(*hole, "hole");
                rings.hole_radius = of_hole.positive(of_hole.need("radius", "radius = 6"), dimension::length);
                of_hole.finish();
            }
            rings.width = inner.positive(inner.need("width", "width = \"6 mm\""), dimension::length);
            rings.depth = inner.positive(inner.need("depth", "depth = \"4 mm\""), dimension::length);
            inner.finish();
            region.extent = rings;
        } else if (skin != nullptr) {
            if (shape)
                throw Error::input(skin->place, "a region has either a shape or skin_of",
                                   "Remove one of them");
            if (depth == nullptr)
                throw Error::input(node.place, "skin_of needs a depth", "Write depth = \"6 mm\"");
            Skin layer{reader.names(*skin), reader.positive(*depth, dimension::length), false};
            if (into != nullptr) layer.into_body = reader.choice(*into, {"body", "outside"}) == "body";
            region.extent = layer;
        } else {
            if (depth != nullptr)
                throw Error::input(depth->place, "depth belongs to skin_of", "Write skin_of = \"…\" as well");
            // Keys that are not served are named before the shape is missed.
            if (!shape) {
                std::vector<std::string> shapes =
                    context.flat ? std::vector<std::string>{"box", "disk", "polygon", "side_of", "skin_of"}
                                 : std::vector<std::string>{"box",  "cylinder", "cone",    "sphere", "prism",
                                                            "file", "side_of",  "skin_of", "ring"};
                // A misspelt shape is an unknown key; that message helps more.
                reader.find("within");
                reader.find("copies");
                reader.find("active");
                reader.find("thickness");
                reader.finish();
                std::string list;
                for (const std::string& s : shapes) list += (list.empty() ? "" : ", ") + s;
                throw Error::input(node.place, "the region \"" + region.name + "\" has no shape",
                                   "Write one of " + list);
            }
            region.extent = frame != nullptr ? in_frame(*shape, *frame) : *shape;
        }
        if (const Node* thickness = reader.find("thickness")) {
            if (!study.mesh.plane() && !study.mesh.shell())
                throw Error::input(thickness->place, "thickness belongs to plane models and shells",
                                   "Remove it");
            region.thickness = reader.positive(*thickness, dimension::length);
        }
        if (const Node* within = reader.find("within")) region.within = reader.names(*within);
        const std::vector<RigidMove> copies = read_copies(reader, study);
        if (!copies.empty() && (skin != nullptr || ring != nullptr))
            throw Error::input(node.find("copies")->place,
                               "skin_of and ring follow the copies of what they name", "Remove copies here");
        const bool in_use = active(reader);
        reader.finish();
        if (!in_use) {
            study.inactive.push_back("region " + region.name);
            continue;
        }
        for_copies(region.name, copies, [&](const std::string& name, const RigidMove& motion) {
            RegionCard copy = region;
            copy.name = name;
            if (Shape* s = std::get_if<Shape>(&copy.extent)) *s = moved(*s, motion);
            study.regions.push_back(copy);
        });
    }
    if (study.regions.empty())
        throw Error::input({study.file.string(), 1, 1}, "the study has no region",
                           "Write a [[region]] with name, role, material and a shape");
}

void read_surfaces(Study& study, const Node& document, const Context& context) {
    for (const Node& node : cards_of(document, "surface")) {
        CardReader reader(node, context.quantities, "[[surface]]", context.flat);
        SurfaceCard surface;
        surface.name = read_name(reader, "feet");
        surface.place = node.place;
        if (const Node* of = reader.find("of")) surface.of = reader.names(*of);
        if (const Node* facing = reader.find("facing")) {
            const Node::List* list = facing->list();
            if (list != nullptr && !list->empty() && list->front().list() != nullptr)
                for (const Node& one : *list) surface.facing.push_back(reader.direction(one));
            else
                surface.facing.push_back(reader.direction(*facing));
        }
        if (const Node* tilt = reader.find("tilt")) {
            surface.tilt = reader.positive(*tilt, dimension::angle);
            if (surface.tilt > 180.0) throw Error::input(tilt->place, "tilt must not exceed 180 degrees");
            if (surface.facing.empty())
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
            if (context.flat)
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
            surface.inside = read_shape(inner, context);
            if (const Frame* frame = read_frame(inner, study); frame != nullptr && surface.inside)
                surface.inside = in_frame(*surface.inside, *frame);
            inner.finish();
            if (!surface.inside)
                throw Error::input(inside->place, "inside needs a shape",
                                   "Write inside = { box = [[…], […]] }");
        }
        const std::vector<RigidMove> copies = read_copies(reader, study);
        const bool in_use = active(reader);
        if (const Node* cad = reader.find("cad")) {
            Node::List single{*cad};
            for (const Node& number : cad->list() != nullptr ? *cad->list() : single)
                surface.cad.push_back(reader.whole(number, 1));
            if (surface.cad.empty())
                throw Error::input(cad->place, "cad names no face", "Write cad = [12, 14]");
        }
        if (const Node* hole = reader.find("hole")) {
            CardReader inner = reader.inner(*hole, "hole");
            surface.hole_radius = inner.positive(inner.need("radius", "radius = 6"), dimension::length);
            inner.finish();
        }
        if (const Node* set = reader.find("set")) {
            if (study.mesh.kind != MeshKind::File)
                throw Error::input(set->place, "set names a set of points of a mesh file",
                                   "Write [mesh] kind = \"file\", or another rule");
            surface.set = reader.text(*set);
        }
        reader.finish();
        if (surface.of.empty() && surface.facing.empty() && !surface.on_plane && !surface.on_cylinder &&
            !surface.inside && surface.cad.empty() && !surface.hole_radius && surface.set.empty())
            throw Error::input(
                node.place, "the surface \"" + surface.name + "\" has no rule",
                "Write of, facing, on_plane, on_cylinder, inside, cad, hole or set; they combine");
        if (!in_use) {
            study.inactive.push_back("surface " + surface.name);
            continue;
        }
        // Copies of a surface of one copy of a region would all be the same.
        for (const std::string& of : surface.of) {
            const auto slash = of.find('/');
            if (copies.empty() || slash == std::string::npos) continue;
            throw Error::input(node.find("of")->place,
                               "the surface \"" + surface.name + "\" has copies and names one copy, \"" + of +
                                   "\", of a region: each would be the same",
                               "Write of = \"" + of.substr(0, slash) +
                                   "\" (each copy then takes its own), or "
                                   "remove copies");
        }
        for_copies(surface.name, copies, [&](const std::string& name, const RigidMove& motion) {
            SurfaceCard copy = surface;
            copy.name = name;
            // A copy of the surface of a copied region is that of the copy with its number.
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
            study.surfaces.push_back(copy);
        });
    }
}

void read_points(Study& study, const Node& document, const Context& context) {
    for (const Node& node : cards_of(document, "point")) {
        CardReader reader(node, context.quantities, "[[point]]", context.flat);
        PointCard point;
        point.name = read_name(reader, "tip");
        point.place = node.place;
        const Node* at = reader.find("at");
        const Node* center = reader.find("center_of");
        if ((at == nullptr) == (center == nullptr))
            throw Error::input(node.place, "the point \"" + point.name + "\" needs either at or center_of",
                               "Write at = [x, y, z] or center_of = \"a surface\"");
        const std::vector<RigidMove> copies = read_copies(reader, study);
        const bool in_use = active(reader);
        const Frame* frame = read_frame(reader, study);
        reader.finish();
        point.at_place = (at != nullptr ? at : center)->place;
        if (!in_use) {
            study.inactive.push_back("point " + point.name);
            continue;
        }
        if (center != nullptr) {
            point.at = reader.text(*center);
            if (frame != nullptr) throw Error::input(point.at_place, "center_of needs no frame", "Remove it");
            if (!copies.empty())
                throw Error::input(point.at_place, "center_of follows the copies of its surface",
                                   "Remove copies here");
            study.points.push_back(point);
            continue;
        }
        Vec3 place = reader.vector(*at, dimension::length);
        if (frame != nullptr) place = frame->axes * place + frame->origin;
        for_copies(point.name, copies, [&](const std::string& name, const RigidMove& motion) {
            PointCard copy = point;
            copy.name = name;
            copy.at = motion.place(place);
            study.points.push_back(copy);
        });
    }
}

} // namespace upright
