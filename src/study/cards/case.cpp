// Cases: which loads act together on which supports; and modal cases.
#include "base/text.hpp"
#include "study/cards/cards.hpp"
#include "study/names.hpp"

#include <algorithm>
#include <map>

namespace upright {

namespace {

using Factors = std::vector<std::pair<std::string, std::vector<double>>>;

struct CaseDraft : Card {
    bool modal = false;
    std::vector<std::string> supports;
    Factors loads; // of each load: one factor, or a list that means "each of these"
    Place loads_place;
    double weight = 1.0;
    int modes = 6;
    std::optional<double> up_to;
    bool lumped = false;
};

void take_supports(CaseDraft& c, const Given& g) {
    if (g.node.list() == nullptr || !g.node.list()->empty()) c.supports = g.names();
    require_known(c.supports, names_of(g.context().study.supports), "support", g.node.place);
}

void take_loads(CaseDraft& c, const Given& g) {
    const std::vector<std::string> known = names_of(g.context().study.loads);
    c.loads_place = g.node.place;
    if (const Node::Table* table = g.node.table()) {
        for (const Entry& entry : *table) {
            std::vector<double> factors;
            if (entry.node.list() != nullptr && entry.node.list()->empty())
                throw Error::input(entry.node.place, "the list of factors is empty");
            const Node::List single{entry.node};
            for (const Node& item : entry.node.list() != nullptr ? *entry.node.list() : single)
                factors.push_back(g.card.number(item, dimension::none));
            require_known({entry.key}, known, "load", entry.node.place);
            c.loads.emplace_back(entry.key, factors);
        }
        return;
    }
    for (const std::string& name : g.names()) {
        require_known({name}, known, "load", g.node.place);
        c.loads.emplace_back(name, std::vector<double>{1.0});
    }
}

void finish_case(CaseDraft& c, const CardReader& reader) {
    if (c.modal) return;
    // An enforced displacement alone is a case too.
    const std::vector<SupportCard>& supports = reader.context().study.supports;
    const bool moves = std::any_of(supports.begin(), supports.end(), [&](const SupportCard& s) {
        return refers_to(c.supports, s.name) &&
               std::any_of(s.move.begin(), s.move.end(), [](double m) { return m != 0.0; });
    });
    if (!c.loads.empty() || moves) return;
    if (!reader.has("loads"))
        throw Error::input(c.place, "[[case]] lacks \"loads\"", "Write loads = { thrust = 1.0 }");
    throw Error::input(c.loads_place, "the case \"" + c.name + "\" has no load",
                       "Write loads = { thrust = 1.0 }");
}

const Schema<CaseDraft>& case_schema() {
    using C = CaseDraft;
    static const Schema<C> out = [] {
        auto s = cards<C>(
            "case", "loads that act together on supports, or the free vibrations on them", "start-up", true,
            {key("kind", Words<bool>{{"static", false}, {"modal", true}}, &C::modal)
                 .fallback("\"static\"")
                 .example("kind = \"modal\"")
                 .says("forces and their answer, or free vibrations"),
             key<C>("supports", {value::names("supports"), value::list(value::name("support"))},
                    take_supports)
                 .must(R"(supports = ["bolted"], or [] for a body that is free or on joints alone)")
                 .says("what holds; `[]`: joints alone, or a free body")},
            finish_case);
        const std::vector<Variant<C>> kinds{
            {"static",
             "a static case",
             "On a list of factors each of them is a case: `name/1`, `name/2`, …, every combination where "
             "there are "
             "several lists. An enforced displacement of a support needs no load.",
             {key<C>("loads",
                     {value::map(
                          "a table of loads and their factors",
                          {value::quantity(dimension::none), value::list(value::quantity(dimension::none))}),
                      value::names("loads")},
                     take_loads)
                  .elsewhere("loads has no meaning in a modal case")
                  .example("loads = { thrust = 1.5, side = [-1, 1] }")
                  .says("by name and factor; a list means each of these; a list of names has the factor 1"),
              key("weight", value::quantity(dimension::none).at_least(0), &C::weight)
                  .elsewhere("weight has no meaning in a modal case")
                  .fallback("1")
                  .example("weight = 2")
                  .says("share in the weighted compliance; each case of a list has all of it")},
             {}},
            {"modal",
             "a modal case",
             "Masses ride along. On a symmetric half only modes that mirror across the plane are found.",
             {key("modes", value::whole(1, 500), &C::modes)
                  .elsewhere("", "Write kind = \"modal\", or remove it")
                  .fallback("6")
                  .example("modes = 10")
                  .says("how many, counted after the rigid-body modes"),
              key<C>("up_to", {value::quantity(dimension::frequency).above(0)},
                     [](C& c, const Given& g) { c.up_to = g.number(); })
                  .elsewhere("", "Write kind = \"modal\", or remove it")
                  .example("up_to = \"500 Hz\"")
                  .says("instead of `modes`: all below it"),
              key("mass", Words<bool>{{"consistent", false}, {"lumped", true}}, &C::lumped)
                  .elsewhere("", "Write kind = \"modal\", or remove it")
                  .fallback("\"consistent\"")
                  .example("mass = \"lumped\"")
                  .says("how the mass of elements is shared among their nodes")},
             {{{"up_to", "modes"},
               false,
               {},
               "a modal case has either modes or up_to",
               "Remove one of them"}}}};
        s.add_kinds("kind", "static", kinds);
        return s;
    }();
    return out;
}

// Every combination of the factors is a case.
void add_static_cases(Study& study, const CaseDraft& draft) {
    std::size_t count = 1;
    for (const auto& [name, list] : draft.loads) count *= list.size();
    if (count > 64)
        throw Error::input(draft.loads_place, "the lists of factors make " + std::to_string(count) + " cases",
                           "At most 64 are allowed; write fewer");
    for (std::size_t i = 0; i < count; ++i) {
        StaticCase one;
        one.name = count > 1 ? draft.name + "/" + std::to_string(i + 1) : draft.name;
        one.place = draft.place;
        one.supports = draft.supports;
        one.weight = draft.weight;
        std::size_t rest = i;
        std::size_t block = count;
        for (const auto& [name, list] : draft.loads) {
            block /= list.size();
            one.loads.emplace_back(name, list[rest / block]);
            rest %= block;
        }
        study.cases.push_back(one);
    }
}

} // namespace

const TableFacts& case_facts() {
    return case_schema().facts;
}

void read_cases(Study& study, const Node& document, const Context& context) {
    read_cards(case_schema(), document, context, study, [&](const CaseDraft& draft, const CardReader&) {
        if (!draft.modal) {
            add_static_cases(study, draft);
            return;
        }
        ModalCase modal;
        modal.name = draft.name;
        modal.place = draft.place;
        modal.supports = draft.supports;
        modal.modes = draft.modes;
        modal.up_to = draft.up_to;
        modal.lumped = draft.lumped;
        study.modal_cases.push_back(modal);
    });
    std::map<std::string, std::string> names;
    const auto take = [&](const std::string& name, const Place& place) {
        const auto [at, fresh] = names.emplace(file_name(name), name);
        if (!fresh && at->second != name) // twice the same is said elsewhere
            throw Error::input(
                place, "the cases \"" + at->second + "\" and \"" + name + "\" would share their files",
                "Name one of them otherwise");
    };
    for (const StaticCase& c : study.cases) take(c.name, c.place);
    for (const ModalCase& c : study.modal_cases) take(c.name, c.place);
}

} // namespace upright
