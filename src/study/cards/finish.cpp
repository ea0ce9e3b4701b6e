// What carving adds to a part or takes from it.
#include "study/cards/cards.hpp"
#include "study/material_library.hpp"
#include "study/names.hpp"

#include <algorithm>

namespace upright {

namespace {

struct FinishDraft : RegionCard {
    std::optional<Shape> shape;
    Skin stock; // `of` surfaces instead of a shape
    const Frame* frame = nullptr;
    std::vector<RigidMove> copies;
    Place material_place;
};

void require_stock(const FinishDraft& finish) {
    if (finish.role == Role::Void)
        throw Error::input(finish.place, "\"" + finish.name + "\" cuts, and an allowance adds",
                           "Write role = \"add\", or a shape to cut");
    if (finish.shape)
        throw Error::input(finish.place, "\"" + finish.name + "\" has a shape and a surface",
                           "Write one card for each");
    if (finish.frame != nullptr || !finish.copies.empty())
        throw Error::input(finish.place,
                           "frame and copies place a shape, and \"" + finish.name + "\" has none",
                           "Remove them; an allowance lies on all surfaces that `on` names");
}

void finish_card(FinishDraft& finish, const CardReader& reader) {
    const Node* material = reader.find("material");
    if (material != nullptr && finish.role == Role::Void)
        throw Error::input(material->place, "what is cut has no material", "Remove this key");
    if (material == nullptr && finish.role != Role::Void)
        throw Error::input(finish.place, "\"" + finish.name + "\" adds no material",
                           "Write material = \"…\" with the name of a [[material]] or of the library");
    if (!finish.stock.of.empty()) {
        require_stock(finish);
        finish.extent = finish.stock;
        return;
    }
    if (!finish.shape)
        throw Error::input(finish.place, "\"" + finish.name + "\" has no shape",
                           "Write a shape, as of a region: cylinder = { from = …, to = …, radius = … }");
    finish.extent = finish.frame != nullptr ? in_frame(*finish.shape, *finish.frame) : *finish.shape;
}

const Schema<FinishDraft>& finish_schema() {
    using F = FinishDraft;
    static const Schema<F> out = [] {
        auto s = cards<F>(
            "finish",
            "what carving adds to the part or takes from it, as exactly as a region, whatever the design was",
            "grease-hole", true,
            {key("role", Words<Role>{{"add", Role::Keep}, {"cut", Role::Void}}, &F::role)
                 .must("role = \"cut\" or \"add\"")
                 .says("cut: no material in the part; add: material in the part, also beyond the space"),
             key("material", value::text("a material of the study or of the library"), &F::material,
                 &F::material_place)
                 .fallback("must be there with add")
                 .example("material = \"steel\"")
                 .says("of what is added"),
             key<F>("on", {value::names("surfaces")}, [](F& f, const Given& g) { f.stock.of = g.names(); })
                 .beside({"allowance"}, "on belongs to allowance", "Write allowance = \"2 mm\" as well")
                 .example("on = \"flange\"")
                 .says("surfaces that stock is left on"),
             key<F>("allowance", {value::quantity(dimension::length).above(0)},
                    [](F& f, const Given& g) { f.stock.depth = g.number(); })
                 .beside({"on"}, "allowance belongs to on",
                         "Write on = \"…\" with the name of a surface as well")
                 .example("allowance = \"2 mm\"")
                 .says("how deep the stock is that machining takes away: `carve` adds it to what it writes "
                       "and weighs, `verify` leaves it out")},
            finish_card);
        s.add(keys_of_shapes<F>());
        s.add({key<F>("frame", {value::name("frame")}, [](F& f, const Given& g) { f.frame = &read_frame(g); })
                   .fallback("the global axes")
                   .example("frame = \"bore\"")
                   .says("the shape is written in its axes"),
               copies_key<F>()});
        s.facts.choices.push_back(
            {shape_words(), false, {}, "{title} has two shapes, {two}", "Write one card for each"});
        s.facts.notes =
            "Painted in the order of writing, behind all regions, when a part is carved: `carve`, "
            "`verify`, `report` and the figures of parts have it, the design and its analyses have "
            "not.";
        return s;
    }();
    return out;
}

} // namespace

const TableFacts& finish_facts() {
    return finish_schema().facts;
}

void read_finishes(Study& study, const Node& document, const Context& context) {
    for (const Node& node : cards_of(document, "finish")) {
        const CardReader reader(node, context, "[[finish]]");
        const FinishDraft finish = read_table(finish_schema(), reader);
        if (context.flat || context.shell)
            throw Error::input(finish.place, "parts of plane models and shells are not finished",
                               "Write a model of solids, or remove this card");
        if (finish.role != Role::Void) need_material(study, finish.material, finish.material_place);
        if (!in_use(reader)) {
            note_resting(study, "finish", finish.name);
            continue;
        }
        for_copies(finish.name, finish.copies, [&](const std::string& name, const RigidMove& motion) {
            RegionCard copy = finish;
            copy.name = name;
            if (Shape* shape = std::get_if<Shape>(&copy.extent)) *shape = moved(*shape, motion);
            for (const RegionCard& region : study.regions)
                if (region.name == name)
                    throw Error::input(finish.place, "\"" + name + "\" is the name of a region already",
                                       "Give this card another name");
            study.finishes.push_back(copy);
        });
    }
}

} // namespace upright
