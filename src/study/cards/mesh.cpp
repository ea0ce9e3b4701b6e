// How the space is meshed.
#include "study/language.hpp"
#include "study/names.hpp"

namespace upright {

const char* text(MeshKind kind) {
    switch (kind) {
    case MeshKind::Grid:
        return "grid";
    case MeshKind::Polar:
        return "polar";
    case MeshKind::Fitted:
        return "fitted";
    case MeshKind::File:
        return "file";
    }
    return "";
}

namespace {

Key<MeshCard> size_key() {
    return key("size", value::quantity(dimension::length).above(0), &MeshCard::size)
        .must("size = \"8 mm\"")
        .says("usual edge length of an element");
}

using Sweep = MeshCard::Sweep;

const Schema<Sweep>& sweep_schema() {
    static const Schema<Sweep> out = schema<Sweep>(
        "sweep", "a plane mesh made solid",
        {key("along", value::three(dimension::length), &Sweep::along)
             .must("along = [0, 0, 40]")
             .says("the whole way"),
         key("layers", value::whole(1), &Sweep::layers).must("layers = 5").says("of elements along it")},
        [](Sweep& s, const CardReader& reader) {
            if (s.along.norm() == 0.0) throw Error::input(reader.place(), "the sweep has no length");
        });
    return out;
}

struct RefineDraft : RefineCard {
    Place on_place;
};

const Schema<RefineDraft>& refine_schema() {
    using R = RefineDraft;
    static const Schema<R> out = [] {
        auto s = schema<R>(
            "refine", "finer elements somewhere in a fitted mesh",
            {key("size", value::quantity(dimension::length).above(0), &R::size)
                 .must("size = \"2 mm\"")
                 .says("of the elements there; finer than the mesh's"),
             key("on", value::names("regions"), &R::on, &R::on_place)
                 .example("on = \"ring\"")
                 .says("near regions"),
             key<R>("inside", {value::table(shape_facts)},
                    [](R& r, const Given& g) { r.inside = read_table(shape_schema(), g.inner()).shape; })
                 .example("inside = { sphere = { center = [0, 0, 0], radius = 10 } }")
                 .says("instead of `on`: inside of a shape")},
            [](R& r, const CardReader& reader) {
                require_known(r.on, names_of(reader.context().study.regions), "region", r.on_place);
            });
        s.facts.choices.push_back({{"on", "inside"},
                                   true,
                                   "a refinement needs either on (regions) or inside (a shape)",
                                   "a refinement needs either on (regions) or inside (a shape)",
                                   "Write on = \"ring\" or inside = { sphere = … }"});
        return s;
    }();
    return out;
}

void finish_mesh(MeshCard& mesh, const CardReader& reader) {
    if (mesh.sweep && mesh.family != ElementFamily::Solid)
        throw Error::input(reader.place_of("element"), "a swept mesh is solid", "Remove this key, or sweep");
    const bool thin = mesh.plane() || mesh.shell();
    if (reader.has("thickness") && !thin)
        throw Error::input(reader.place_of("thickness"), "thickness belongs to plane models and shells",
                           "Remove it");
    if (thin && !reader.has("thickness"))
        throw Error::input(
            mesh.place, std::string("a ") + (mesh.shell() ? "shell" : "plane") + " model needs a thickness",
            "Write thickness = \"1 mm\"");
    if (mesh.order == 2 && (mesh.shell() || mesh.kind == MeshKind::Polar || mesh.kind == MeshKind::File))
        throw Error::input(reader.place_of("order"),
                           std::string("there are no second-order elements for ") +
                               (mesh.shell()                   ? "shells"
                                : mesh.kind == MeshKind::Polar ? "polar meshes"
                                                               : "a mesh from a file; it brings its own"),
                           "Write order = 1");
}

} // namespace

std::vector<Variant<MeshCard>> shipped_mesh_kinds() {
    using M = MeshCard;
    return {{"grid",
             "a grid",
             "box cells, stretched a little so that a whole number fits the body's box: hex8, hex20, quad4, "
             "quad8, flat "
             "shells of quad4",
             {size_key()},
             {}},
            {"polar",
             "a polar mesh",
             "rings, sectors and layers around the axis of `frame`, with lines at every coaxial radius and "
             "end: hex8 and "
             "wedge6, in the plane and for flat shells quad4 and tri3",
             {size_key(), key("frame", value::name("cylindrical frame"), &M::frame, &M::frame_place)
                              .must("frame = \"bore\", whose axis the cells run around")
                              .says("whose axis the cells run around")},
             {}},
            {"fitted",
             "fitted meshes",
             "tet4 or tet10 that follow the shapes, in the plane and for flat shells tri3 or tri6; finer "
             "where they bend, "
             "where walls are thin and inside `[[mesh.refine]]` cards. Void and design, keep and design meet "
             "at faces. A "
             "layer under a surface takes whole elements, those of which half lies within its depth. Cutting "
             "regions into "
             "bodies of triangles, and skins of skins, need a grid",
             {size_key(), key<M>("refine", {value::list(value::table(facts_of<RefineDraft, refine_schema>))},
                                 [](M&, const Given&) {})
                              .elsewhere("refine belongs to fitted meshes", "Write kind = \"fitted\"")
                              .example("[[mesh.refine]]")
                              .says("finer elements somewhere")},
             {}},
            {"file",
             "a mesh from a file",
             "a VTU file; regions by `cells`, surfaces by `set` or any rule; `element` tells solids, plane "
             "cells and "
             "shells. Such a part cannot be carved",
             {key<M>("file", {value::path("a VTU file")},
                     [](M& m, const Given& g) { m.file = g.card.path(g.node); })
                  .must("file = \"wheel.vtu\"")
                  .says("the mesh"),
              key("file_unit", value::quantity(dimension::length).above(0), &M::file_scale)
                  .fallback("the study's")
                  .example("file_unit = \"1 m\"")
                  .says("length of one unit of the file"),
              table_key("sweep", sweep_schema, &M::sweep, facts_of<Sweep, sweep_schema>)
                  .example("sweep = { along = [0, 0, 40], layers = 5 }")
                  .says("makes solids of a plane mesh")},
             {}}};
}

Schema<MeshCard> mesh_schema(const std::vector<Variant<MeshCard>>& kinds) {
    using M = MeshCard;
    static const Words<MeshKind> words{{"grid", MeshKind::Grid},
                                       {"polar", MeshKind::Polar},
                                       {"fitted", MeshKind::Fitted},
                                       {"file", MeshKind::File}};
    auto out = section<M>(
        "mesh", "the elements",
        {key("kind", words, &M::kind)
             .fallback("\"grid\"")
             .example("kind = \"grid\"")
             .says("how the space is divided"),
         key("element",
             Words<ElementFamily>{{"solid", ElementFamily::Solid},
                                  {"plane-stress", ElementFamily::PlaneStress},
                                  {"plane-strain", ElementFamily::PlaneStrain},
                                  {"shell", ElementFamily::Shell}},
             &M::family)
             .fallback("\"solid\"")
             .example("element = \"plane-stress\"")
             .says("solids, plane models or shells"),
         key("thickness", value::quantity(dimension::length).above(0), &M::thickness)
             .fallback("must be there for all but solids")
             .example("thickness = \"1 mm\"")
             .says("of plane models and shells"),
         key("order", value::whole(1, 2), &M::order)
             .fallback("1")
             .example("order = 2")
             .says("of the displacements within an element"),
         key("formulation",
             Words<Formulation>{{"enhanced", Formulation::Enhanced}, {"plain", Formulation::Plain}},
             &M::formulation)
             .fallback("\"enhanced\"")
             .example("formulation = \"plain\"")
             .says("of hex8 and quad4: with incompatible modes, or without")},
        finish_mesh);
    out.add_kinds("kind", "grid", kinds);
    return out;
}

void read_refine(Study& study, const Node& document, const Context& context) {
    const Node& mesh = *document.find("mesh");
    if (mesh.find("refine") == nullptr) return;
    for (const Node& node : cards_of(mesh, "refine"))
        study.mesh.refine.push_back(
            read_table(refine_schema(), CardReader(node, context, "[[mesh.refine]]")));
}

void require_polar_frame(const Study& study) {
    if (study.mesh.frame.empty()) return;
    require_known({study.mesh.frame}, names_of(study.frames), "frame", study.mesh.frame_place);
    if (!study.frame(study.mesh.frame).cylindrical)
        throw Error::input(study.mesh.frame_place,
                           "the frame \"" + study.mesh.frame + "\" is not cylindrical",
                           "A polar mesh runs around the axis of a cylindrical frame");
}

} // namespace upright
