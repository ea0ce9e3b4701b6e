// Couplings, joints, masses, bonds: what hangs together with the part.
#include "base/angles.hpp"
#include "study/cards/cards.hpp"
#include "study/names.hpp"

#include <algorithm>

namespace upright {

namespace {

const Schema<CouplingCard>& coupling_schema() {
    static const Schema<CouplingCard> out = cards<CouplingCard>(
        "coupling",
        "a surface that moves with one point; supports, loads, masses and joints take couplings. A surface "
        "that means "
        "several copies makes as many couplings",
        "flange", true,
        {key("surface", value::names("surfaces"), &CouplingCard::surfaces, &CouplingCard::surface_place)
             .must("surface = \"a surface\"")
             .says("what moves with it"),
         key<CouplingCard>("at", {value::name("point")},
                           [](CouplingCard& c, const Given& g) {
                               c.at = g.text();
                               require_known({c.at}, names_of(g.context().study.points), "point",
                                             g.node.place);
                           })
             .fallback("the centroid of the surface")
             .example("at = \"flange-center\"")
             .says("where its point lies"),
         key("kind", Words<bool>{{"rigid", true}, {"average", false}}, &CouplingCard::rigid)
             .fallback("\"rigid\"")
             .example("kind = \"average\"")
             .says("rigid: the surface moves as one body; average: the point has the surface's mean motion, "
                   "and loads "
                   "on it spread without stiffening")},
        [](CouplingCard& c, const CardReader& reader) {
            require_known(c.surfaces, names_of(reader.context().study.surfaces), "surface", c.surface_place);
        });
    return out;
}

// A name that means several surfaces makes as many couplings, each with the point of its number.
void add_coupling(Study& study, const CouplingCard& card) {
    std::vector<std::string> copies;
    for (const SurfaceCard& s : study.surfaces)
        if (card.surfaces.size() == 1 && s.name != card.surfaces[0] && refers_to(card.surfaces[0], s.name))
            copies.push_back(s.name);
    if (copies.empty()) {
        study.couplings.push_back(card);
        return;
    }
    const std::vector<std::string> points = names_of(study.points);
    for (const std::string& copy : copies) {
        const std::string tail = copy.substr(card.surfaces[0].size());
        CouplingCard one = card;
        one.name += tail;
        one.surfaces = {copy};
        if (!card.at.empty() && std::find(points.begin(), points.end(), card.at + tail) != points.end())
            one.at += tail;
        study.couplings.push_back(one);
    }
}

struct Stiffness {
    double axial = 0.0, shear = 0.0, torsion = 0.0, bending = 0.0;
};

// Moment for each radian; a bare number is that, a text may say deg or rad.
Key<Stiffness> angular(const char* name, double Stiffness::*member, const char* says) {
    return key<Stiffness>(name, {value::quantity(Dimension{1, 1, 0, 0, -1}).at_least(0)},
                          [member](Stiffness& s, const Given& g) {
                              s.*member = g.node.number() != nullptr ? *g.node.number() : g.number() / degree;
                          })
        .fallback("0")
        .example(std::string(name) + " = \"5e4 N·mm/rad\"")
        .says(says);
}

const Schema<Stiffness>& stiffness_schema() {
    const auto linear = [](const char* name, double Stiffness::*member, const char* says) {
        return key(name, value::quantity(dimension::stiffness).at_least(0), member)
            .fallback("0")
            .example(std::string(name) + " = \"2e5 N/mm\"")
            .says(says);
    };
    static const Schema<Stiffness> out = schema<Stiffness>(
        "stiffness", "of a joint along its axis and across",
        {linear("axial", &Stiffness::axial, "along the axis"),
         linear("shear", &Stiffness::shear, "across it"),
         angular("torsion", &Stiffness::torsion, "about the axis; a bare number is for each radian"),
         angular("bending", &Stiffness::bending, "about axes across; a bare number is for each radian")},
        [](Stiffness& s, const CardReader& reader) {
            if (std::min({s.axial, s.shear, s.torsion, s.bending}) < 0.0)
                throw Error::input(reader.place(), "a stiffness must not be negative");
            if (s.axial + s.shear + s.torsion + s.bending == 0.0)
                throw Error::input(reader.place(), "every stiffness of the joint is zero",
                                   "Write axial and shear at least");
        });
    return out;
}

struct JointDraft : JointCard {
    std::optional<Vec3> direction;
};

const Schema<JointDraft>& joint_schema() {
    using J = JointDraft;
    static const Schema<J> out = cards<J>(
        "joint", "a flexible link: a bolt, a bush, a pin", "bolt", true,
        {key<J>("between", {value::list(value::name("coupling, or \"ground\""), 2)},
                [](J& j, const Given& g) {
                    j.between = read_between(g);
                    j.between_place = g.node.place;
                })
             .must(R"(between = ["a coupling", "ground"])")
             .says("two couplings, or a coupling and the ground"),
         key<J>("axis", {value::direction()}, [](J& j, const Given& g) { j.direction = g.direction(); })
             .fallback("z, in a plane model x")
             .example("axis = [0, 0, 1]")
             .says("of its stiffness"),
         key<J>("stiffness", {value::table(facts_of<Stiffness, stiffness_schema>)},
                [](J& j, const Given& g) {
                    const Stiffness s = read_table(stiffness_schema(), g.inner());
                    j.axial = s.axial;
                    j.shear = s.shear;
                    j.torsion = s.torsion;
                    j.bending = s.bending;
                })
             .must("stiffness = { axial = \"2e5 N/mm\", shear = \"8e4 N/mm\", bending = 0 }")
             .says("force / length, moment / angle")},
        [](J& j, const CardReader& reader) {
            j.axis = j.direction.value_or(reader.flat() ? Vec3::UnitX() : Vec3::UnitZ());
        });
    return out;
}

// One for each pair of couplings that the two names mean.
void add_joints(Study& study, const JointCard& card) {
    const std::vector<std::string> couplings = names_of(study.couplings);
    std::vector<std::string> known = couplings;
    known.emplace_back("ground");
    std::vector<std::vector<std::string>> ends;
    for (const std::string& name : card.between) {
        require_known({name}, known, "coupling", card.between_place);
        std::vector<std::string> meant;
        if (name == "ground")
            meant.emplace_back();
        else
            for (const std::string& c : couplings)
                if (refers_to(name, c)) meant.push_back(c);
        ends.push_back(meant);
    }
    if (card.between[0] == card.between[1])
        throw Error::input(card.between_place, "the joint links \"" + card.between[0] + "\" with itself");
    const std::size_t count = std::max(ends[0].size(), ends[1].size());
    if (ends[0].size() != ends[1].size() && std::min(ends[0].size(), ends[1].size()) != 1)
        throw Error::input(card.between_place, "the two names mean different numbers of couplings");
    for (std::size_t i = 0; i < count; ++i) {
        JointCard one = card;
        if (count > 1) one.name += "/" + std::to_string(i + 1);
        for (std::size_t k = 0; k < 2; ++k) one.between[k] = ends[k][std::min(i, ends[k].size() - 1)];
        study.joints.push_back(one);
    }
}

void take_inertia(MassCard& m, const Given& g) {
    const Dimension d = g.key.forms.front().dimension;
    if (g.context().plane()) {
        m.inertia.z() = g.card.number(g.node, d);
        if (!(m.inertia.z() > 0.0))
            throw Error::input(g.node.place,
                               describe(d, g.card.quantities().units()) + " above zero is expected here");
        return;
    }
    const Node::List* list = g.node.list();
    if (list == nullptr || list->size() != 3)
        throw Error::input(g.node.place, "inertia has three numbers, about x, y and z");
    m.inertia = g.card.vector(g.node, d, 3);
    for (std::size_t a = 0; a < 3; ++a)
        if (m.inertia[static_cast<Eigen::Index>(a)] < 0.0)
            throw Error::input((*list)[a].place, "an inertia must not be negative");
}

const Schema<MassCard>& mass_schema() {
    const Dimension inertia{1, 1, 2, 0, 0};
    static const Schema<MassCard> out = cards<MassCard>(
        "mass", "what rides on the part but is not part of it; gravity and spin act on it", "motor", true,
        {key("on", value::names("couplings, surfaces or points"), &MassCard::on, &MassCard::on_place)
             .must("on = \"a coupling, a surface or a point\"")
             .says("what bears it"),
         key("value", value::quantity(dimension::mass).above(0), &MassCard::value)
             .must("value = \"62 kg\"")
             .says("in all"),
         key<MassCard>("inertia", {value::three(inertia), value::quantity(inertia).above(0)}, take_inertia)
             .fallback("0")
             .example("inertia = [\"0.4 kg m2\", \"0.4 kg m2\", \"0.7 kg m2\"]")
             .says("about x, y, z through its place; on couplings and on points of shells. One number in a "
                   "plane model")});
    return out;
}

const Schema<BondCard>& bond_schema() {
    static const Schema<BondCard> out = cards<BondCard>(
        "bond",
        "ties two surfaces of bodies that were meshed apart, where they lie within the gap: the nodes of the "
        "finer one "
        "follow the sides of the other by their own shape functions, across a gap like a rigid arm. Bodies "
        "that share "
        "nodes need none",
        "weld", true,
        {key<BondCard>("between", {value::list(value::name("surface"), 2)},
                       [](BondCard& b, const Given& g) {
                           b.between = read_between(g);
                           b.between_place = g.node.place;
                       })
             .must(R"(between = ["one surface", "other surface"])")
             .says("the two surfaces"),
         key("gap", value::quantity(dimension::length).above(0), &BondCard::gap)
             .must("gap = \"0.5 mm\"")
             .says("how far apart they may lie")},
        [](BondCard& b, const CardReader& reader) {
            require_known({b.between[0], b.between[1]}, names_of(reader.context().study.surfaces), "surface",
                          b.between_place);
            if (b.between[0] == b.between[1])
                throw Error::input(b.between_place, "the bond links \"" + b.between[0] + "\" with itself");
        });
    return out;
}

} // namespace

std::array<std::string, 2> read_between(const Given& given) {
    const std::vector<std::string> names = given.names();
    if (names.size() != 2)
        throw Error::input(given.node.place,
                           "between takes two names and has " + std::to_string(names.size()),
                           "Write between = [\"one\", \"other\"]");
    return {names[0], names[1]};
}

const TableFacts& coupling_facts() {
    return coupling_schema().facts;
}
const TableFacts& joint_facts() {
    return joint_schema().facts;
}
const TableFacts& mass_facts() {
    return mass_schema().facts;
}
const TableFacts& bond_facts() {
    return bond_schema().facts;
}

void read_couplings(Study& study, const Node& document, const Context& context) {
    read_cards(coupling_schema(), document, context, study,
               [&](const CouplingCard& card, const CardReader&) { add_coupling(study, card); });
}

void read_joints(Study& study, const Node& document, const Context& context) {
    read_cards(joint_schema(), document, context, study,
               [&](const JointDraft& card, const CardReader&) { add_joints(study, card); });
}

void read_masses(Study& study, const Node& document, const Context& context) {
    read_cards(mass_schema(), document, context, study,
               [&](const MassCard& card, const CardReader&) { study.masses.push_back(card); });
}

void read_bonds(Study& study, const Node& document, const Context& context) {
    read_cards(bond_schema(), document, context, study,
               [&](const BondCard& card, const CardReader&) { study.bonds.push_back(card); });
}

} // namespace upright
