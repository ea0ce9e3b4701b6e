#include "study/schema.hpp"

#include "base/nearest.hpp"
#include "study/study.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace upright {

namespace {

const KeyFacts* find_in(const std::vector<KeyFacts>& keys, const std::string& name) {
    const auto at = std::find_if(keys.begin(), keys.end(), [&](const KeyFacts& k) { return k.name == name; });
    return at == keys.end() ? nullptr : &*at;
}

std::string join(const std::vector<std::string>& words, const char* last) {
    std::string out;
    for (std::size_t i = 0; i < words.size(); ++i)
        out += (i == 0 ? "" : i + 1 == words.size() ? last : ", ") + words[i];
    return out;
}

std::string filled(std::string text, const std::string& what, const std::string& with) {
    for (auto at = text.find(what); at != std::string::npos; at = text.find(what, at + with.size()))
        text.replace(at, what.size(), with);
    return text;
}

// The first home that the key does not have.
const Home* missing_home(const KeyFacts& key, const CardReader& reader) {
    for (const Home& home : key.homes) {
        const bool beside =
            home.beside.empty() || std::any_of(home.beside.begin(), home.beside.end(),
                                               [&](const std::string& other) { return reader.has(other); });
        if (!beside || (home.where && !home.where(reader.context()))) return &home;
    }
    return nullptr;
}

// A key that only other kinds of the card have.
void refuse_elsewhere(const TableFacts& facts, const VariantFacts& kind, const Entry& entry) {
    const KeyFacts* known = nullptr;
    std::vector<std::string> homes;
    for (const VariantFacts& other : facts.variants)
        if (const KeyFacts* key = find_in(other.keys, entry.key)) {
            if (known == nullptr || known->elsewhere.empty()) known = key;
            homes.push_back(other.called);
        }
    if (known == nullptr) return;
    const std::string wrong = known->elsewhere.empty() ? entry.key + " belongs to " + join(homes, " or ")
                                                       : filled(known->elsewhere, "{kind}", kind.word);
    throw Error::input(entry.place.line > 0 && entry.node.place.line > 0 ? entry.node.place : entry.place,
                       wrong, known->elsewhere_instead.empty() ? "Remove it" : known->elsewhere_instead);
}

[[noreturn]] void refuse_unknown(const TableFacts& facts, const VariantFacts* kind, const CardReader& reader,
                                 const Entry& entry) {
    std::vector<std::string> served;
    std::vector<std::string> all;
    const auto add = [&](const std::vector<KeyFacts>& keys) {
        for (const KeyFacts& key : keys) {
            if (!key.was.empty() && key.was == entry.key)
                throw Error::input(entry.node.place,
                                   "a " + facts.word + " has no key \"" + entry.key + "\" any more",
                                   "Write " + key.example);
            if (!key.later) served.push_back(key.name);
            all.push_back(key.name);
        }
    };
    add(facts.keys);
    if (kind != nullptr) add(kind->keys);
    throw Error::input(entry.place, reader.title() + " has no key \"" + entry.key + "\"",
                       suggestion(entry.key, nearest(entry.key, all) ? all : served, 30));
}

void require_keys(const std::vector<KeyFacts>& keys, const CardReader& reader) {
    for (const KeyFacts& key : keys)
        if (key.required && !reader.has(key.name) && missing_home(key, reader) == nullptr)
            throw Error::input(reader.place(), reader.title() + " lacks \"" + key.name + "\"",
                               "Write " + key.example);
}

void check_choices(const std::vector<Choice>& choices, const CardReader& reader) {
    for (const Choice& choice : choices) {
        std::vector<std::string> found;
        for (const std::string& key : choice.keys)
            if (reader.has(key)) found.push_back(key);
        if (found.size() == 1 || (found.empty() && !choice.required)) continue;
        const Node* name = reader.find("name");
        std::string wrong = found.empty() ? choice.none : choice.several;
        wrong =
            filled(wrong, "{name}",
                   name != nullptr && name->text() != nullptr ? "\"" + *name->text() + "\"" : std::string());
        wrong = filled(wrong, "{title}", reader.title());
        if (found.size() > 1) wrong = filled(wrong, "{two}", "\"" + found[0] + "\" and \"" + found[1] + "\"");
        throw Error::input(found.empty() ? reader.place() : reader.find(found[1])->place, wrong,
                           choice.instead);
    }
}

} // namespace

KeyFacts facts_for(const char* name, std::vector<ValueForm> forms) {
    KeyFacts out;
    out.name = name;
    out.forms = std::move(forms);
    return out;
}
KeyFacts facts_for(const char* name, ValueForm form) {
    return facts_for(name, std::vector<ValueForm>{std::move(form)});
}

