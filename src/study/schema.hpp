// The study language as tables. A card is a `Schema` of `Key`s; from it come reading, every message about a
// wrong, missing or not served key, the paths of --set, docs/study-reference.md, `upright help` and the JSON
// Schema. Rules across cards stay functions.
//
//     const Schema<Sphere>& sphere_schema() {
//         static const Schema<Sphere> out = schema<Sphere>("sphere", "A ball.",
//             {key("center", value::place(), &Sphere::center).must("center = [x, y, z]"),
//              key("radius", value::quantity(dimension::length).above(0), &Sphere::radius).must("radius =
//              10")});
//         return out;
//     }
//     Sphere s = read_table(sphere_schema(), reader);
#pragma once

#include "study/reader.hpp"
#include "study/value_form.hpp"

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <type_traits>
#include <utility>
#include <vector>

namespace upright {

// Where a key belongs; it is refused in these words where it does not.
struct Home {
    std::vector<std::string> beside;           // any of these keys stands there too
    std::function<bool(const Context&)> where; // the study is such
    std::string wrong;                         // "tilt belongs to facing"
    std::string instead;                       // "Write facing = [0, 0, 1] as well"
};

// What a table says of one of its keys.
struct KeyFacts {
    std::string name;
    std::vector<ValueForm> forms; // any of these; the first is the usual one
    std::string says;             // one line
    std::string fallback;         // what holds without it, in words
    std::string example;          // "size = \"8 mm\""
    bool required = false;
    bool later = false; // of the language, not served yet
    std::string was;    // a name that it had
    std::vector<Home> homes;
    // The words of refusal where only other kinds of the card have it; "{kind}" is the kind at hand. Empty:
    // "key belongs to …".
    std::string elsewhere;
    std::string elsewhere_instead;
};

// Keys of which one may stand there, or one has to. In its sentences {name} is the card's name in quotation
// marks, {title} the card, {two} the two keys found.
struct Choice {
    std::vector<std::string> keys;
    bool required = false;
    std::string none;
    std::string several;
    std::string instead;
};

// Of a key of that name and form, with nothing said yet.
KeyFacts facts_for(const char* name, ValueForm form);
KeyFacts facts_for(const char* name, std::vector<ValueForm> forms);

// What a table says of a kind of the card: of a mesh kind, a measure, a static or a modal case. A word of the
// card's deciding key chooses it, and keys of its own come with it.
struct VariantFacts {
    std::string word;
    std::string called; // "a frequency"
    std::string says;
    std::vector<KeyFacts> keys;
    std::vector<Choice> choices;
};

struct TableFacts {
    std::string word;   // "region"; of a table inside of a card the name of its definition
    bool card = false;  // stands at the top of the study
    bool many = false;  // as [[region]]; else [region]
    bool rests = false; // `active` leaves it out
    std::string says;
    std::string notes; // more, for the reference
    std::vector<KeyFacts> keys;
    std::vector<Choice> choices;
    std::string decides; // the key that chooses the kind
    std::string usual;   // its word where it is not written
    std::vector<VariantFacts> variants;

    // "[[region]]", "[mesh]".
    std::string title() const;
    const VariantFacts* variant(const std::string& word) const;
    // Of the card, whatever its kind; nullptr where there is none.
    const KeyFacts* find(const std::string& key) const;
    // Every key with its name once.
    std::vector<std::string> key_names() const;
};

// Throws Error (Input) at the first key that is unknown, not served, out of place or missing.
void check_keys(const TableFacts& facts, const CardReader& reader);
// The kind of a card that has kinds; throws on an unknown word.
const VariantFacts& variant_of(const TableFacts& facts, const CardReader& reader);

// A value as it was given, to be read by what its key's table says.
class Given {
  public:
    Given(const Node& value, const KeyFacts& facts, const CardReader& reader)
        : node(value), key(facts), card(reader) {}

    const Node& node;
    const KeyFacts& key;
    const CardReader& card;

    double number() const;
    int whole() const;
    bool flag() const { return card.flag(node); }
    std::string text() const { return card.text(node); }
    std::string word() const;
    std::vector<std::string> names() const { return card.names(node); }
    Vec3 vector() const;
    Vec3 direction() const { return card.direction(node); }
    std::vector<Vec2> corners() const { return card.corners(node); }
    // The items of a list; one value stands for a list of one.
    std::vector<const Node*> items() const;
    // The reader of a table.
    CardReader inner() const { return card.inner(node, key.name); }
    const Context& context() const { return card.context(); }

  private:
    const ValueForm& form(ValueForm::Kind kind) const;
};

// Reads a value into the card that is passed as its address; the typed classes below see to it that it is
// one.
using TakeAny = std::function<void(void*, const Given&)>;

// What all keys share, whatever their card.
struct AnyKey {
    KeyFacts facts;
    TakeAny take;

