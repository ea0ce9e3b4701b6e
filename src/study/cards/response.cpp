// Responses: what is measured, and the keys that measures share.
#include "study/language.hpp"
#include "study/names.hpp"
#include "study/response_keys.hpp"

#include <algorithm>

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
    case Measure::Displacement:
        return "displacement";
    case Measure::Stress:
        return "stress";
    case Measure::Safety:
        return "safety";
    case Measure::Frequency:
        return "frequency";
    case Measure::Reaction:
        return "reaction";
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
    case Measure::Safety:
        return dimension::none;
    case Measure::Displacement:
        return dimension::length;
    case Measure::Stress:
        return dimension::stress;
    case Measure::Frequency:
        return dimension::frequency;
    case Measure::Reaction:
        return dimension::force;
    }
    return dimension::none;
}

bool of_material(Measure measure) {
    return measure == Measure::Mass || measure == Measure::Volume || measure == Measure::MassFraction ||
           measure == Measure::VolumeFraction;
}

namespace {

using R = ResponseCard;

bool has_sign(const R& r) {
    return r.component != "size";
}

// "55% of yield".
std::optional<StrengthShare> read_share(const Given& g) {
    if (g.node.text() == nullptr) return {};
    const std::string word = *g.node.text();
    const auto of = word.find(" of ");
    if (of == std::string::npos) return {};
    const std::string what = word.substr(of + 4);
    if (what != "yield" && what != "ultimate")
        throw Error::input(g.node.place, "\"" + what + "\" is no strength of a material",
                           "Write \"55% of yield\" or \"55% of ultimate\"");
    StrengthShare out;
    out.ultimate = what == "ultimate";
    out.share = g.card.quantities().number(word.substr(0, of), dimension::none, g.node.place);
    if (!(out.share > 0.0)) throw Error::input(g.node.place, "a share of the strength is above zero");
    return out;
}

double read_max(const R& r, const Given& g) {
    const Dimension d = g.key.forms.front().dimension;
    const double value = g.card.number(g.node, d);
    if (!has_sign(r) && !(value > 0.0))
        throw Error::input(g.node.place,
                           describe(d, g.card.quantities().units()) + " above zero is expected here");
    return value;
}

std::string bound_example(const Dimension& d) {
    if (d == dimension::length) return "\"0.4 mm\"";
    if (d == dimension::stress) return "\"120 MPa\"";
    if (d == dimension::mass) return "\"3 kg\"";
    if (d == dimension::volume) return "\"0.4 l\"";
    if (d == dimension::force) return "\"2 kN\"";
    if (d == dimension::moment) return "\"5 J\"";
    if (d == dimension::frequency) return "\"45 Hz\"";
    return "2";
}

Key<R> min_key(const Dimension& d) {
    return key("min", value::quantity(d), &R::min)
        .example("min = " + bound_example(d))
        .says("least value that holds");
}

void check_bounds(R& r, const CardReader& reader) {
    if (r.min && r.max && *r.min > *r.max) throw Error::input(reader.place_of("min"), "min lies above max");
}

} // namespace

Key<R> of_key(const std::string& fallback) {
    return key<R>("of", {value::names("regions")},
                  [](R& r, const Given& g) {
                      r.of = g.names();
                      require_known(r.of, names_of(g.context().study.regions), "region", g.node.place);
                  })
        .elsewhere("{kind} is not that of regions", "Remove \"of\"")
        .fallback(fallback)
        .example("of = [\"block\"]")
        .says("of those regions");
}

Key<R> case_key(bool modal) {
    return key<R>("case", {value::name(modal ? "modal case" : "static case")},
                  [modal](R& r, const Given& g) {
                      const Study& study = g.context().study;
                      r.in_case = g.text();
                      require_known({r.in_case}, modal ? names_of(study.modal_cases) : names_of(study.cases),
                                    modal ? "modal case" : "static case", g.node.place);
                  })
        .elsewhere("\"{kind}\" does not depend on a case", "Remove \"case\"")
        .fallback("every case that fits")
        .example("case = \"start-up\"")
        .says("in that case alone");
}

