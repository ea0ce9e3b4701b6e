#include "quantity/units.hpp"

#include <array>
#include <cctype>
#include <cmath>
#include <map>
#include <memory>
#include <sstream>
#include <udunits2.h>
#include <vector>

namespace upright {

namespace {

struct UnitFree {
    void operator()(ut_unit* unit) const { ut_free(unit); }
};
using UnitHandle = std::unique_ptr<ut_unit, UnitFree>;

struct SystemFree {
    void operator()(ut_system* system) const { ut_free_system(system); }
};

// The unit database is read once, when the first unit is met: reading it takes some milliseconds.
ut_system* unit_database() {
    static const std::unique_ptr<ut_system, SystemFree> database = [] {
        ut_set_error_message_handler(ut_ignore);
        std::unique_ptr<ut_system, SystemFree> loaded(ut_read_xml(nullptr));
        if (!loaded)
            throw Error::files("udunits2.xml", "the unit database cannot be read",
                               "Install the package libudunits2-data");
        return loaded;
    }();
    return database.get();
}

// Words that the database would read as something else than an analyst means, with what to write.
const std::map<std::string, std::string>& refused_words() {
    static const std::map<std::string, std::string> words{
        {"oz", "\"oz\" may be a mass, a force or a volume. Write the mass in g or lb, the force in lbf or N"},
        {"g0", "write gravity as \"9.80665 m/s2\""},
        {"C", "\"C\" is the coulomb. For a temperature difference write K"},
        {"F", "\"F\" is the farad. For a temperature difference write K"},
        {"T", "\"T\" is the tesla. For the tonne write t"},
        {"G", "\"G\" is the gauss. For gravity write \"9.80665 m/s2\""},
        {"ton", "\"ton\" may be metric, short or long. Write t for 1000 kg, or the mass in lb"},
        {"tons", "\"tons\" may be metric, short or long. Write t for 1000 kg, or the mass in lb"},
        {"a", "\"a\" may be a year or an area. Write s or m2"},
        {"degC", "a temperature in degC has an offset. Write the difference in K"},
        {"degF", "a temperature in degF has an offset. Write the difference in K"},
        {"celsius", "a temperature in celsius has an offset. Write the difference in K"},
        {"fahrenheit", "a temperature in fahrenheit has an offset. Write the difference in K"},
        {"kilo", "\"kilo\" is a prefix. Write kg"},
    };
    return words;
}

// Words that analysts use and the database lacks.
const std::map<std::string, std::string>& added_words() {
    static const std::map<std::string, std::string> words{
        {"deg", "(arc_degree)"},     {"lbm", "(pound)"},     {"lbs", "(pound)"},      {"Nm", "(N.m)"},
        {"Nmm", "(N.mm)"},           {"kNm", "(kN.m)"},      {"thou", "(1e-3 inch)"}, {"Msi", "(1e6 psi)"},
        {"ksi", "(1e3 psi)"},        {"kip", "(1e3 lbf)"},   {"kips", "(1e3 lbf)"},   {"mil", "(1e-3 inch)"},
        {"lbin", "(lbf.inch)"},      {"micron", "(1e-6 m)"}, {"kgf", "(9.80665 N)"},  {"daN", "(10 N)"},
        {"slinch", "(lbf.s2/inch)"},
    };
    return words;
}

// Replaces the added words and throws on refused ones.
std::string guarded(const std::string& text, const Place& place) {
    if (text.find_first_of("\"'") != std::string::npos || text.find("′") != std::string::npos ||
        text.find("″") != std::string::npos)
        throw Error::input(place, "quote marks are angles (minutes and seconds) as units", "Write in or ft");
    std::string out;
    std::string word;
    const auto flush = [&] {
        if (word.empty()) return;
        std::size_t letters = word.size();
        while (letters > 0 && std::isdigit(static_cast<unsigned char>(word[letters - 1]))) --letters;
        const std::string stem = word.substr(0, letters);
        for (const std::string& key : {word, stem}) {
            const auto bad = refused_words().find(key);
            if (bad != refused_words().end())
                throw Error::input(place, "the unit \"" + text + "\" is ambiguous", bad->second);
        }
        const auto added = added_words().find(stem);
        out += added == added_words().end() ? word : added->second + word.substr(letters);
        word.clear();
    };
    for (std::size_t i = 0; i < text.size(); ++i) {
        const char c = text[i];
        const auto u = static_cast<unsigned char>(c);
        // "3 5 mm" is no fifteen: numbers are powers, or the one over which a unit stands.
        if (word.empty() && std::isdigit(u) &&
            (out.empty() || out.find_last_of("^-0123456789") != out.size() - 1)) {
            const std::size_t next = text.find_first_not_of(' ', i + 1);
            if (!out.empty() || c != '1' || next == std::string::npos || text[next] != '/')
                throw Error::input(place, "\"" + text + "\" holds a number where a unit is expected",
                                   "Write one number and its unit: 3.5 mm");
        }
        const bool part = std::isalpha(u) || c == '_' || (!word.empty() && std::isdigit(u));
        if (part) {
            word += c;
        } else {
            flush();
            out += c;
        }
    }
    flush();
    return out;
}

// The exponents of m, kg, s, K and rad in a definition such as "1000 m.kg.s-2".
Dimension read_definition(const std::string& definition, const std::string& unit, const Place& place) {
    int metre = 0;
    int kilogram = 0;
    int second = 0;
    Dimension out;
    std::string spaced = definition;
    for (char& c : spaced)
        if (c == '.') c = ' ';
    std::istringstream stream(spaced);
    std::string token;
    while (stream >> token) {
        if (!std::isalpha(static_cast<unsigned char>(token[0]))) continue; // the number in front
        std::size_t end = 0;
        while (end < token.size() && std::isalpha(static_cast<unsigned char>(token[end]))) ++end;
        const std::string base = token.substr(0, end);
        const int power =
            end == token.size() ? 1 : std::stoi(token.substr(token[end] == '^' ? end + 1 : end));
        if (base == "m")
            metre += power;
        else if (base == "kg")
            kilogram += power;
        else if (base == "s")
            second += power;
        else if (base == "K")
            out.temperature += power;
        else if (base == "rad")
            out.angle += power;
        else
            throw Error::input(place,
                               "the unit \"" + unit + "\" is not one of mechanics (it holds " + base + ")");
    }
    // kg = N s2 / m
    out.force = kilogram;
    out.length = metre - kilogram;
    out.time = second + 2 * kilogram;
    return out;
}

} // namespace

Unit parse_unit(const std::string& text, const Place& place) {
    ut_system* database = unit_database();
    const std::string safe = guarded(text, place);
    const UnitHandle unit(ut_parse(database, safe.c_str(), UT_UTF8));
    if (!unit) {
        throw Error::input(place, "\"" + text + "\" is not a unit",
                           "Units look like mm, kN, MPa, g/cm3, N/mm2, m/s2, deg");
    }
    // The definition may hold the size with too few digits, so only its exponents are read from there.
    std::array<char, 256> buffer{};
    const int length = ut_format(unit.get(), buffer.data(), buffer.size(), UT_ASCII | UT_DEFINITION);
    if (length < 0 || static_cast<std::size_t>(length) >= buffer.size())
        throw Error::input(place, "the unit \"" + text + "\" cannot be understood");
    std::string definition(buffer.data(), static_cast<std::size_t>(length));
    // "s-1" and the like come bare; a unit with an offset comes as "K @ 273.15".
    if (definition.find('@') != std::string::npos || definition.find("from") != std::string::npos)
        throw Error::input(place, "the unit \"" + text + "\" has an offset",
                           "Write a temperature difference in K");
    Unit out;
    out.dimension = read_definition(definition, text, place);
    const Dimension& d = out.dimension;
    std::string base = "1";
    const auto times = [&](const char* name, int power) {
        if (power != 0) base += std::string(".") + name + "^" + std::to_string(power);
    };
    times("m", d.length + d.force);
    times("kg", d.force);
    times("s", d.time - 2 * d.force);
    times("K", d.temperature);
    times("rad", d.angle);
    const UnitHandle reference(ut_parse(database, base.c_str(), UT_UTF8));
    cv_converter* converter = reference ? ut_get_converter(unit.get(), reference.get()) : nullptr;
    if (converter == nullptr) throw Error::input(place, "the unit \"" + text + "\" cannot be converted");
    out.si = cv_convert_double(converter, 1.0);
    const double offset = cv_convert_double(converter, 0.0);
    cv_free(converter);
    if (offset != 0.0)
        throw Error::input(place, "the unit \"" + text + "\" has an offset",
                           "Write a temperature difference in K");
    return out;
}

UnitSystem make_unit_system(const std::string& length, const std::string& force, const std::string& time,
                            const Place& place) {
    const auto expect = [&](const std::string& name, const Dimension& d, const std::string& kind,
                            const char* examples) {
        const Unit unit = parse_unit(name, place);
        if (unit.dimension != d)
            throw Error::input(place, "units: \"" + name + "\" is not " + kind,
                               std::string("Write units = [length, force, time], for instance ") + examples);
        return unit.si;
    };
    const char* examples = R"(["mm", "N", "s"])";
    UnitSystem out;
    out.length = length;
    out.force = force;
    out.time = time;
    out.length_si = expect(length, dimension::length, "a length", examples);
    out.force_si = expect(force, dimension::force, "a force", examples);
    out.time_si = expect(time, dimension::time, "a time", examples);
    return out;
}

} // namespace upright
