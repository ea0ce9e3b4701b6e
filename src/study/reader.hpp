// Reads the values of one table of the study.
#pragma once

#include "base/vectors.hpp"
#include "quantity/quantities.hpp"
#include "study/document.hpp"

#include <filesystem>
#include <optional>
#include <string>
#include <vector>

namespace upright {

struct Study;

// What every reader of a card needs.
struct Context {
    const Quantities& quantities;
    const Study& study;           // as far as it was read
    bool flat = false;            // places have two numbers
    bool shell = false;           // forces have three all the same
    std::filesystem::path folder; // of the study: file names are relative to it
    bool need_files = true;       // a file that a card names must be there

    bool plane() const { return flat && !shell; }
};

// A word of the language that this version does not serve yet is refused in these words.
Error not_served(const Place& place, const std::string& what, const std::string& instead = {});

class CardReader {
  public:
    // `title` names the card in messages, such as "[[region]]".
    CardReader(const Node& table, const Context& context, std::string title);

    // The node of a key, or nullptr.
    const Node* find(const std::string& key) const { return table_.find(key); }
    bool has(const std::string& key) const { return find(key) != nullptr; }
    // Where a key's value stands; of the card where there is no such key.
    const Place& place_of(const std::string& key) const;

    std::string text(const Node& node) const;
    bool flag(const Node& node) const;
    double number(const Node& node, const Dimension& d) const;
    // As many numbers.
    Vec3 vector(const Node& node, const Dimension& d, std::size_t count) const;
    // A place: three numbers, two in a plane model or flat shell (z is then zero).
    Vec3 vector(const Node& node, const Dimension& d) const { return vector(node, d, flat() ? 2 : 3); }
    // A direction of length one.
    Vec3 direction(const Node& node) const;
    std::vector<Vec2> corners(const Node& node) const;
    // One name or a list of names.
    std::vector<std::string> names(const Node& node) const;
    // One of a few words; `later` are words of the language that are not served yet.
    std::string choice(const Node& node, const std::vector<std::string>& words,
                       const std::vector<std::string>& later = {}) const;
    // A file (or a folder) beside the study; an error when it is not there.
    std::filesystem::path path(const Node& node, bool folder = false) const;

    // For a table inside the card.
    CardReader inner(const Node& node, const std::string& key) const;

    const Node& table() const { return table_; }
    const Place& place() const { return table_.place; }
    const Context& context() const { return context_; }
    const Quantities& quantities() const { return context_.quantities; }
    const std::string& title() const { return title_; }
    bool flat() const { return context_.flat; }

  private:
    const Node& table_;
    const Context& context_;
    std::string title_;
};

// The cards of a kind; an error when the word was used for something else.
const Node::List& cards_of(const Node& document, const std::string& kind);

// Whether the card is in use (`active`).
bool in_use(const CardReader& reader);
// "region core" among what is at hand but was left out.
void note_resting(Study& study, const std::string& kind, const std::string& name);

} // namespace upright
