// Regions: what is design, kept or void, and of which material.
#include "base/nearest.hpp"
#include "study/cards/cards.hpp"
#include "study/material_library.hpp"
#include "study/names.hpp"

#include <algorithm>

namespace upright {

namespace {

struct RegionDraft : RegionCard {
    std::optional<Shape> shape;
    const Frame* frame = nullptr;
    Skin skin;
    HoleRing ring;
    std::vector<RigidMove> copies;
    Place material_place;
};

const Schema<HoleRing>& ring_schema() {
    static const Schema<HoleRing> out = [] {
        auto s =
            schema<HoleRing>("ring", "rings at both mouths of holes",
                             {key("around", value::names("void cylinders"), &HoleRing::around)
                                  .example("around = \"bolt-hole\"")
                                  .says("void cylinders"),
                              key<HoleRing>("hole", {value::table(hole_facts)},
                                            [](HoleRing& r, const Given& g) { r.hole_radius = read_hole(g); })
                                  .example("hole = { radius = 6 }")
                                  .says("instead of `around`: every hole of a radius in CAD bodies"),
                              key("width", value::quantity(dimension::length).above(0), &HoleRing::width)
                                  .must("width = \"6 mm\"")
                                  .says("across the hole"),
                              key("depth", value::quantity(dimension::length).above(0), &HoleRing::depth)
                                  .must("depth = \"4 mm\"")
                                  .says("along the hole")});
        s.facts.choices.push_back({{"around", "hole"},
                                   true,
                                   "a ring needs either around or hole",
                                   "a ring needs either around or hole",
                                   "Write around = \"a void cylinder\" or hole = { radius = 6 }"});
        return s;
    }();
    return out;
}

void finish_region(RegionDraft& region, const CardReader& reader) {
    const Node* material = reader.find("material");
    if (material != nullptr && region.role == Role::Void)
        throw Error::input(material->place, "a void region has no material", "Remove this key");
    if (material == nullptr && region.role != Role::Void)
        throw Error::input(region.place, "the region \"" + region.name + "\" has no material",
                           "Write material = \"…\" with the name of a [[material]] or of the library");
    const bool layered = reader.has("skin_of");
    const bool ringed = reader.has("ring");
    if (!region.copies.empty() && (layered || ringed))
        throw Error::input(reader.place_of("copies"), "skin_of and ring follow the copies of what they name",
                           "Remove copies here");
    if (layered) {
        if (!reader.has("depth"))
            throw Error::input(region.place, "skin_of needs a depth", "Write depth = \"6 mm\"");
        region.extent = region.skin;
    } else if (ringed) {
        region.extent = region.ring;
    } else if (region.shape) {
        region.extent = region.frame != nullptr ? in_frame(*region.shape, *region.frame) : *region.shape;
    } else {
        std::string list;
        for (const ShapeKey& k : shape_keys()) {
            const auto& homes = k.facts.homes;
            if (std::all_of(homes.begin(), homes.end(),
                            [&](const Home& h) { return h.where && h.where(reader.context()); }) &&
                k.facts.name != "cells")
                list += k.facts.name + ", ";
        }
        throw Error::input(region.place, "the region \"" + region.name + "\" has no shape",
                           "Write one of " + list + "skin_of, ring");
    }
}

const Schema<RegionDraft>& region_schema() {
    using R = RegionDraft;
    static const Schema<R> out = [] {
        auto s = cards<R>(
            "region",
            "a piece of the space; painted in the order of writing, where regions overlap the later one wins",
            "block", true,
            {key("role", Words<Role>{{"design", Role::Design}, {"keep", Role::Keep}, {"void", Role::Void}},
                 &R::role)
                 .must("role = \"design\", \"keep\" or \"void\"")
                 .says("design: material may go; keep: always solid; void: never material"),
             key("material", value::text("a material of the study or of the library"), &R::material,
                 &R::material_place)
                 .fallback("must be there, but for voids")
                 .example("material = \"steel\"")
                 .says("what it is made of")},
            finish_region);
        s.add(keys_of_shapes<R>());
        s.add(
            {key<R>("skin_of", {value::names("earlier regions or surfaces")},
                    [](R& r, const Given& g) { r.skin.of = g.names(); })
                 .example("skin_of = \"bore-hole\"")
                 .says(
                     "a layer of `depth` on the outside of earlier regions, or under surfaces. It takes only "
                     "cells that have material already and of whose material at least half lies within the "
                     "depth (a layer that comes to no cell is an error that names the size that would do), "
                     "and "
                     "never fills a void; `check` shows the volume as written beside the meshed one"),
             key<R>("depth", {value::quantity(dimension::length).above(0)},
                    [](R& r, const Given& g) { r.skin.depth = g.number(); })
                 .beside({"skin_of"}, "depth belongs to skin_of", "Write skin_of = \"…\" as well")
                 .example("depth = \"6 mm\"")
                 .says("of the layer"),
             key<R>("into", {value::word({"body", "outside"})},
                    [](R& r, const Given& g) { r.skin.into_body = g.word() == "body"; })
                 .beside({"skin_of"}, "into belongs to skin_of", "Write skin_of = \"…\" as well")
                 .fallback("\"outside\"")
                 .example("into = \"body\"")
                 .says("\"body\": the layer lies inside of the regions with material"),
             table_key("ring", ring_schema, &R::ring, facts_of<HoleRing, ring_schema>)
                 .was("washer")
                 .example("ring = { … }")
                 .says("rings at both mouths of void cylinders, or of every hole of a radius in CAD bodies"),
             key<R>("frame", {value::name("frame")}, [](R& r, const Given& g) { r.frame = &read_frame(g); })
                 .fallback("the global axes")
                 .example("frame = \"bore\"")
                 .says("the shape is written in its axes"),
             key("within", value::names("earlier regions"), &R::within)
                 .fallback("everywhere")
                 .example("within = \"block\"")
                 .says("only where those regions were painted"),
             key("thickness", value::quantity(dimension::length).above(0), &R::thickness)
                 .where(has_thickness, "thickness belongs to plane models and shells", "Remove it")
                 .fallback("the mesh's")
                 .example("thickness = \"2 mm\"")
                 .says("of plane models and shells"),
             copies_key<R>()});
        std::vector<std::string> shapes = shape_words();
        shapes.insert(shapes.end(), {"skin_of", "ring"});
        s.facts.choices.push_back(
            {shapes, false, {}, "{title} has two shapes, {two}", "Write one region for each"});
        s.facts.notes = "A cell belongs to a shape that holds at least half of it (measured, not sampled).";
        return s;
    }();
    return out;
}

} // namespace

// A material that a card names and the study does not have comes from the library.
void need_material(Study& study, const std::string& name, const Place& place) {
    const std::vector<std::string> own = names_of(study.materials);
    if (std::find(own.begin(), own.end(), name) != own.end()) return;
    const LibraryMaterial* entry = find_library_material(name);
    if (entry == nullptr) {
        std::vector<std::string> known = own;
        for (const std::string& n : library_names()) known.push_back(n);
        throw Error::input(place, "there is no material \"" + name + "\"", suggestion(name, known, 4));
    }
    Material from_library = to_material(*entry, study.units);
    from_library.name = name;
    from_library.place = place;
    study.materials.push_back(from_library);
}

const TableFacts& region_facts() {
    return region_schema().facts;
}

double Study::thickness(RegionId region) const {
    if (region == RegionId::None) return mesh.thickness;
    return regions[index(region)].thickness.value_or(mesh.thickness);
}

void read_regions(Study& study, const Node& document, const Context& context) {
    for (const Node& node : cards_of(document, "region")) {
        const CardReader reader(node, context, "[[region]]");
        const RegionDraft region = read_table(region_schema(), reader);
        if (region.role != Role::Void) need_material(study, region.material, region.material_place);
        if (!in_use(reader)) {
            note_resting(study, "region", region.name);
            continue;
        }
        for_copies(region.name, region.copies, [&](const std::string& name, const RigidMove& motion) {
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

} // namespace upright
