// Materials: linear elastic, isotropic or orthotropic.
#include "base/nearest.hpp"
#include "study/cards/cards.hpp"
#include "study/material_library.hpp"

#include <Eigen/Dense>

namespace upright {

namespace {

struct MaterialDraft : Material {
    bool like = false, has_nu = false;
    std::optional<Vec3> E3, nu3, G3, expansion3;
    const Frame* frame = nullptr;

    bool listed() const { return E3 || nu3 || G3; }
};

// One number, or three along the axes of an orthotropic material.
void take_one_or_three(std::optional<double>& one, std::optional<Vec3>& three, MaterialDraft& m,
                       const Given& g) {
    if (g.node.list() != nullptr) {
        three = g.vector();
        return;
    }
    if (!m.source.empty() && m.source.find("overridden") == std::string::npos)
        m.source += "; partly overridden in the study";
    one = g.number();
}

Key<MaterialDraft> strength(const char* name, std::optional<double> Material::*member, const char* says) {
    return key<MaterialDraft>(name, {value::quantity(dimension::stress).above(0)},
                              [member](MaterialDraft& m, const Given& g) {
                                  std::optional<Vec3> none;
                                  take_one_or_three(m.*member, none, m, g);
                              })
        .example(std::string(name) + " = \"310 MPa\"")
        .says(says);
}

void take_like(MaterialDraft& m, const Given& g) {
    const std::string word = g.text();
    const LibraryMaterial* entry = find_library_material(word);
    if (entry == nullptr)
        throw Error::input(g.node.place, "the library has no material \"" + word + "\"",
                           nearest(word, library_names()) ? suggestion(word, library_names())
                                                          : "\"upright materials\" lists them");
    const std::string name = m.name;
    const Place place = m.place;
    static_cast<Material&>(m) = to_material(*entry, g.context().study.units);
    m.name = name;
    m.place = place;
    m.like = true;
}

void make_orthotropic(MaterialDraft& m, const CardReader& reader) {
    const char* hint = "Write E = [three], nu = [xy, yz, zx], G = [xy, yz, zx]";
    for (const auto& [given, word] : {std::pair(m.E3.has_value(), "E"), std::pair(m.nu3.has_value(), "nu"),
                                      std::pair(m.G3.has_value(), "G")})
        if (!given)
            throw Error::input(reader.place_of(word),
                               "an orthotropic material needs E, nu and G, each a list of three", hint);
    Orthotropic out;
    out.E = *m.E3;
    out.nu = *m.nu3;
    out.G = *m.G3;
    if (!(out.E.minCoeff() > 0.0))
        throw Error::input(reader.place_of("E"), "every Young's modulus must be above zero");
    if (!(out.G.minCoeff() > 0.0))
        throw Error::input(reader.place_of("G"), "every shear modulus must be above zero");
    Mat3 S = Mat3::Zero();
    for (int a = 0; a < 3; ++a) {
        const int b = (a + 1) % 3;
        S(a, a) = 1.0 / out.E[a];
        S(a, b) = S(b, a) = -out.nu[a] / out.E[a];
    }
    if (!(S(0, 0) * S(1, 1) > S(0, 1) * S(0, 1)) || !(S(1, 1) * S(2, 2) > S(1, 2) * S(1, 2)) ||
        !(S(2, 2) * S(0, 0) > S(0, 2) * S(0, 2)) || !(S.determinant() > 0.0))
        throw Error::input(reader.place_of("nu"),
                           "no material has these ratios: some load would give energy back (nu xy must stay "
                           "below the square root of E x / E y, and so on)",
                           "nu xy is the contraction along y under a stress along x");
    out.expansion = m.expansion3;
    if (m.frame != nullptr) out.frame = *m.frame;
    m.orthotropic = out;
    m.E = out.E.maxCoeff();
    m.nu = 0.0;
    m.source = "own";
    if (out.expansion) m.expansion = out.expansion->mean();
}

void finish_material(MaterialDraft& m, const CardReader& reader) {
    if (m.listed())
        make_orthotropic(m, reader);
    else if (m.expansion3)
        throw Error::input(reader.place_of("expansion"), "three expansions belong to an orthotropic material",
                           "Write one, or E, nu and G as lists of three");
    const char* hint =
        "Write it, or like = \"structural steel S235\" (\"upright materials\" lists what there is)";
    const std::string who = "the material \"" + m.name + "\" ";
    if (m.E <= 0.0) throw Error::input(m.place, who + "has no E (Young's modulus)", hint);
    if (!m.like && !m.has_nu) throw Error::input(m.place, who + "has no nu (Poisson's ratio)", hint);
    if (m.density <= 0.0) throw Error::input(m.place, who + "has no density", hint);
    if (m.yield && m.ultimate && *m.yield > *m.ultimate)
        throw Error::input(m.place, who + "yields above its ultimate strength");
    if (m.source.empty()) m.source = "own";
}

const Schema<MaterialDraft>& material_schema() {
    using M = MaterialDraft;
    static const Schema<M> out = cards<M>(
        "material", "linear elastic; a region may also name a material of the library directly", "steel",
        false,
        {key<M>("like",
                {value::text("a material of the library by name, grade or any part of them that one "
                             "alone bears")},
                take_like)
             .example("like = \"S355\"")
             .says("where the values come from that are not written here (`upright materials` lists them)"),
         key<M>("E", {value::quantity(dimension::stress).above(0), value::three(dimension::stress)},
                [](M& m, const Given& g) {
                    std::optional<double> one;
                    take_one_or_three(one, m.E3, m, g);
                    if (one) m.E = *one;
                })
             .fallback("that of `like`")
             .example("E = \"210 GPa\"")
             .says("Young's modulus; three numbers make the material orthotropic"),
         key<M>("nu", {value::quantity(dimension::none).inside(-1, 0.5), value::three(dimension::none)},
                [](M& m, const Given& g) {
                    m.has_nu = true;
                    if (g.node.list() != nullptr)
                        m.nu3 = g.vector();
                    else
                        m.nu = g.number();
                })
             .fallback("that of `like`")
             .example("nu = 0.3")
             .says(
                 "Poisson's ratio; three of an orthotropic material: xy, yz, zx, where xy is the contraction "
                 "along y under a stress along x. Ratios that no material has are refused"),
         key<M>("G", {value::three(dimension::stress)}, [](M& m, const Given& g) { m.G3 = g.vector(); })
             .example("G = [\"5 GPa\", \"4 GPa\", \"5 GPa\"]")
             .says("shear moduli xy, yz, zx of an orthotropic material"),
         key<M>("frame", {value::name("frame")},
                [](M& m, const Given& g) {
                    if (!m.listed())
                        throw Error::input(g.node.place, "frame belongs to an orthotropic material",
                                           "Write E, nu and G as lists of three, or remove it");
                    m.frame = &read_frame(g);
                })
             .fallback("the global axes")
             .example("frame = \"grain\"")
             .says("the axes of an orthotropic material; of a cylindrical one r, t, z at each place"),
         key<M>("density", {value::quantity(dimension::density).above(0)},
                [](M& m, const Given& g) {
                    std::optional<double> one;
                    std::optional<Vec3> none;
                    take_one_or_three(one, none, m, g);
                    m.density = *one;
                })
             .fallback("that of `like`")
             .example("density = \"7.85 g/cm3\"")
             .says("mass by volume"),
         strength("yield", &Material::yield, "yield or 0.2 % proof stress").fallback("that of `like`"),
         strength("ultimate", &Material::ultimate, "tensile strength").fallback("that of `like`"),
         key<M>("expansion",
                {value::quantity(dimension::expansion).above(0), value::three(dimension::expansion)},
                [](M& m, const Given& g) { take_one_or_three(m.expansion, m.expansion3, m, g); })
             .fallback("that of `like`")
             .example("expansion = \"12e-6 1/K\"")
             .says("linear expansion; three of an orthotropic material")},
        finish_material);
    return out;
}

} // namespace

const TableFacts& material_facts() {
    return material_schema().facts;
}

void read_materials(Study& study, const Node& document, const Context& context) {
    read_cards(material_schema(), document, context, study,
               [&](MaterialDraft m, const CardReader&) { study.materials.push_back(m); });
}

} // namespace upright
