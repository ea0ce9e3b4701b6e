// A lattice of struts or sheets inside the carved part.
#include "study/cards/cards.hpp"
#include "study/names.hpp"

#include <fmt/format.h>

namespace upright {

namespace {

constexpr double least_period = 2.0; // thicknesses: below it hardly a void is left between struts

struct InfillDraft : InfillCard {
    const Frame* frame = nullptr;
};

void finish_infill(InfillDraft& infill, const CardReader& reader) {
    if (infill.period < least_period * infill.thickness)
        throw Error::input(reader.place_of("period"),
                           fmt::format("a period below {:g} thicknesses leaves no room between the {}",
                                       least_period,
                                       infill.cell == InfillCard::Cell::Gyroid ? "sheets" : "struts"),
                           "Write a longer period, or a smaller thickness");
    if (infill.skin < 0.5 * infill.thickness)
        throw Error::input(reader.place_of("skin"), "a skin below half the thickness is no wall",
                           "Write a skin of the thickness or more");
    if (infill.frame == nullptr) return;
    if (infill.frame->cylindrical)
        throw Error::input(reader.place_of("frame"), "an infill repeats along straight axes",
                           "Name a frame that is not cylindrical");
    infill.origin = infill.frame->origin;
    infill.axes = infill.frame->axes;
}

const Schema<InfillDraft>& infill_schema() {
    using I = InfillDraft;
    using Cell = InfillCard::Cell;
    static const Schema<I> out = [] {
        auto s = cards<I>(
            "infill", "struts or sheets instead of solid material inside the carved part, below a solid skin",
            "core", true,
            {key<I>("of", {value::names("regions")},
                    [](I& i, const Given& g) {
                        i.of = g.names();
                        require_known(i.of, names_of(g.context().study.regions), "region", g.node.place);
                        for (const RegionCard& region : g.context().study.regions)
                            if (region.role == Role::Void && refers_to(i.of, region.name))
                                throw Error::input(
                                    g.node.place, "\"" + region.name + "\" is void: nothing is there to fill",
                                    "Name regions of material");
                    })
                 .fallback("all that is design")
                 .example("of = \"block\"")
                 .says("regions whose part of the material is filled"),
             key<I>("inside", {value::table(shape_facts)},
                    [](I& i, const Given& g) { i.inside = read_table(shape_schema(), g.inner()).shape; })
                 .fallback("everywhere in them")
                 .example("inside = { box = [[0, 0, 0], [60, 60, 90]] }")
                 .says("the infill ends at this shape, beyond it the part is solid"),
             key("cell",
                 Words<Cell>{{"cubic", Cell::Cubic}, {"octet", Cell::Octet}, {"gyroid", Cell::Gyroid}},
                 &I::cell)
                 .must("cell = \"cubic\", \"octet\" or \"gyroid\"")
                 .says("what repeats: struts along the edges of a cube, struts of an octet truss, or sheets "
                       "of a gyroid"),
             key("period", value::quantity(dimension::length).above(0), &I::period)
                 .must("period = \"12 mm\"")
                 .says("side of the cube that repeats"),
             key("thickness", value::quantity(dimension::length).above(0), &I::thickness)
                 .must("thickness = \"2 mm\"")
                 .says("diameter of struts, thickness of sheets"),
             key("skin", value::quantity(dimension::length).above(0), &I::skin)
                 .must("skin = \"3 mm\"")
                 .says(
                     "solid below the part's surface, on all sides: what is between the struts is closed in"),
             key<I>("frame", {value::name("frame")}, [](I& i, const Given& g) { i.frame = &read_frame(g); })
                 .fallback("the global axes")
                 .example("frame = \"leg\"")
                 .says("axes of the lattice; at its origin is a node of struts")},
            finish_infill);
        s.facts.notes =
            "Cut out of the part when it is carved, behind all [[finish]]: `carve`, `verify`, `report` and "
            "the figures of parts have it, the design and its analyses have not. Of several the later "
            "ones are cut into what the earlier ones left.";
        return s;
    }();
    return out;
}

} // namespace

const TableFacts& infill_facts() {
    return infill_schema().facts;
}

void read_infills(Study& study, const Node& document, const Context& context) {
    read_cards(infill_schema(), document, context, study, [&](const InfillDraft& infill, const CardReader&) {
        if (context.flat || context.shell)
            throw Error::input(infill.place, "parts of plane models and shells are not filled with a lattice",
                               "Write a model of solids, or remove this card");
        for (const RegionCard& region : study.regions)
            if (region.name == infill.name)
                throw Error::input(infill.place, "\"" + infill.name + "\" is the name of a region already",
                                   "Give this card another name");
        study.infills.push_back(infill);
    });
}

} // namespace upright
