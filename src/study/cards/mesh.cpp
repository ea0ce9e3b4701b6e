// How the space is meshed.
#include "study/language.hpp"
#include "study/mesh_word.hpp"
#include "study/names.hpp"

namespace upright {

namespace {

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
    if (mesh.order == 2 && (mesh.shell() || !mesh.kind->second_order))
        throw Error::input(reader.place_of("order"),
                           "there are no second-order elements for " +
                               (mesh.shell()           ? std::string("shells")
                                : mesh.kind->from_file ? mesh.kind->called + "; it brings its own"
                                                       : mesh.kind->word + " meshes"),
                           "Write order = 1");
}

} // namespace

Key<MeshCard> mesh_size_key() {
    return key("size", value::quantity(dimension::length).above(0), &MeshCard::size)
        .must("size = \"8 mm\"")
        .says("usual edge length of an element");
}

const TableFacts* refine_facts() {
    return &refine_schema().facts;
}

Schema<MeshCard> mesh_schema(const std::vector<std::shared_ptr<const MeshWord>>& kinds) {
    using M = MeshCard;
    std::vector<std::string> words;
    std::vector<Variant<M>> variants;
    for (const auto& kind : kinds) {
        words.push_back(kind->word);
        variants.push_back({kind->word, kind->called, kind->says, kind->keys, {}});
    }
    auto out = section<M>(
        "mesh", "the elements",
        {key<M>("kind", {value::word(words)}, [](M&, const Given&) {})
             .fallback("\"" + words.front() + "\"")
             .example("kind = \"" + words.front() + "\"")
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
        [kinds](M& mesh, const CardReader& reader) {
            const Node* given = reader.find("kind");
            for (const auto& kind : kinds)
                if (kind->word == (given != nullptr ? *given->text() : kinds.front()->word)) mesh.kind = kind;
            finish_mesh(mesh, reader);
        });
    out.add_kinds("kind", words.front(), variants);
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
