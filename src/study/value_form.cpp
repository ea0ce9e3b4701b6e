#include "study/value_form.hpp"

#include "study/schema.hpp"

#include <fmt/format.h>

namespace upright {

bool NumberRange::holds(double value) const {
    return (least_open ? value > least : value >= least) && (most_open ? value < most : value <= most);
}

bool NumberRange::limits() const {
    return least > -std::numeric_limits<double>::infinity() || most < std::numeric_limits<double>::infinity();
}

ValueForm ValueForm::above(double low) const {
    ValueForm out = *this;
    out.range.least = low;
    out.range.least_open = true;
    return out;
}

ValueForm ValueForm::at_least(double low) const {
    ValueForm out = *this;
    out.range.least = low;
    return out;
}

ValueForm ValueForm::between(double low, double high) const {
    ValueForm out = *this;
    out.range = {low, high, false, false};
    return out;
}

ValueForm ValueForm::inside(double low, double high) const {
    ValueForm out = *this;
    out.range = {low, high, true, true};
    return out;
}

namespace value {

namespace {

ValueForm of_kind(ValueForm::Kind kind) {
    ValueForm out;
    out.kind = kind;
    return out;
}

ValueForm of_kind(ValueForm::Kind kind, const Dimension& d) {
    ValueForm out = of_kind(kind);
    out.dimension = d;
    return out;
}

ValueForm of_kind(ValueForm::Kind kind, const std::string& of) {
    ValueForm out = of_kind(kind);
    out.of = of;
    return out;
}

} // namespace

ValueForm text(const std::string& of) {
    return of_kind(ValueForm::Kind::Text, of);
}
ValueForm flag() {
    return of_kind(ValueForm::Kind::Flag);
}
ValueForm whole(double least, double most) {
    return of_kind(ValueForm::Kind::Whole).between(least, most);
}
ValueForm quantity(const Dimension& d) {
    return of_kind(ValueForm::Kind::Quantity, d);
}
ValueForm word(std::vector<std::string> words, std::vector<std::string> later) {
    ValueForm out = of_kind(ValueForm::Kind::Word);
    out.words = std::move(words);
    out.later = std::move(later);
    return out;
}
ValueForm name(const std::string& of) {
    return of_kind(ValueForm::Kind::Name, of);
}
ValueForm names(const std::string& of) {
    return of_kind(ValueForm::Kind::Names, of);
}
ValueForm place() {
    return of_kind(ValueForm::Kind::Place, dimension::length);
}
ValueForm components(const Dimension& d) {
    return of_kind(ValueForm::Kind::Components, d);
}
ValueForm three(const Dimension& d) {
    return of_kind(ValueForm::Kind::Three, d);
}
ValueForm direction() {
    return of_kind(ValueForm::Kind::Direction);
}
ValueForm corners() {
    return of_kind(ValueForm::Kind::Corners, dimension::length);
}
ValueForm path(const std::string& of) {
    return of_kind(ValueForm::Kind::Path, of);
}
ValueForm list(ValueForm item, std::size_t count) {
    ValueForm out = of_kind(ValueForm::Kind::List);
    out.items = {std::move(item)};
    out.count = count;
    return out;
}
ValueForm list_of(std::vector<ValueForm> items) {
    ValueForm out = of_kind(ValueForm::Kind::List);
    out.items = std::move(items);
    return out;
}
ValueForm map(const std::string& of, std::vector<ValueForm> items) {
    ValueForm out = of_kind(ValueForm::Kind::Map, of);
    out.items = std::move(items);
    return out;
}
ValueForm table(const TableFacts* (*facts)()) {
    ValueForm out = of_kind(ValueForm::Kind::Table);
    out.table = facts;
    return out;
}

} // namespace value

namespace {

// "a length", "a number"; without the names of units, which are the study's own.
std::string plain(const Dimension& d) {
    static const std::vector<std::pair<Dimension, const char*>> more{
        {{0, 0, -1, 0, 1}, "a speed of turning"},
        {{0, 0, -2, 0, 1}, "a rate of speeding up"},
        {{1, 1, 0, 0, -1}, "a moment for each angle"},
        {{1, 1, 2, 0, 0}, "a moment of inertia"}};
    for (const auto& [known, name] : more)
        if (known == d) return name;
    return describe(d, UnitSystem());
}

std::string limits_text(const NumberRange& range) {
    constexpr double none = std::numeric_limits<double>::infinity();
    if (range.least > -none && range.most < none)
        return fmt::format(range.least_open ? " between {:g} and {:g} (not these)" : " from {:g} to {:g}",
                           range.least, range.most);
    if (range.least == 0.0) return range.least_open ? " above zero" : ", not negative";
    if (range.least > -none)
        return fmt::format(" {} {:g}", range.least_open ? "above" : "of at least", range.least);
    if (range.most < none)
        return fmt::format(" {} {:g}", range.most_open ? "below" : "of at most", range.most);
    return {};
}

std::string words_text(const std::vector<std::string>& words) {
    std::string out;
    for (std::size_t i = 0; i < words.size(); ++i)
        out += (i == 0 ? "\"" : i + 1 == words.size() ? " or \"" : ", \"") + words[i] + "\"";
    return out;
}

} // namespace

std::string describe(const ValueForm& form) {
    using Kind = ValueForm::Kind;
    switch (form.kind) {
    case Kind::Text:
        return form.of.empty() ? "a text" : form.of;
    case Kind::Flag:
        return "true or false";
    case Kind::Whole:
        if (form.range.most < 1e9) return "a whole number" + limits_text(form.range);
        return fmt::format("a whole number of at least {:g}", form.range.least);
    case Kind::Quantity:
        return plain(form.dimension) + limits_text(form.range);
    case Kind::Word:
        return words_text(form.words);
    case Kind::Name:
        return "a " + form.of;
    case Kind::Names:
        return form.of + ", one name or a list";
    case Kind::Place:
        return "a place [x, y, z]";
    case Kind::Components:
        return "[x, y, z], each " + plain(form.dimension);
    case Kind::Three:
        return "three numbers, each " + plain(form.dimension);
    case Kind::Direction:
        return "a direction [x, y, z]";
    case Kind::Corners:
        return "corners [[u, v], [u, v], …]";
    case Kind::Path:
        return "the path of " + form.of;
    case Kind::List: {
        std::string item;
        for (const ValueForm& one : form.items) item += (item.empty() ? "" : " or ") + describe(one);
        return (form.count > 0 ? fmt::format("a list of {}: ", form.count) : "a list: ") + item;
    }
    case Kind::Map:
        return form.of;
    case Kind::Table: {
        std::string keys;
        for (const std::string& name : form.table()->key_names()) keys += (keys.empty() ? "" : ", ") + name;
        return "{ " + keys + " }";
    }
    }
    return {};
}

std::string describe(const std::vector<ValueForm>& forms) {
    std::string out;
    for (const ValueForm& form : forms) out += (out.empty() ? "" : "; or ") + describe(form);
    return out;
}

} // namespace upright
