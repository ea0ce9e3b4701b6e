#include "study/reader.hpp"

#include "base/nearest.hpp"
#include "base/sensible.hpp"
#include "study/study.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <utility>

namespace upright {

Error not_served(const Place& place, const std::string& what, const std::string& instead) {
    return Error::input(place, what + " is a word of the study language that this version does not serve yet",
                        instead);
}

CardReader::CardReader(const Node& table, const Context& context, std::string title)
    : table_(table), context_(context), title_(std::move(title)) {
    if (table.table() == nullptr)
        throw Error::input(table.place, title_ + " must be a table and is " + table.kind());
}

const Place& CardReader::place_of(const std::string& key) const {
    const Node* node = find(key);
    return node == nullptr ? place() : node->place;
}

std::string CardReader::text(const Node& node) const {
    if (node.text() == nullptr)
        throw Error::input(node.place, "a text is expected here and this is " + node.kind(),
                           "Write it in quotation marks");
    return *node.text();
}

bool CardReader::flag(const Node& node) const {
    if (node.flag() == nullptr)
        throw Error::input(node.place, "true or false is expected here and this is " + node.kind(),
                           "Write true or false");
    return *node.flag();
}

namespace {

double in_range(double number, const Place& place) {
    const double size = std::abs(number);
    if (size == 0.0 || (size <= largest_number && size >= 1.0 / largest_number)) return number;
    throw Error::input(place, fmt::format("{:g} is beyond what any part has", number),
                       fmt::format("Numbers run from {:g} to {:g}, in the units of the study",
                                   1.0 / largest_number, largest_number));
}

} // namespace

double CardReader::number(const Node& node, const Dimension& d) const {
    if (node.number() != nullptr) return in_range(*node.number(), node.place);
    if (node.text() != nullptr) return in_range(quantities().number(*node.text(), d, node.place), node.place);
    throw Error::input(node.place,
                       describe(d, quantities().units()) + " is expected here and this is " + node.kind(),
                       "Write a number, with its unit in quotation marks where it is not in base units");
}

Vec3 CardReader::vector(const Node& node, const Dimension& d, std::size_t count) const {
    const Node::List* list = node.list();
    if (list == nullptr || list->size() != count)
        throw Error::input(node.place,
                           std::string(count == 2 ? "two" : "three") +
                               " numbers are expected here and this is " +
                               (list == nullptr ? node.kind() : "a list of " + std::to_string(list->size())),
                           count == 2 ? "In a plane model write [x, y]" : "Write [x, y, z]");
    Vec3 out = Vec3::Zero();
    for (std::size_t i = 0; i < count; ++i) out[static_cast<Eigen::Index>(i)] = number((*list)[i], d);
    return out;
}

Vec3 CardReader::direction(const Node& node) const {
    const Vec3 out = vector(node, dimension::none);
    if (out.norm() < 1e-12) throw Error::input(node.place, "a direction must not be zero");
    return out.normalized();
}

std::vector<Vec2> CardReader::corners(const Node& node) const {
    const Node::List* list = node.list();
    if (list == nullptr || list->size() < 3)
        throw Error::input(node.place, "a polygon needs at least three corners",
                           "Write [[x, y], [x, y], [x, y]]");
    std::vector<Vec2> out;
    for (const Node& corner : *list) {
        const Node::List* pair = corner.list();
        if (pair == nullptr || pair->size() != 2)
            throw Error::input(corner.place, "a corner of a polygon has two numbers", "Write [x, y]");
        out.emplace_back(number((*pair)[0], dimension::length), number((*pair)[1], dimension::length));
    }
    return out;
}

std::vector<std::string> CardReader::names(const Node& node) const {
    if (node.text() != nullptr) return {*node.text()};
    const Node::List* list = node.list();
    if (list == nullptr || list->empty())
        throw Error::input(node.place, "a name or a list of names is expected here and this is " +
                                           (list ? "an empty list" : node.kind()));
    std::vector<std::string> out;
    for (const Node& item : *list) out.push_back(text(item));
    return out;
}

std::string CardReader::choice(const Node& node, const std::vector<std::string>& words,
                               const std::vector<std::string>& later) const {
    std::string word = text(node);
    if (std::find(words.begin(), words.end(), word) != words.end()) return word;
    std::string list;
    for (const std::string& w : words) list += (list.empty() ? "\"" : ", \"") + w + "\"";
    if (std::find(later.begin(), later.end(), word) != later.end())
        throw not_served(node.place, "\"" + word + "\"", "Served here: " + list);
    std::vector<std::string> all = words;
    all.insert(all.end(), later.begin(), later.end());
    throw Error::input(node.place, "\"" + word + "\" is not known here",
                       nearest(word, all) ? suggestion(word, all) : "Write one of " + list);
}

std::filesystem::path CardReader::path(const Node& node, bool folder) const {
    const std::filesystem::path given(text(node));
    const std::filesystem::path beside = std::filesystem::path(node.place.file).parent_path();
    const std::filesystem::path path =
        given.is_absolute() ? given : (beside.empty() ? context_.folder : beside) / given;
    std::error_code ignored;
    const bool there = folder ? std::filesystem::is_directory(path, ignored)
                              : std::filesystem::is_regular_file(path, ignored);
    if (context_.need_files && !there)
        throw Error::input(node.place, (folder ? "there is no run " : "there is no file ") + path.string(),
                           "Names of files are relative to the study's folder");
    return path;
}

CardReader CardReader::inner(const Node& node, const std::string& key) const {
    return {node, context_, key + " in " + title_};
}

const Node::List& cards_of(const Node& document, const std::string& kind) {
    static const Node::List no_cards;
    const Node* node = document.find(kind);
    if (node == nullptr) return no_cards;
    const Node::List* list = node->list();
    const bool tables = list != nullptr && std::all_of(list->begin(), list->end(),
                                                       [](const Node& n) { return n.table() != nullptr; });
    if (!tables)
        throw Error::input(node->place, "\"" + kind + "\" is a card", "Write it as [[" + kind + "]]");
    return *list;
}

bool in_use(const CardReader& reader) {
    const Node* node = reader.find("active");
    return node == nullptr || reader.flag(*node);
}

void note_resting(Study& study, const std::string& kind, const std::string& name) {
    study.inactive.push_back(kind + " " + name);
}

} // namespace upright
