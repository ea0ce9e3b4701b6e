// What a value of the study language may look like, as data: from it values are read, keys explained and the
// JSON Schema made.
#pragma once

#include "quantity/dimension.hpp"

#include <limits>
#include <string>
#include <vector>

namespace upright {

struct TableFacts;

// The numbers that are allowed. An end that is open is not allowed itself.
struct NumberRange {
    double least = -std::numeric_limits<double>::infinity();
    double most = std::numeric_limits<double>::infinity();
    bool least_open = false;
    bool most_open = false;

    bool holds(double value) const;
    bool limits() const;
};

struct ValueForm {
    enum class Kind {
        Text,
        Flag,
        Whole,      // a whole number
        Quantity,   // a number, or a text with a unit or arithmetic
        Word,       // one of a few
        Name,       // of a card
        Names,      // of cards: one, or a list
        Place,      // lengths: two in a plane model or flat shell, else three
        Components, // of a force or the like: two in a plane model, else three
        Three,      // always three
        Direction,  // as a place, without unit, not zero
        Corners,    // of a polygon: pairs of lengths
        Path,       // of a file or folder, relative to the study
        List,       // of what `items` tells
        Map,        // a table of names, each with what `items` tells
        Table,      // of keys
    };
    Kind kind = Kind::Text;
    Dimension dimension{};
    NumberRange range{};
    std::vector<std::string> words;         // of a Word
    std::vector<std::string> later;         // words of the language that are not served yet
    std::string of;                         // what names refer to; what a text holds
    std::vector<ValueForm> items;           // what an item of a list may be: any of these
    std::size_t count = 0;                  // items of a list: as many; 0: one at least
    const TableFacts* (*table)() = nullptr; // the keys of a table

    ValueForm above(double low) const;
    ValueForm at_least(double low) const;
    ValueForm between(double low, double high) const;
    ValueForm inside(double low, double high) const; // without the ends
};

// "a length above zero", "one of \"a\", \"b\"", … for people.
std::string describe(const ValueForm& form);
// Of a key that takes several forms: "a stress above zero, or three of them".
std::string describe(const std::vector<ValueForm>& forms);

// The forms by short names, for tables of keys.
namespace value {
ValueForm text(const std::string& of = {});
ValueForm flag();
ValueForm whole(double least, double most = 1e9);
ValueForm quantity(const Dimension& d);
ValueForm word(std::vector<std::string> words, std::vector<std::string> later = {});
ValueForm name(const std::string& of);
ValueForm names(const std::string& of);
ValueForm place();
ValueForm components(const Dimension& d);
ValueForm three(const Dimension& d);
ValueForm direction();
ValueForm corners();
ValueForm path(const std::string& of);
ValueForm list(ValueForm item, std::size_t count = 0);
ValueForm list_of(std::vector<ValueForm> items); // each any of these
ValueForm map(const std::string& of, std::vector<ValueForm> items);
ValueForm table(const TableFacts* (*facts)());
} // namespace value

} // namespace upright
