#include "quantity/quantities.hpp"

#include "base/nearest.hpp"
#include "quantity/units.hpp"

#include <algorithm>
#include <cctype>
#include <cmath>
#include <muParser.h>
#include <optional>
#include <set>
#include <utility>

namespace upright {

namespace {

// How much larger each base unit is in the probing systems: length, force, time, temperature, angle.
constexpr std::array<double, 5> probe{2.0, 3.0, 5.0, 7.0, 11.0};

std::array<int, 5> exponents(const Dimension& d) {
    return {d.length, d.force, d.time, d.temperature, d.angle};
}

std::string trimmed(const std::string& text) {
    const auto first = text.find_first_not_of(" \t\n");
    if (first == std::string::npos) return {};
    return text.substr(first, text.find_last_not_of(" \t\n") - first + 1);
}

bool is_name(const std::string& text) {
    if (text.empty() || std::isdigit(static_cast<unsigned char>(text[0]))) return false;
    return std::all_of(text.begin(), text.end(), [](unsigned char c) { return std::isalnum(c) || c == '_'; });
}

// Words in an expression that are not functions of the parser.
std::vector<std::string> words_in(const std::string& text) {
    std::vector<std::string> out;
    std::string word;
    for (std::size_t i = 0; i <= text.size(); ++i) {
        const char c = i < text.size() ? text[i] : ' ';
        const auto u = static_cast<unsigned char>(c);
        const bool exponent = !word.empty() && std::isdigit(static_cast<unsigned char>(word[0])) &&
                              (word.back() == 'e' || word.back() == 'E') && (c == '-' || c == '+');
        if (std::isalnum(u) || c == '_' || (c == '.' && !word.empty()) || exponent) {
            word += c;
        } else {
            if (!word.empty() && !std::isdigit(static_cast<unsigned char>(word[0]))) out.push_back(word);
            word.clear();
        }
    }
    return out;
}

// The number at the start of a text and what follows it.
std::optional<std::pair<double, std::string>> leading_number(const std::string& text) {
    const char first = text.empty() ? '\0' : text[0];
    if (!std::isdigit(static_cast<unsigned char>(first)) && first != '.' && first != '-' && first != '+')
        return {};
    // strtod also takes "inf", "nan" and hexadecimal numbers, which a study should not hold.
    const std::size_t digits = text.find_first_not_of("+-. ");
    if (digits == std::string::npos || !std::isdigit(static_cast<unsigned char>(text[digits]))) return {};
    if (text[digits] == '0' && digits + 1 < text.size() &&
        (text[digits + 1] == 'x' || text[digits + 1] == 'X'))
        return {};
    char* end = nullptr;
    const double number = std::strtod(text.c_str(), &end);
    if (end == text.c_str()) return {};
    return std::pair{number, trimmed(std::string(end))};
}

} // namespace

Quantities::Quantities(UnitSystem units, const std::vector<NamedValue>& values) : units_(std::move(units)) {
    std::set<std::string> names;
    for (const NamedValue& value : values) {
        if (!is_name(value.name))
            throw Error::input(value.place, "\"" + value.name + "\" cannot be the name of a value",
                               "Use letters, digits and _, and begin with a letter");
        names.insert(value.name);
    }
    // A value may refer to another one that stands later: keep going while that helps.
    std::vector<const NamedValue*> open;
    for (const NamedValue& value : values) open.push_back(&value);
    while (!open.empty()) {
        std::vector<const NamedValue*> waiting;
        for (const NamedValue* value : open) {
            if (const double* number = std::get_if<double>(&value->value)) {
                Value bare;
                bare.in.fill(*number);
                values_[value->name] = bare;
                continue;
            }
            const std::string& text = std::get<std::string>(value->value);
            const auto words = words_in(text);
            const bool wait =
                !leading_number(text).has_value() || text.find_first_of("*/+-") != std::string::npos
                    ? std::any_of(
                          words.begin(), words.end(),
                          [&](const std::string& word) { return names.count(word) && !values_.count(word); })
                    : false;
            if (wait)
                waiting.push_back(value);
            else
                values_[value->name] = evaluate(text, value->place);
        }
        if (waiting.size() == open.size())
            throw Error::input(waiting.front()->place,
                               "the value \"" + waiting.front()->name + "\" depends on itself");
        open = waiting;
    }
}

std::vector<std::string> Quantities::names() const {
    std::vector<std::string> out;
    for (const auto& [name, value] : values_) out.push_back(name);
    return out;
}

Quantities::Value Quantities::with_unit(double number, const std::string& unit_text,
                                        const Place& place) const {
    const Unit unit = parse_unit(unit_text, place);
    const auto powers = exponents(unit.dimension);
    Value out;
    out.bare = false;
    out.in.fill(number * unit.si / units_.si(unit.dimension));
    for (std::size_t i = 0; i < probe.size(); ++i) out.in[i + 1] /= std::pow(probe[i], powers[i]);
    return out;
}

Quantities::Value Quantities::expression(const std::string& text, const Place& place) const {
    Value out;
    for (const std::string& word : words_in(text)) {
        const auto known = values_.find(word);
        if (known != values_.end()) out.bare = out.bare && known->second.bare;
    }
    try {
        for (std::size_t system = 0; system < systems; ++system) {
            mu::Parser parser;
            for (const auto& [name, value] : values_) parser.DefineConst(name, value.in[system]);
            parser.SetExpr(text);
            int count = 0;
            const mu::value_type* results = parser.Eval(count);
            if (count != 1)
                throw Error::input(place, "\"" + text + "\" holds a comma",
                                   "Write numbers without separators and with a decimal point");
            out.in[system] = results[0];
        }
    } catch (const mu::Parser::exception_type& bad) {
        if (bad.GetCode() == mu::ecUNASSIGNABLE_TOKEN && is_name(bad.GetToken()))
            throw Error::input(place, "\"" + bad.GetToken() + "\" is not a value of this study",
                               values_.empty() ? "Name it in [values]" : suggestion(bad.GetToken(), names()));
        throw Error::input(
            place, "\"" + text + "\" cannot be understood",
            "Write a number with a unit (\"1.8 kN\") or arithmetic over [values] (\"-0.5*lift\")");
    }
    if (!std::isfinite(out.in[0]))
        throw Error::input(place, "\"" + text + "\" is not a finite number", "Look for a division by zero");
    return out;
}

Quantities::Value Quantities::evaluate(const std::string& raw, const Place& place) const {
    const std::string text = trimmed(raw);
    if (text.empty()) throw Error::input(place, "a quantity is empty", "Write a number with its unit");
    if (const auto number = leading_number(text)) {
        const std::string& rest = number->second;
        if (rest.empty()) {
            Value out;
            out.in.fill(number->first);
            if (!std::isfinite(number->first)) throw Error::input(place, "\"" + text + "\" is too large");
            return out;
        }
        if (rest[0] == ',')
            throw Error::input(place, "\"" + text + "\" holds a comma",
                               "Write numbers without separators and with a decimal point");
        static const std::string operators = "+-*/^()<>=&|?!";
        if (operators.find(rest[0]) == std::string::npos) {
            if (values_.count(rest))
                throw Error::input(place, "\"" + text + "\" lacks an operator",
                                   "Write \"" + text.substr(0, text.size() - rest.size()) + "*" + rest +
                                       "\"");
            return with_unit(number->first, rest, place);
        }
    }
    return expression(text, place);
}

Dimension Quantities::dimension_of(const Value& value, const std::string& text, const Place& place) const {
    std::array<int, 5> powers{};
    for (std::size_t i = 0; i < probe.size(); ++i) {
        const double ratio = value.in[0] / value.in[i + 1];
        const double power = std::log(ratio) / std::log(probe[i]);
        powers[i] = static_cast<int>(std::lround(power));
        if (!std::isfinite(power) || std::abs(power - powers[i]) > 1e-6)
            throw Error::input(place, "\"" + text + "\" mixes quantities of different dimensions",
                               "Add only like to like; a bare number in a sum has no unit");
    }
    return {powers[0], powers[1], powers[2], powers[3], powers[4]};
}

double Quantities::number(const std::string& text, const Dimension& expected, const Place& place) const {
    const Value value = evaluate(text, place);
    if (value.bare) return value.in[0];
    if (value.in[0] == 0.0 &&
        std::all_of(value.in.begin(), value.in.end(), [](double v) { return v == 0.0; })) {
        // Zero scales like anything; only a literal such as "0 mm" still has a dimension to check.
        const auto number = leading_number(trimmed(text));
        if (!number || number->second.empty() || values_.count(number->second)) return 0.0;
        if (std::string("+-*/^()").find(number->second[0]) != std::string::npos) return 0.0;
        const Dimension found = parse_unit(number->second, place).dimension;
        if (found == expected) return 0.0;
        throw Error::input(place, "\"" + text + "\" is " + describe(found, units_) + " where " +
                                      describe(expected, units_) + " is expected");
    }
    const Dimension found = dimension_of(value, text, place);
    if (found == expected) return value.in[0];
    std::string instead;
    const std::string unit = units_.text(expected);
    if (expected == dimension::force && found == dimension::mass)
        instead = "Write a force, for instance in N or lbf (a lb is a mass)";
    else if (!unit.empty())
        instead = "Write it in " + unit + " or another unit of " +
                  describe(expected, units_)
                      .substr(expected == dimension::area || expected == dimension::acceleration ||
                                      expected == dimension::angle
                                  ? 3
                                  : 2);
    else
        instead = "Write it without a unit";
    throw Error::input(place,
                       "\"" + text + "\" is " + describe(found, units_) + " where " +
                           describe(expected, units_) + " is expected",
                       instead);
}

} // namespace upright
