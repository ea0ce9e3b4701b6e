// The same study in other units: centimetres, kilonewtons and milliseconds for millimetres, newtons and
// seconds. Every number stays what it was, with its unit written beside it.
#pragma once

#include <cctype>
#include <sstream>
#include <string>

namespace upright::test {

inline std::string replaced(std::string text, const std::string& what, const std::string& by) {
    for (std::size_t at = text.find(what); at != std::string::npos; at = text.find(what, at + by.size()))
        text.replace(at, what.size(), by);
    return text;
}

// Every number of a list as a quantity: "[0, 1.5]" as "["0 mm", "1.5 mm"]".
inline std::string with_unit(const std::string& list, const std::string& unit) {
    std::string out;
    std::string number;
    for (const char c : list + " ") {
        if (std::isdigit(static_cast<unsigned char>(c)) != 0 || c == '.' || c == '-') {
            number += c;
            continue;
        }
        if (!number.empty()) out += "\"" + number + " " + unit + "\"";
        number.clear();
        out += c;
    }
    return out;
}

// Of the studies of support/bodies.hpp: newtons, millimetres, steel.
inline std::string in_other_units(std::string text) {
    text = replaced(text, "units = [\"mm\", \"N\", \"s\"]", "units = [\"cm\", \"kN\", \"ms\"]");
    text = replaced(text, "E = 210000", "E = \"210000 MPa\"");
    text = replaced(text, "density = 7.85e-9", "density = \"7.85 g/cm3\"");
    std::string out;
    std::istringstream lines(text);
    for (std::string line; std::getline(lines, line);) {
        const std::string key = line.substr(0, line.find(' '));
        const std::string value = line.find('=') == std::string::npos ? "" : line.substr(line.find('=') + 1);
        if (key == "box" || key == "origin" || key == "size" || key == "thickness" || key == "cylinder" ||
            key == "on_cylinder" || key == "filter")
            line = key + " =" + with_unit(value, "mm");
        else if (key == "force")
            line = key + " =" + with_unit(value, "N");
        out += line + "\n";
    }
    return out;
}

} // namespace upright::test
