// Responses: what is measured, and the keys that measures share.
#include "study/language.hpp"
#include "study/measure_word.hpp"
#include "study/names.hpp"
#include "study/response_keys.hpp"

#include <algorithm>

namespace upright {

namespace {

using R = ResponseCard;

bool has_sign(const R& r) {
    return r.component != Component::Size;
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
                       using C = Component;
                       std::vector<C> served = round ? std::vector<C>{C::R, C::T, C::Z, C::Size}
                                                     : std::vector<C>{C::X, C::Y, C::Z, C::Size};
                       if (g.context().plane()) served.erase(served.begin() + 2);
                       std::vector<std::string> words;
                       for (const C c : served) words.emplace_back(text(c));
                       const std::string word = g.card.choice(g.node, words);
                       r.component = served[static_cast<std::size_t>(
                           std::find(words.begin(), words.end(), word) - words.begin())];
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

Schema<R> response_schema(const std::vector<std::shared_ptr<const MeasureWord>>& measures) {
    std::vector<std::string> words;
    std::vector<Variant<R>> kinds;
    for (const auto& m : measures) {
        words.push_back(m->word);
        kinds.push_back({m->word, m->called, m->says, m->keys, {}});
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
                    for (const auto& m : measures)
                        if (m->word == word) r.measure = m;
                })
             .must("measure = \"compliance\"")
             .says("what it measures")},
        [](R& r, const CardReader& reader) {
            check_bounds(r, reader);
            if (r.measure->check) r.measure->check(r, reader);
        });
    out.facts.notes =
        "A measure that is read in cases is a number (a column of `history.csv`, `name@case`) in every case "
        "that fits, and its bound holds in all of them; as the goal the worst of them counts.";
    out.add_kinds("measure", {}, kinds);
    return out;
}

} // namespace upright
