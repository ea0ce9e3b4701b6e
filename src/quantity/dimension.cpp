#include "quantity/dimension.hpp"

#include "base/angles.hpp"

#include <array>
#include <cmath>
#include <fmt/format.h>

namespace upright {

namespace {

constexpr double degree_in_rad = pi / 180.0;

struct NamedDimension {
    Dimension dimension;
    const char* name;
};

constexpr std::array<NamedDimension, 17> named{{
    {dimension::none, "a plain number"},
    {dimension::length, "a length"},
    {dimension::area, "an area"},
    {dimension::volume, "a volume"},
    {dimension::force, "a force"},
    {dimension::moment, "a moment or an energy"},
    {dimension::stress, "a stress"},
    {dimension::mass, "a mass"},
    {dimension::density, "a density"},
    {dimension::time, "a time"},
    {dimension::frequency, "a frequency"},
    {dimension::velocity, "a velocity"},
    {dimension::acceleration, "an acceleration"},
    {dimension::temperature, "a temperature difference"},
    {dimension::expansion, "a thermal expansion"},
    {dimension::stiffness, "a stiffness"},
    {dimension::angle, "an angle"},
}};

void append_power(std::string& top, std::string& bottom, const std::string& unit, int power) {
    if (power == 0) return;
    std::string& side = power > 0 ? top : bottom;
    const int size = std::abs(power);
    side += (side.empty() ? "" : "·") + unit + (size > 1 ? std::to_string(size) : "");
}

} // namespace

double UnitSystem::si(const Dimension& d) const {
    return std::pow(length_si, d.length) * std::pow(force_si, d.force) * std::pow(time_si, d.time) *
           std::pow(degree_in_rad, d.angle);
}

std::string UnitSystem::text(const Dimension& d) const {
    if (d == dimension::none) return "";
    if (force == "N" && time == "s" && (length == "mm" || length == "m")) {
        const bool millimetres = length == "mm";
        if (d == dimension::stress) return millimetres ? "MPa" : "Pa";
        if (d == dimension::mass) return millimetres ? "t" : "kg";
        if (d == dimension::density) return millimetres ? "t/mm3" : "kg/m3";
        if (d == dimension::frequency) return "Hz";
    }
    std::string top;
    std::string bottom;
    append_power(top, bottom, force, d.force);
    append_power(top, bottom, length, d.length);
    append_power(top, bottom, time, d.time);
    append_power(top, bottom, "K", d.temperature);
    append_power(top, bottom, "deg", d.angle);
    if (bottom.empty()) return top;
    return (top.empty() ? "1" : top) + "/" +
           (bottom.find("·") == std::string::npos ? bottom : "(" + bottom + ")");
}

std::string UnitSystem::mass_text(double value, int digits) const {
    const std::string unit = text(dimension::mass);
    const std::string own = fmt::format("{:.{}g} {}", value, digits, unit);
    const double kilograms = value * si(dimension::mass);
    constexpr double pound = 0.45359237;
    if (length == "in" || length == "ft") return own + fmt::format(" ({:.4g} lb)", kilograms / pound);
    return unit == "kg" ? own : own + fmt::format(" ({:.4g} kg)", kilograms);
}

std::string describe(const Dimension& d, const UnitSystem& units) {
    for (const NamedDimension& entry : named)
        if (entry.dimension == d) return entry.name;
    return "a quantity in " + units.text(d);
}

} // namespace upright
