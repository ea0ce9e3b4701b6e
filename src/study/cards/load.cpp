// Loads: what acts, on what, in which axes.
#include "base/angles.hpp"
#include "study/cards/cards.hpp"
#include "study/names.hpp"

namespace upright {

namespace {

constexpr Dimension turning{0, 0, -1, 0, 1};
constexpr Dimension speeding_up{0, 0, -2, 0, 1};

const std::vector<std::string> kinds{"force", "pressure", "gravity", "moment", "toward", "spin", "heat"};

// A place: a point by name, or coordinates.
std::variant<Vec3, std::string> read_spot(const Given& g) {
    if (g.node.text() == nullptr) return g.card.vector(g.node, dimension::length);
    const std::string name = g.text();
    require_known({name}, names_of(g.context().study.points), "point", g.node.place);
    return name;
}

const Schema<TowardLoad>& toward_schema() {
    using T = TowardLoad;
    static const Schema<T> out =
        schema<T>("toward", "a force along the line from one place to another: a rope, a rod",
                  {key<T>("from", {value::place(), value::name("point")},
                          [](T& t, const Given& g) { t.from = read_spot(g); })
                       .must("from = [x, y, z] or a point")
                       .says("where the line begins"),
                   key<T>("to", {value::place(), value::name("point")},
                          [](T& t, const Given& g) { t.to = read_spot(g); })
                       .must("to = [x, y, z] or a point")
                       .says("whither it pulls"),
                   key("size", value::quantity(dimension::force), &T::size)
                       .must("size = \"400 N\"")
                       .says("of the force")},
                  [](T& t, const CardReader& reader) {
                      if (t.from == t.to)
                          throw Error::input(reader.place(), "from and to are the same place");
                      if (t.size == 0.0) throw Error::input(reader.place(), "the force is zero");
                  });
    return out;
}

const Schema<SpinLoad>& spin_schema() {
    using S = SpinLoad;
    static const Schema<S> out = schema<S>(
        "spin", "turning about a frame's axis, by the right hand: outward, and against the speeding up",
        {key<S>("frame", {value::name("frame")}, [](S& s, const Given& g) { s.frame = read_frame(g).name; })
             .must("frame = \"bore\"")
             .says("about its axis"),
         key<S>("speed", {value::quantity(turning)},
                [](S& s, const Given& g) { s.speed = g.number() * degree; })
             .example("speed = \"1500 rpm\"")
             .says("of turning"),
         key<S>("speed_up", {value::quantity(speeding_up)},
                [](S& s, const Given& g) { s.speed_up = g.number() * degree; })
             .example("speed_up = \"50 rad/s2\"")
             .says("how the speed grows; either alone serves")},
        [](S& s, const CardReader& reader) {
            if (s.speed == 0.0 && s.speed_up == 0.0)
                throw Error::input(reader.place(), "the spin has neither a speed nor a speed_up",
                                   "Write speed = \"1500 rpm\", speed_up = \"50 rad/s2\" or both");
        });
    return out;
}

void take_force(LoadCard& load, const Given& g) {
    ForceLoad force{g.vector(), false};
    if (force.total.norm() == 0.0) throw Error::input(g.node.place, "the force is zero");
    load.kind = force;
}

void take_moment(LoadCard& load, const Given& g) {
    MomentLoad moment;
    if (g.context().plane())
        moment.total.z() = g.card.number(g.node, dimension::moment);
    else
        moment.total = g.vector();
    if (moment.total.norm() == 0.0) throw Error::input(g.node.place, "the moment is zero");
    load.kind = moment;
}

void take_heat(LoadCard& load, const Given& g) {
    load.kind = HeatLoad{g.number()};
    const Study& study = g.context().study;
    for (const RegionCard& region : study.regions)
        for (const Material& m : study.materials)
            if (m.name == region.material && !m.expansion)
                throw Error::input(m.place, "heat needs the material \"" + m.name + "\" to have an expansion",
                                   "Write expansion = \"12e-6 1/K\"");
}

void finish_load(LoadCard& load, const CardReader& reader) {
    std::string kind;
    for (const std::string& one : kinds)
        if (reader.has(one)) kind = one;
    const bool of_body = kind == "gravity" || kind == "spin" || kind == "heat";
    if (of_body && reader.has("on"))
        throw Error::input(reader.place_of("on"), kind + " acts on the whole body", "Remove \"on\"");
    if (!of_body && !reader.has("on"))
        throw Error::input(load.place, "the load \"" + load.name + "\" acts on nothing",
                           "Write on = \"a surface, point or coupling\"");
}

const Schema<LoadCard>& load_schema() {
    using L = LoadCard;
    static const Schema<L> out = [] {
        auto s = cards<L>(
            "load",
            "one of force, moment, pressure or toward, which act on something, or of gravity, spin or heat, "
            "which act on "
            "the whole body. Gravity and spin act on the mass that the densities leave, heat on the "
            "stiffness that they "
            "leave; the sensitivities know",
            "thrust", true,
            {key("on", value::names("surfaces, points or couplings"), &L::on, &L::on_place)
                 .fallback("must be there, but for loads of the whole body")
                 .example("on = \"flange\"")
                 .says("what it acts on"),
             key<L>("force", {value::components(dimension::force)}, take_force)
                 .example("force = [0, 0, \"-2 kN\"]")
                 .says(
                     "total over all its surfaces together, by area; in equal shares to points or couplings"),
             key<L>("spread", {value::word({"total", "each-face"})},
                    [](L& l, const Given& g) {
                        if (auto* force = std::get_if<ForceLoad>(&l.kind))
                            force->each_face = g.word() == "each-face";
                    })
                 .beside({"force"}, "spread belongs to a force", "Remove it")
                 .fallback("\"total\"")
                 .example("spread = \"each-face\"")
                 .says("\"each-face\": the force acts on every face anew"),
             key("covers", Words<Covers>{{"modelled", Covers::Modelled}, {"whole", Covers::Whole}},
                 &L::covers)
                 .beside({"force", "moment", "toward"}, "covers belongs to a force or a moment", "Remove it")
                 .fallback("\"modelled\", and `check` then doubts it")
                 .example("covers = \"whole\"")
                 .says("where a symmetry plane cuts what it acts on: \"whole\" is the total of the whole "
                       "body, of which "
                       "the modelled part takes its share; \"modelled\" that of the modelled part"),
             key<L>("moment", {value::three(dimension::moment), value::quantity(dimension::moment)},
                    take_moment)
                 .example("moment = [0, 0, \"5 N m\"]")
                 .says("about x, y, z, spread over a surface as forces without resultant; one number in a "
                       "plane model"),
             key<L>("pressure", {value::quantity(dimension::stress)},
                    [](L& l, const Given& g) { l.kind = PressureLoad{g.number()}; })
                 .example("pressure = \"0.4 MPa\"")
                 .says("pushes into the body where positive"),
             key<L>("toward", {value::table(facts_of<TowardLoad, toward_schema>)},
                    [](L& l, const Given& g) { l.kind = read_table(toward_schema(), g.inner()); })
                 .example("toward = { from = \"hook\", to = [0, 0, 900], size = \"400 N\" }")
                 .says("a force along the line between two places or points"),
             key<L>("gravity", {value::components(dimension::acceleration)},
                    [](L& l, const Given& g) { l.kind = GravityLoad{g.vector()}; })
                 .example("gravity = [0, 0, \"-9.81 m/s2\"]")
                 .says("an acceleration"),
             key<L>("spin", {value::table(facts_of<SpinLoad, spin_schema>)},
                    [](L& l, const Given& g) { l.kind = read_table(spin_schema(), g.inner()); })
                 .example("spin = { frame = \"bore\", speed = \"1500 rpm\" }")
                 .says("turning about a frame's axis"),
             key<L>("heat", {value::quantity(dimension::temperature)}, take_heat)
                 .example("heat = \"60 K\"")
                 .says("rise of temperature of the whole body; its materials need an `expansion`"),
             key<L>("frame", {value::name("frame")},
                    [](L& l, const Given& g) { l.frame = read_frame(g).name; })
                 .beside({"force", "moment"}, "frame belongs to a force or a moment", "Remove it")
                 .fallback("the global axes")
                 .example("frame = \"bore\"")
                 .says("components x y z or r t z there")},
            finish_load);
        s.facts.choices.push_back({kinds, true, "the load {name} has no size",
                                   "the load {name} has more than one kind",
                                   "Write one of force, pressure, gravity, moment, toward, spin and heat"});
        return s;
    }();
    return out;
}

} // namespace

const TableFacts& load_facts() {
    return load_schema().facts;
}

void read_loads(Study& study, const Node& document, const Context& context) {
    read_cards(load_schema(), document, context, study,
               [&](const LoadCard& load, const CardReader&) { study.loads.push_back(load); });
}

} // namespace upright
