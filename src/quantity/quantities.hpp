// Values with units and arithmetic over the named values of a study.
#pragma once

#include "base/error.hpp"
#include "quantity/dimension.hpp"

#include <array>
#include <map>
#include <string>
#include <variant>
#include <vector>

namespace upright {

// One entry of [values]: a bare number, or a text with a unit or an expression.
struct NamedValue {
    std::string name;
    std::variant<double, std::string> value;
    Place place;
};

// Evaluates texts such as "1.8 kN", "-0.5*lift" and "25 %" to numbers in the study's base units.
//
// Dimensions of expressions are checked by evaluating them in several unit systems: a length scales with the
// unit of length and with nothing else. A sum of a length and a force scales with neither, and is refused.
class Quantities {
  public:
    explicit Quantities(UnitSystem units = {}, const std::vector<NamedValue>& values = {});

    const UnitSystem& units() const { return units_; }

    // `text` in base units (angles in degrees). Throws Error (Input) at `place` when it is not of dimension
    // `expected`.
    double number(const std::string& text, const Dimension& expected, const Place& place) const;

    // The names in [values], for messages.
    std::vector<std::string> names() const;

  private:
    static constexpr std::size_t systems = 6; // the study's own, then one for each base quantity
    // The number in each unit system; `bare` when no unit took part.
    struct Value {
        std::array<double, systems> in{};
        bool bare = true;
    };

    Value evaluate(const std::string& text, const Place& place) const;
    Value with_unit(double number, const std::string& unit, const Place& place) const;
    Value expression(const std::string& text, const Place& place) const;
    Dimension dimension_of(const Value& value, const std::string& text, const Place& place) const;

    UnitSystem units_;
    std::map<std::string, Value> values_;
};

} // namespace upright