Key<R> except_key() {
    return key<R>("except", {value::names("regions or surfaces")},
                  [](R& r, const Given& g) {
                      r.except = g.names();
                      std::vector<std::string> known = names_of(g.context().study.regions);
                      for (const std::string& s : names_of(g.context().study.surfaces)) known.push_back(s);
                      require_known(r.except, known, "region or surface", g.node.place);
                  })
        .fallback("nothing")
        .example("except = [\"bolt-rings\"]")
        .says("whose elements are left out");
}

std::vector<Key<R>> component_keys() {
    return {key<R>("frame", {value::name("frame")},
                   [](R& r, const Given& g) {
                       const Study& study = g.context().study;
                       const std::string name = g.text();
                       require_known({name}, names_of(study.frames), "frame", g.node.place);
                       r.frame = study.frame(name).name;
                   })
                .fallback("the global axes")
                .example("frame = \"bore\"")
                .says("whose components are meant"),
            key<R>("component", {value::word({"x", "y", "z", "r", "t", "size"})},
                   [](R& r, const Given& g) {
                       const bool round = !r.frame.empty() && g.context().study.frame(r.frame).cylindrical;
                       std::vector<std::string> words = round
                                                            ? std::vector<std::string>{"r", "t", "z", "size"}
                                                            : std::vector<std::string>{"x", "y", "z", "size"};
                       if (g.context().plane()) words.erase(words.begin() + 2);
                       r.component = g.card.choice(g.node, words);
                   })
                .fallback("\"size\"")
                .example("component = \"z\"")
                .says("x, y, z, or r, t, z where `frame` is cylindrical; or the size of the vector")};
}

std::vector<Key<R>> bound_keys(const Dimension& d, bool fraction) {
    auto max = key<R>("max", {value::quantity(d)},
                      [fraction](R& r, const Given& g) {
                          r.max = read_max(r, g);
                          if (fraction && *r.max > 1.0)
                              throw Error::input(g.node.place, "a fraction cannot exceed 1",
                                                 "Write 0.35 or \"35 %\"");
                      })
                   .example("max = " + (fraction ? std::string("\"35 %\"") : bound_example(d)))
                   .says("largest value that holds");
    return {min_key(d), std::move(max)};
}

std::vector<Key<R>> stress_bound_keys() {
    auto max =
        key<R>("max", {value::quantity(dimension::stress), value::text("a share of a strength")},
               [](R& r, const Given& g) {
                   r.max_share = read_share(g);
                   if (!r.max_share) r.max = read_max(r, g);
               })
            .example("max = \"55% of yield\"")
            .says("largest value that holds: a stress, or a share of the yield or ultimate strength of each "
                  "material");
    return {min_key(dimension::stress), std::move(max)};
}

void require_cases(const R& response, const CardReader& reader, bool modal, const std::string& word) {
    const Study& study = reader.context().study;
    if (!response.in_case.empty() || !(modal ? study.modal_cases.empty() : study.cases.empty())) return;
    throw Error::input(
        response.place, word + " needs a " + (modal ? "modal" : "static") + " case, and there is none",
        modal ? "Write a [[case]] with kind = \"modal\"" : "Write a [[case]] with supports and loads");
}

Schema<R> response_schema(const std::vector<MeasureWord>& measures) {
    std::vector<std::string> words;
    std::vector<Variant<R>> kinds;
    for (const MeasureWord& m : measures) {
        words.push_back(m.word);
        kinds.push_back({m.word, m.called, m.says, m.keys, {}});
    }
    auto out = cards<R>(
        "response",
        "something measured; with a bound it is a constraint, without it is only watched. Any measure can be "
        "the goal, and "
        "any can be bounded by `min`, `max` or both, all at once. Fractions may be written as `\"35 %\"`",
        "stiffness", true,
        {key<R>("measure", {value::word(words)},
                [measures](R& r, const Given& g) {
                    const std::string word = g.word();
                    for (const MeasureWord& m : measures)
                        if (m.word == word) r.measure = m.measure;
                })
             .must("measure = \"compliance\"")
             .says("what it measures")},
        [measures](R& r, const CardReader& reader) {
            check_bounds(r, reader);
            for (const MeasureWord& m : measures)
                if (m.measure == r.measure && m.check) m.check(r, reader);
        });
    out.facts.notes =
        "A measure that is read in cases is a number (a column of `history.csv`, `name@case`) in every case "
        "that fits, and its bound holds in all of them; as the goal the worst of them counts.";
    out.add_kinds("measure", {}, kinds);
    return out;
}