    AnyKey(KeyFacts told, TakeAny how);
    AnyKey(const AnyKey&);
    AnyKey(AnyKey&&) noexcept;
    AnyKey& operator=(const AnyKey&);
    AnyKey& operator=(AnyKey&&) noexcept;
    ~AnyKey();

  protected:
    void set_must(std::string_view example);
    void add_home(std::vector<std::string> beside, std::function<bool(const Context&)> where,
                  std::string_view wrong, std::string_view instead);
    void set_elsewhere(std::string_view wrong, std::string_view instead);
};

template <class Card> struct Key : AnyKey {
    // `how` is called with (Card&, const Given&).
    template <class Take>
    Key(KeyFacts told, Take how)
        : AnyKey(std::move(told),
                 [how = std::move(how)](void* card, const Given& g) { how(*static_cast<Card*>(card), g); }) {}
    // A key of what the card is built on.
    template <class Base,
              class = std::enable_if_t<std::is_base_of_v<Base, Card> && !std::is_same_v<Base, Card>>>
    Key(Key<Base> base)
        : AnyKey(std::move(base.facts), [take = std::move(base.take)](void* card, const Given& g) {
              take(static_cast<Base*>(static_cast<Card*>(card)), g);
          }) {}

    Key&& says(std::string_view text) && { return facts.says = text, std::move(*this); }
    Key&& fallback(std::string_view text) && { return facts.fallback = text, std::move(*this); }
    Key&& example(std::string_view text) && { return facts.example = text, std::move(*this); }
    // It has to be there.
    Key&& must(std::string_view example) && { return set_must(example), std::move(*this); }
    Key&& was(std::string_view name) && { return facts.was = name, std::move(*this); }
    Key&& beside(std::vector<std::string> keys, std::string_view wrong, std::string_view instead) && {
        return add_home(std::move(keys), {}, wrong, instead), std::move(*this);
    }
    Key&& where(std::function<bool(const Context&)> where, std::string_view wrong,
                std::string_view instead) && {
        return add_home({}, std::move(where), wrong, instead), std::move(*this);
    }
    Key&& elsewhere(std::string_view wrong, std::string_view instead = "Remove it") && {
        return set_elsewhere(wrong, instead), std::move(*this);
    }
};

// A kind of a card with the keys that only it (or it and others) has.
template <class Card> struct Variant {
    std::string word;
    std::string called;
    std::string says;
    std::vector<Key<Card>> keys;
    std::vector<Choice> choices;
};

// How a value becomes a member of a card.
inline void assign(double& to, const Given& g) {
    to = g.number();
}
inline void assign(std::optional<double>& to, const Given& g) {
    to = g.number();
}
inline void assign(int& to, const Given& g) {
    to = g.whole();
}
inline void assign(bool& to, const Given& g) {
    to = g.flag();
}
inline void assign(std::string& to, const Given& g) {
    to = g.key.forms.front().kind == ValueForm::Kind::Word ? g.word() : g.text();
}
inline void assign(std::vector<std::string>& to, const Given& g) {
    to = g.names();
}
inline void assign(std::vector<Vec2>& to, const Given& g) {
    to = g.corners();
}
inline void assign(Vec3& to, const Given& g) {
    to = g.key.forms.front().kind == ValueForm::Kind::Direction ? g.direction() : g.vector();
}

// A key that fills a member.
template <class Card, class T> Key<Card> key(const char* name, ValueForm form, T Card::*member) {
    return {facts_for(name, std::move(form)),
            [member](Card& card, const Given& g) { assign(card.*member, g); }};
}
// The same, and where the value stands is kept.
template <class Base, class T, class Card>
Key<Card> key(const char* name, ValueForm form, T Base::*member, Place Card::*place) {
    return {facts_for(name, std::move(form)), [member, place](Card& card, const Given& g) {
                assign(card.*member, g);
                card.*place = g.node.place;
            }};
}
// A key that is read in its own way: `take` is called with (Card&, const Given&).
template <class Card, class Take> Key<Card> key(const char* name, std::vector<ValueForm> forms, Take take) {
    return {facts_for(name, std::move(forms)), std::move(take)};
}
// A word for each value of an enum (or of a flag).
template <class T> using Words = std::vector<std::pair<const char*, T>>;
template <class Card, class T> Key<Card> key(const char* name, const Words<T>& words, T Card::*member) {
    std::vector<std::string> served;
    for (const auto& [word, meaning] : words) served.emplace_back(word);
    return key<Card>(name, {value::word(served)}, [words, member](Card& card, const Given& g) {
        const std::string given = g.word();
        for (const auto& [word, meaning] : words)
            if (given == word) card.*member = meaning;
    });
}
// A key of the language that this version does not serve yet.
template <class Card> Key<Card> later_key(const char* name, std::vector<ValueForm> forms, std::string says) {
    Key<Card> out = key<Card>(name, std::move(forms), [](Card&, const Given&) {});
    out.facts.says = std::move(says);
    out.facts.later = true;
    return out;
}

// What all schemas share, whatever their card.
struct AnySchema {
    TableFacts facts;
    std::vector<TakeAny> takes;                  // of the keys of all kinds
    std::vector<std::vector<TakeAny>> own_takes; // of each kind's keys

