// The study file as a tree of nodes that know their place: TOML in, `extends` and `--set` applied, TOML out.
// Nothing here knows what a card means.
#pragma once

#include "base/error.hpp"

#include <filesystem>
#include <string>
#include <variant>
#include <vector>

namespace upright {

struct Entry;

// One value of the file. Tables keep the order in which the file was written.
struct Node {
    using List = std::vector<Node>;
    using Table = std::vector<Entry>;
    std::variant<std::string, double, bool, List, Table> value;
    Place place;

    const std::string* text() const { return std::get_if<std::string>(&value); }
    const double* number() const { return std::get_if<double>(&value); }
    const bool* flag() const { return std::get_if<bool>(&value); }
    const List* list() const { return std::get_if<List>(&value); }
    const Table* table() const { return std::get_if<Table>(&value); }
    Table* table() { return std::get_if<Table>(&value); }

    // The entry of a table, or nullptr when this is no table or has no such key.
    const Node* find(const std::string& key) const;
    Node* find(const std::string& key);
    // "a text", "a number", … for messages.
    std::string kind() const;
};

struct Entry {
    std::string key;
    Place place; // of the key
    Node node;
};

// Parses TOML. Throws Error (Input) with line, column and a hint for the usual slips.
Node parse_document(const std::string& text, const std::string& file);

// Reads a study and every study that it extends, the later replacing cards of the same name.
Node load_document(const std::filesystem::path& file);

// The name that a card bears, or nullptr.
const std::string* card_name(const Node& card);
// Whether it is a list of cards.
bool is_cards(const Node& node);
// A study has one goal: a new sense takes the place of the old one.
void keep_one_sense(Node::Table& goal, const std::string& sense);
// The value that takes a key of the base study away.
inline constexpr const char* unset_word = "unset";

// A text of TOML in its quotation marks, with what has to be escaped.
std::string quoted_text(const std::string& text);

// Writes the tree as TOML again (without comments).
std::string write_document(const Node& document);

} // namespace upright