namespace {

// Where a displacement or reaction is read.
Key<R> at_key(bool reaction) {
    return key<R>("at", {value::name(reaction ? "support" : "point, coupling or surface")},
                  [reaction](R& r, const Given& g) {
                      const Study& study = g.context().study;
                      r.at = g.text();
                      r.at_place = g.node.place;
                      std::vector<std::string> places =
                          reaction ? names_of(study.supports) : names_of(study.points);
                      if (!reaction)
                          for (const auto& more : {names_of(study.couplings), names_of(study.surfaces)})
                              places.insert(places.end(), more.begin(), more.end());
                      require_known({r.at}, places, reaction ? "support" : "point, coupling or surface",
                                    g.node.place);
                  })
        .must(reaction ? "at = \"a support\"" : "at = \"a point or surface\"")
        .says(reaction
                  ? "the support, in the cases that have it"
                  : "where: a point (off the body: of the coupling that stands there), coupling or surface");
}

void check_component(const R& r, const CardReader& reader) {
    if (r.frame.empty() || has_sign(r)) return;
    throw Error::input(reader.place_of("frame"), "the size of a vector is the same in every frame",
                       "Write component = \"" +
                           std::string(reader.context().study.frame(r.frame).cylindrical ? "r" : "x") + "\"");
}

// A reaction is measured in the cases that have its support.
void require_some_case(const R& r, const CardReader& reader) {
    const Study& study = reader.context().study;
    if (!in_use(reader)) return;
    const bool any = std::any_of(study.cases.begin(), study.cases.end(), [&](const StaticCase& c) {
        return (r.in_case.empty() || refers_to(r.in_case, c.name)) && holds_in(study, c, r.at);
    });
    if (any) return;
    const std::string in =
        r.in_case.empty() ? "no static case has" : "the case \"" + r.in_case + "\" has not";
    throw Error::input(r.at_place, in + " the support \"" + r.at + "\", so there is no reaction to measure",
                       "Name a support that the case has");
}

void check_mode(const R& r, const CardReader& reader) {
    for (const ModalCase& c : reader.context().study.modal_cases)
        if (!c.up_to && r.mode > c.modes && (r.in_case.empty() || r.in_case == c.name))
            throw Error::input(reader.place_of("mode"),
                               "the case \"" + c.name + "\" has " + std::to_string(c.modes) + " modes",
                               "Raise modes there, or name an earlier one");
}

MeasureWord material_word(Measure m, const char* word, const Dimension& d, bool fraction, const char* says) {
    return {m, word, std::string("a ") + word,
            d, says, std::vector<Key<R>>{of_key("the design regions")} + bound_keys(d, fraction),
            {}};
}

MeasureWord compliance_word() {
    std::vector<Key<R>> keys{case_key(false),
                             key("take", Words<bool>{{"sum", false}, {"largest", true}}, &R::worst)
                                 .fallback("\"sum\", weighted over the cases")
                                 .example("take = \"largest\"")
                                 .says("\"largest\": of the case where it is largest")};
    return {Measure::Compliance,
            "compliance",
            "a compliance",
            dimension::moment,
            "force times displacement, weighted over all cases where none is named",
            std::move(keys) + bound_keys(dimension::moment),
            [](R& r, const CardReader& reader) {
                require_cases(r, reader, false, "compliance");
                const std::vector<StaticCase>& cases = reader.context().study.cases;
                if (r.worst && !r.in_case.empty() &&
                    std::count_if(cases.begin(), cases.end(),
                                  [&](const StaticCase& c) { return refers_to(r.in_case, c.name); }) < 2)
                    throw Error::input(reader.place_of("take"), "of one case there is no largest",
                                       "Remove it");
            }};
}

MeasureWord displacement_word() {
    std::vector<Key<R>> keys{case_key(false), at_key(false),
                             key("take", Words<bool>{{"largest", false}, {"mean", true}}, &R::mean)
                                 .fallback("\"largest\"")
                                 .example("take = \"mean\"")
                                 .says("of a surface: the largest, or the mean over its area")};
    return {Measure::Displacement,
            "displacement",
            "a displacement",
            dimension::length,
            "of a place or a surface",
            std::move(keys) + component_keys() + bound_keys(dimension::length),
            [](R& r, const CardReader& reader) {
                require_cases(r, reader, false, "displacement");
                check_component(r, reader);
                const std::vector<std::string> surfaces = names_of(reader.context().study.surfaces);
                if (reader.has("take") &&
                    std::none_of(surfaces.begin(), surfaces.end(),
                                 [&](const std::string& s) { return refers_to(r.at, s); }))
                    throw Error::input(reader.place_of("take"), "take belongs to a displacement of a surface",
                                       "Remove it");
            }};
}

MeasureWord strength_word(bool safety) {
    const char* word = safety ? "safety" : "stress";
    std::vector<Key<R>> keys{case_key(false), of_key("all regions"), except_key()};
    return {safety ? Measure::Safety : Measure::Stress,
            word,
            std::string("a ") + word,
            safety ? dimension::none : dimension::stress,
            safety ? "yield over stress"
                   : "von Mises: `analyze` averages it at the nodes within a region, a run takes it in the "
                     "solid material "
                     "at the middle of each element denser than 0.5",
            std::move(keys) + (safety ? bound_keys(dimension::none) : stress_bound_keys()),
            [word](R& r, const CardReader& reader) { require_cases(r, reader, false, word); }};
}

MeasureWord frequency_word() {
    std::vector<Key<R>> keys{
        case_key(true),
        key("mode", value::whole(1), &R::mode)
            .fallback("1")
            .example("mode = 2")
            .says("its number, counted after the rigid-body modes"),
        key("track", value::flag(), &R::track)
            .fallback("false")
            .example("track = true")
            .says("true: the mode is followed by its shape, whatever its number becomes")};
    return {Measure::Frequency,
            "frequency",
            "a frequency",
            dimension::frequency,
            "of a mode of a modal case",
            std::move(keys) + bound_keys(dimension::frequency),
            [](R& r, const CardReader& reader) {
                require_cases(r, reader, true, "frequency");
                check_mode(r, reader);
            }};
}

MeasureWord reaction_word() {
    std::vector<Key<R>> keys{case_key(false), at_key(true)};
    return {Measure::Reaction,
            "reaction",
            "a reaction",
            dimension::force,
            "the force of a support",
            std::move(keys) + component_keys() + bound_keys(dimension::force),
            [](R& r, const CardReader& reader) {
                require_cases(r, reader, false, "reaction");
                check_component(r, reader);
                require_some_case(r, reader);
            }};
}

} // namespace

std::vector<MeasureWord> shipped_measures() {
    return {compliance_word(),
            material_word(Measure::Mass, "mass", dimension::mass, false, "of regions"),
            material_word(Measure::Volume, "volume", dimension::volume, false, "of regions"),
            material_word(Measure::MassFraction, "mass-fraction", dimension::none, true,
                          "mass of regions as a share of all that they could have"),
            material_word(Measure::VolumeFraction, "volume-fraction", dimension::none, true,
                          "volume of regions as a share of all that they could have"),
            displacement_word(),
            strength_word(false),
            strength_word(true),
            frequency_word(),
            reaction_word()};
}

} // namespace upright