  protected:
    // `active` stays the last.
    void add_any(AnyKey key);
    void add_any_kind(VariantFacts facts);
    void add_to_kind(const AnyKey& key); // to the kind that was added last
    void read_any(const CardReader& reader, void* card) const;
};

template <class Card> struct Schema : AnySchema {
    std::function<void(Card&, const CardReader&)> check; // rules across its keys

    void add(std::vector<Key<Card>> keys) {
        for (Key<Card>& k : keys) add_any(std::move(k));
    }
    void add_kinds(const std::string& decides, const std::string& usual,
                   const std::vector<Variant<Card>>& kinds) {
        facts.decides = decides;
        facts.usual = usual;
        for (const Variant<Card>& kind : kinds) {
            add_any_kind({kind.word, kind.called, kind.says, {}, kind.choices});
            for (const Key<Card>& k : kind.keys) add_to_kind(k);
        }
    }
    void read(const CardReader& reader, Card& card) const { read_any(reader, &card); }
};

// A table inside of a card.
template <class Card>
Schema<Card> schema(const char* word, const char* says, std::vector<Key<Card>> keys,
                    std::function<void(Card&, const CardReader&)> check = {}) {
    Schema<Card> out;
    out.facts.word = word;
    out.facts.says = says;
    out.add(std::move(keys));
    out.check = std::move(check);
    return out;
}
// A card that stands at the top of the study, once.
template <class Card>
Schema<Card> section(const char* word, const char* says, std::vector<Key<Card>> keys,
                     std::function<void(Card&, const CardReader&)> check = {}) {
    Schema<Card> out = schema(word, says, std::move(keys), std::move(check));
    out.facts.card = true;
    return out;
}

// The name of a card; "/", "@" and commas have a meaning of their own.
std::string read_name(const Given& given);

// A card that the study has many of, each with a name.
template <class Card>
Schema<Card> cards(const char* word, const char* says, const char* example, bool rests,
                   std::vector<Key<Card>> keys, std::function<void(Card&, const CardReader&)> check = {}) {
    Schema<Card> out = section<Card>(word, says, {}, std::move(check));
    out.facts.many = true;
    out.facts.rests = rests;
    out.add({key<Card>("name", {value::text()}, [](Card& card, const Given& g) { card.name = read_name(g); })
                 .must(std::string("name = \"") + example + "-1\"")
                 .says("unique among its kind; at most 100 letters, no \"/\", \"@\" or comma")});
    out.add(std::move(keys));
    if (rests)
        out.add({key<Card>("active", {value::flag()}, [](Card&, const Given&) {})
                     .fallback("true")
                     .example("active = false")
                     .says("false leaves the card out")});
    return out;
}

namespace detail {
template <class Card, class = void> struct HasPlace : std::false_type {};
template <class Card>
struct HasPlace<Card, std::void_t<decltype(std::declval<Card&>().place)>> : std::true_type {};
} // namespace detail

// Reads a table by its schema.
template <class Card> void read_table(const Schema<Card>& schema, const CardReader& reader, Card& card) {
    check_keys(schema.facts, reader);
    if constexpr (detail::HasPlace<Card>::value) card.place = reader.place();
    schema.read(reader, card);
    if (schema.check) schema.check(card, reader);
}
template <class Card> Card read_table(const Schema<Card>& schema, const CardReader& reader) {
    Card card;
    read_table(schema, reader, card);
    return card;
}

// A key whose value is a table of its own.
template <class Card, class T>
Key<Card> table_key(const char* name, const Schema<T>& (*inner)(), T Card::*member,
                    const TableFacts* (*facts)()) {
    return key<Card>(name, {value::table(facts)}, [inner, member](Card& card, const Given& g) {
        read_table(inner(), g.inner(), card.*member);
    });
}
template <class Card, class T>
Key<Card> table_key(const char* name, const Schema<T>& (*inner)(), std::optional<T> Card::*member,
                    const TableFacts* (*facts)()) {
    return key<Card>(name, {value::table(facts)}, [inner, member](Card& card, const Given& g) {
        card.*member = read_table(inner(), g.inner());
    });
}
// The facts of a schema as what `value::table` takes.
template <class T, const Schema<T>& (*inner)()> const TableFacts* facts_of() {
    return &inner().facts;
}

// Calls `use(card)` for every card of the schema's kind that is in use; the others are noted in the study.
template <class Card, class Use>
void read_cards(const Schema<Card>& schema, const Node& document, const Context& context, Study& study,
                const Use& use) {
    for (const Node& node : cards_of(document, schema.facts.word)) {
        const CardReader reader(node, context, schema.facts.title());
        Card card = read_table(schema, reader);
        if (schema.facts.rests && !in_use(reader))
            note_resting(study, schema.facts.word, card.name);
        else
            use(std::move(card), reader);
    }
}

} // namespace upright
