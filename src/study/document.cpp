#include "study/document.hpp"

#include "base/files.hpp"
#include "base/nearest.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <optional>
#include <regex>
#include <toml++/toml.h>

namespace upright {

namespace fs = std::filesystem;

const Node* Node::find(const std::string& key) const {
    const Table* entries = table();
    if (entries == nullptr) return nullptr;
    for (const Entry& entry : *entries)
        if (entry.key == key) return &entry.node;
    return nullptr;
}

Node* Node::find(const std::string& key) {
    return const_cast<Node*>(std::as_const(*this).find(key));
}

std::string Node::kind() const {
    static const std::array<const char*, 5> kinds{"a text", "a number", "true or false", "a list", "a table"};
    return kinds[value.index()];
}

namespace {

Place place_of(const toml::source_region& region, const std::string& file) {
    return {file, static_cast<int>(region.begin.line), static_cast<int>(region.begin.column)};
}

Node convert(const toml::node& node, const std::string& file);

Node::Table convert_table(const toml::table& table, const std::string& file) {
    Node::Table out;
    for (const auto& [key, node] : table)
        out.push_back({std::string(key.str()), place_of(key.source(), file), convert(node, file)});
    // The parser sorts keys by name; the order of writing is what messages and regions need.
    std::stable_sort(out.begin(), out.end(), [](const Entry& a, const Entry& b) {
        return std::pair(a.place.line, a.place.column) < std::pair(b.place.line, b.place.column);
    });
    return out;
}

Node convert(const toml::node& node, const std::string& file) {
    Node out;
    out.place = place_of(node.source(), file);
    if (const auto* text = node.as_string())
        out.value = text->get();
    else if (const auto* whole = node.as_integer())
        out.value = static_cast<double>(whole->get());
    else if (const auto* number = node.as_floating_point()) {
        if (!std::isfinite(number->get())) throw Error::input(out.place, "a number must be finite");
        out.value = number->get();
    } else if (const auto* flag = node.as_boolean())
        out.value = flag->get();
    else if (const auto* array = node.as_array()) {
        Node::List list;
        for (const toml::node& item : *array) list.push_back(convert(item, file));
        out.value = std::move(list);
    } else if (const auto* table = node.as_table())
        out.value = convert_table(*table, file);
    else
        throw Error::input(out.place, "a date or time has no meaning in a study", "Write a number or a text");
    return out;
}

std::string line_of(const std::string& text, int line) {
    std::size_t start = 0;
    for (int i = 1; i < line; ++i) {
        start = text.find('\n', start);
        if (start == std::string::npos) return {};
        ++start;
    }
    return text.substr(start, text.find('\n', start) - start);
}

// What to write instead, for the slips that people make in TOML.
std::string hint_for(const std::string& line) {
    static const std::regex bare_unit(R"((=|\[|,)\s*([-+]?[0-9][0-9.eE+-]*)\s*([A-Za-z%][A-Za-z0-9/^%.]*))");
    static const std::regex bare_flag(R"(=\s*(yes|no|on|off|True|False|TRUE|FALSE)\b)");
    static const std::regex bare_word(R"(=\s*([A-Za-z][A-Za-z0-9_ -]*)\s*(#.*)?$)");
    std::smatch match;
    if (std::regex_search(line, match, bare_flag)) return "Write true or false";
    const auto quotes = std::count(line.begin(), line.end(), '"');
    if (quotes % 2 != 0) return "Close the text with a quotation mark";
    if (quotes == 0 && std::regex_search(line, match, bare_unit))
        return "Put a value with a unit in quotation marks: \"" + match[2].str() + " " + match[3].str() +
               "\"";
    if (quotes == 0 && std::regex_search(line, match, bare_word))
        return "Put a text in quotation marks: \"" + match[1].str() + "\"";
    return {};
}

// A parser's message as one sentence without a full stop.
std::string tidy_message(std::string text) {
    while (!text.empty() && (text.back() == '.' || text.back() == ' ')) text.pop_back();
    return text;
}

void merge_cards(Node::List& base, const Node::List& over) {
    for (const Node& card : over) {
        const std::string* name = card_name(card);
        const auto same = std::find_if(base.begin(), base.end(), [&](const Node& other) {
            const std::string* other_name = card_name(other);
            return name != nullptr && other_name != nullptr && *name == *other_name;
        });
        if (same != base.end())
            *same = card;
        else
            base.push_back(card);
    }
}

// `inside` is the key of the table that is merged; empty for the document.
void merge(Node::Table& base, const Node::Table& over, const std::string& inside = {}) {
    for (const Entry& entry : over) {
        if (inside == "goal") keep_one_sense(base, entry.key);
        if (entry.node.text() != nullptr && *entry.node.text() == unset_word) {
            base.erase(
                std::remove_if(base.begin(), base.end(), [&](const Entry& e) { return e.key == entry.key; }),
                base.end());
            continue;
        }
        const auto same =
            std::find_if(base.begin(), base.end(), [&](const Entry& e) { return e.key == entry.key; });
        if (same == base.end()) {
            base.push_back(entry);
        } else if (is_cards(same->node) && is_cards(entry.node)) {
            merge_cards(std::get<Node::List>(same->node.value), *entry.node.list());
        } else if (same->node.table() != nullptr && entry.node.table() != nullptr) {
            merge(*same->node.table(), *entry.node.table(), entry.key);
        } else {
            *same = entry;
        }
    }
}

Node load_chain(const fs::path& file, std::vector<fs::path>& chain) {
    std::error_code ignored;
    const fs::path absolute = fs::weakly_canonical(file, ignored);
    if (std::find(chain.begin(), chain.end(), absolute) != chain.end())
        throw Error::input({file.string()}, "this study extends itself");
    chain.push_back(absolute);
    Node own = parse_document(read_text(file), file.string());
    const Node* extends = own.find("extends");
    if (extends == nullptr) return own;
    const std::string* name = extends->text();
    if (name == nullptr)
        throw Error::input(extends->place, "extends needs the path of a study",
                           "Write extends = \"base.toml\"");
    const fs::path base_file = file.parent_path() / *name;
    if (!fs::exists(base_file, ignored))
        throw Error::input(extends->place, "the study \"" + *name + "\" that this one extends does not exist",
                           "Give its path relative to this file");
    if (!fs::is_regular_file(base_file, ignored))
        throw Error::input(extends->place, "what this study extends is no file: \"" + *name + "\"",
                           "Write extends = \"base.toml\"");
    Node base = load_chain(base_file, chain);
    Node::Table& entries = *own.table();
    entries.erase(
        std::remove_if(entries.begin(), entries.end(), [](const Entry& e) { return e.key == "extends"; }),
        entries.end());
    merge(*base.table(), entries);
    return base;
}

std::string key_text(const std::string& key) {
    const bool bare = !key.empty() && std::all_of(key.begin(), key.end(), [](unsigned char c) {
        return std::isalnum(c) || c == '_' || c == '-';
    });
    return bare ? key : quoted_text(key);
}

std::string number_text(double number) {
    if (number == std::floor(number) && std::abs(number) < 1e15) return fmt::format("{:.0f}", number);
    std::string out = fmt::format("{}", number);
    return out;
}

std::string inline_text(const Node& node) {
    if (node.text()) return quoted_text(*node.text());
    if (node.number()) return number_text(*node.number());
    if (node.flag()) return *node.flag() ? "true" : "false";
    std::string out;
    if (node.list()) {
        for (const Node& item : *node.list()) out += (out.empty() ? "" : ", ") + inline_text(item);
        return "[" + out + "]";
    }
    for (const Entry& entry : *node.table())
        out += (out.empty() ? "" : ", ") + key_text(entry.key) + " = " + inline_text(entry.node);
    return "{ " + out + " }";
}

void write_lines(std::string& out, const Node::Table& table) {
    for (const Entry& entry : table) out += key_text(entry.key) + " = " + inline_text(entry.node) + "\n";
}

} // namespace

std::string quoted_text(const std::string& text) {
    std::string out = "\"";
    for (const char c : text) {
        if (c == '"' || c == '\\') out += '\\';
        if (c == '\n')
            out += "\\n";
        else if (c == '\t')
            out += "\\t";
        else if (static_cast<unsigned char>(c) < 0x20)
            out += fmt::format("\\u{:04x}", static_cast<int>(c));
        else
            out += c;
    }
    return out + "\"";
}

const std::string* card_name(const Node& card) {
    const Node* name = card.find("name");
    return name == nullptr ? nullptr : name->text();
}

bool is_cards(const Node& node) {
    const Node::List* list = node.list();
    return list != nullptr && !list->empty() &&
           std::all_of(list->begin(), list->end(), [](const Node& item) { return item.table() != nullptr; });
}

// A study has one goal: a new sense takes the place of the old one.
void keep_one_sense(Node::Table& goal, const std::string& sense) {
    if (sense != "minimize" && sense != "maximize") return;
    const std::string other = sense == "minimize" ? "maximize" : "minimize";
    goal.erase(
        std::remove_if(goal.begin(), goal.end(), [&](const Entry& entry) { return entry.key == other; }),
        goal.end());
}

Node parse_document(const std::string& text, const std::string& file) {
    try {
        const toml::table table = toml::parse(text, file);
        Node out;
        out.place = {file, 1, 1};
        out.value = convert_table(table, file);
        return out;
    } catch (const toml::parse_error& bad) {
        const Place place = place_of(bad.source(), file);
        std::string message = tidy_message(std::string(bad.description()));
        throw Error::input(place, "this is not valid TOML: " + message, hint_for(line_of(text, place.line)));
    }
}

Node load_document(const fs::path& file) {
    std::vector<fs::path> chain;
    return load_chain(file, chain);
}

std::string write_document(const Node& document) {
    std::string out;
    for (const Entry& entry : *document.table())
        if (entry.node.table() == nullptr && !is_cards(entry.node))
            out += key_text(entry.key) + " = " + inline_text(entry.node) + "\n";
    for (const Entry& entry : *document.table()) {
        if (const Node::Table* table = entry.node.table()) {
            out += "\n[" + key_text(entry.key) + "]\n";
            write_lines(out, *table);
        } else if (is_cards(entry.node)) {
            for (const Node& card : *entry.node.list()) {
                out += "\n[[" + key_text(entry.key) + "]]\n";
                write_lines(out, *card.table());
            }
        }
    }
    return out;
}

} // namespace upright