AnyKey::AnyKey(KeyFacts told, TakeAny how) : facts(std::move(told)), take(std::move(how)) {}
AnyKey::AnyKey(const AnyKey&) = default;
AnyKey::AnyKey(AnyKey&&) noexcept = default;
AnyKey& AnyKey::operator=(const AnyKey&) = default;
AnyKey& AnyKey::operator=(AnyKey&&) noexcept = default;
AnyKey::~AnyKey() = default;

void AnyKey::set_must(std::string_view example) {
    facts.required = true;
    facts.example = example;
}
void AnyKey::add_home(std::vector<std::string> beside, std::function<bool(const Context&)> where,
                      std::string_view wrong, std::string_view instead) {
    facts.homes.push_back({std::move(beside), std::move(where), std::string(wrong), std::string(instead)});
}
void AnyKey::set_elsewhere(std::string_view wrong, std::string_view instead) {
    facts.elsewhere = wrong;
    facts.elsewhere_instead = instead;
}

void AnySchema::add_any(AnyKey key) {
    const auto back = !facts.keys.empty() && facts.keys.back().name == "active" ? 1 : 0;
    facts.keys.insert(facts.keys.end() - back, std::move(key.facts));
    takes.insert(takes.end() - back, std::move(key.take));
}
void AnySchema::add_any_kind(VariantFacts kind) {
    facts.variants.push_back(std::move(kind));
    own_takes.emplace_back();
}
void AnySchema::add_to_kind(const AnyKey& key) {
    facts.variants.back().keys.push_back(key.facts);
    own_takes.back().push_back(key.take);
}
void AnySchema::read_any(const CardReader& reader, void* card) const {
    const auto take_all = [&](const std::vector<KeyFacts>& keys, const std::vector<TakeAny>& how) {
        for (std::size_t i = 0; i < keys.size(); ++i)
            if (const Node* node = reader.find(keys[i].name)) how[i](card, Given(*node, keys[i], reader));
    };
    take_all(facts.keys, takes);
    if (facts.variants.empty()) return;
    const VariantFacts& kind = variant_of(facts, reader);
    take_all(kind.keys, own_takes[static_cast<std::size_t>(&kind - facts.variants.data())]);
}

std::string TableFacts::title() const {
    return many ? "[[" + word + "]]" : "[" + word + "]";
}

const VariantFacts* TableFacts::variant(const std::string& called) const {
    for (const VariantFacts& one : variants)
        if (one.word == called) return &one;
    return nullptr;
}

const KeyFacts* TableFacts::find(const std::string& key) const {
    if (const KeyFacts* found = find_in(keys, key)) return found;
    for (const VariantFacts& one : variants)
        if (const KeyFacts* found = find_in(one.keys, key)) return found;
    return nullptr;
}

std::vector<std::string> TableFacts::key_names() const {
    std::vector<std::string> out;
    const auto add = [&](const std::vector<KeyFacts>& some) {
        for (const KeyFacts& key : some)
            if (std::find(out.begin(), out.end(), key.name) == out.end()) out.push_back(key.name);
    };
    add(keys);
    for (const VariantFacts& one : variants) add(one.keys);
    return out;
}

const VariantFacts& variant_of(const TableFacts& facts, const CardReader& reader) {
    std::string word = facts.usual;
    const KeyFacts& deciding = *find_in(facts.keys, facts.decides);
    if (const Node* node = reader.find(facts.decides)) {
        const ValueForm& form = deciding.forms.front();
        word = reader.choice(*node, form.words, form.later);
    } else if (word.empty()) {
        throw Error::input(reader.place(), reader.title() + " lacks \"" + deciding.name + "\"",
                           "Write " + deciding.example);
    }
    return *facts.variant(word);
}

void check_keys(const TableFacts& facts, const CardReader& reader) {
    // A card is named before all else, so that messages can name it.
    if (facts.many && !reader.has("name")) {
        const KeyFacts* name = find_in(facts.keys, "name");
        if (name != nullptr && nearest("name", [&] {
                                   std::vector<std::string> given;
                                   for (const Entry& e : *reader.table().table())
                                       if (find_in(facts.keys, e.key) == nullptr) given.push_back(e.key);
                                   return given;
                               }()) == std::nullopt)
            throw Error::input(reader.place(), reader.title() + " lacks \"name\"", "Write " + name->example);
    }
    const VariantFacts* kind = facts.variants.empty() ? nullptr : &variant_of(facts, reader);
    for (const Entry& entry : *reader.table().table()) {
        const KeyFacts* key = find_in(facts.keys, entry.key);
        if (key == nullptr && kind != nullptr) key = find_in(kind->keys, entry.key);
        if (key == nullptr && kind != nullptr) refuse_elsewhere(facts, *kind, entry);
        if (key == nullptr) refuse_unknown(facts, kind, reader, entry);
        if (key->later) throw not_served(entry.place, "\"" + entry.key + "\" in " + reader.title());
        if (const Home* home = missing_home(*key, reader))
            throw Error::input(entry.node.place, home->wrong, home->instead);
    }
    require_keys(facts.keys, reader);
    check_choices(facts.choices, reader);
    if (kind != nullptr) {
        require_keys(kind->keys, reader);
        check_choices(kind->choices, reader);
    }
}

const ValueForm& Given::form(ValueForm::Kind kind) const {
    for (const ValueForm& one : key.forms)
        if (one.kind == kind) return one;
    return key.forms.front();
}

double Given::number() const {
    const ValueForm& form = this->form(ValueForm::Kind::Quantity);
    const double value = card.number(node, form.dimension);
    const NumberRange& range = form.range;
    if (range.holds(value)) return value;
    const auto& units = card.quantities().units();
    if (range.least == 0.0 && range.least_open && (value <= 0.0 || !std::isfinite(range.most)))
        throw Error::input(node.place, describe(form.dimension, units) + " above zero is expected here");
    if (!std::isfinite(range.most) && range.least == 0.0)
        throw Error::input(node.place, key.name + " must not be negative");
    const std::string unit =
        form.dimension == dimension::none ? std::string() : " " + units.text(form.dimension);
    throw Error::input(node.place,
                       !std::isfinite(range.least) || (range.least == 0.0 && value > range.most)
                           ? fmt::format("{} must not exceed {:g}{}", key.name, range.most, unit)
                           : fmt::format(range.least_open ? "{} must lie above {:g} and below {:g}{}"
                                                          : "{} must lie between {:g} and {:g}{}",
                                         key.name, range.least, range.most, unit));
}

int Given::whole() const {
    const NumberRange& range = form(ValueForm::Kind::Whole).range;
    const double value = card.number(node, dimension::none);
    if (value == std::floor(value) && range.holds(value)) return static_cast<int>(value);
    if (range.most == range.least + 1)
        throw Error::input(node.place,
                           fmt::format("the {} is {:g} or {:g}", key.name, range.least, range.most));
    throw Error::input(
        node.place,
        fmt::format("a whole number of at least {:g}{} is expected here", range.least,
                    range.most < 1e9 ? fmt::format(" and at most {:g}", range.most) : std::string()));
}

std::string Given::word() const {
    const ValueForm& words = form(ValueForm::Kind::Word);
    return card.choice(node, words.words, words.later);
}

Vec3 Given::vector() const {
    for (const ValueForm& one : key.forms) switch (one.kind) {
        case ValueForm::Kind::Place:
            return card.vector(node, one.dimension);
        case ValueForm::Kind::Components:
            return card.vector(node, one.dimension, context().plane() ? 2 : 3);
        case ValueForm::Kind::Three:
            return card.vector(node, one.dimension, 3);
        default:
            break;
        }
    return card.vector(node, key.forms.front().dimension);
}

std::vector<const Node*> Given::items() const {
    if (node.list() == nullptr) return {&node};
    std::vector<const Node*> out;
    for (const Node& item : *node.list()) out.push_back(&item);
    return out;
}

namespace {
constexpr std::size_t longest_name = 100;
}

std::string read_name(const Given& given) {
    std::string name = given.text();
    const Place& place = given.node.place;
    if (name.empty()) throw Error::input(place, "a name must not be empty");
    for (const char c : name)
        if (c == '/' || c == '@' || c == ',' || static_cast<unsigned char>(c) < 0x20)
            throw Error::input(place, "a name may hold no \"/\", \"@\" or comma",
                               "Use letters, digits, - and _");
    // Names become those of files and cells of tables: neither hidden ones nor formulas.
    if (name.find_first_of(".=+-") == 0)
        throw Error::input(place, "a name may not begin with \".\", \"=\", \"+\" or \"-\"",
                           "Begin it with a letter or a digit");
    if (name.size() > longest_name)
        throw Error::input(place, "this name has " + std::to_string(name.size()) + " letters",
                           "At most " + std::to_string(longest_name) + " are allowed");
    return name;
}

} // namespace upright
