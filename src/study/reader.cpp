#include "study/reader.hpp"

#include "base/nearest.hpp"

#include <algorithm>
#include <cmath>
#include <utility>

namespace upright {

Error not_served(const Place& place, const std::string& what, const std::string& instead) {
    return Error::input(place, what + " is a word of the study language that this version does not serve yet",
                        instead);
}

CardReader::CardReader(const Node& table, const Quantities& quantities, std::string title, bool plane)
    : table_(table), quantities_(quantities), title_(std::move(title)), plane_(plane) {
    if (table.table() == nullptr)
        throw Error::input(table.place, title_ + " must be a table and is " + table.kind());
}

const Node* CardReader::find(const std::string& key) {
    known_.push_back(key);
    return table_.find(key);
}

const Node& CardReader::need(const std::string& key, const std::string& example) {
    const Node* node = find(key);
    if (node == nullptr)
        throw Error::input(table_.place, title_ + " lacks \"" + key + "\"", "Write " + example);
    return *node;
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

int CardReader::whole(const Node& node, int least) const {
    const double value = number(node, dimension::none);
    if (value != std::floor(value) || value < least || value > 1e9)
        throw Error::input(node.place,
                           "a whole number of at least " + std::to_string(least) + " is expected here");
    return static_cast<int>(value);
}

double CardReader::number(const Node& node, const Dimension& d) const {
    if (node.number() != nullptr) return *node.number();
    if (node.text() != nullptr) return quantities_.number(*node.text(), d, node.place);
    throw Error::input(node.place,
                       describe(d, quantities_.units()) + " is expected here and this is " + node.kind(),
                       "Write a number, with its unit in quotation marks where it is not in base units");
}

double CardReader::positive(const Node& node, const Dimension& d) const {
    const double value = number(node, d);
    if (!(value > 0.0))
        throw Error::input(node.place, describe(d, quantities_.units()) + " above zero is expected here");
    return value;
}

Vec3 CardReader::vector(const Node& node, const Dimension& d) const {
    const std::size_t count = plane_ ? 2 : 3;
    const Node::List* list = node.list();
    if (list == nullptr || list->size() != count)
        throw Error::input(node.place,
                           std::string(plane_ ? "two" : "three") + " numbers are expected here and this is " +
                               (list == nullptr ? node.kind() : "a list of " + std::to_string(list->size())),
                           plane_ ? "In a plane model write [x, y]" : "Write [x, y, z]");
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

void CardReader::finish(const std::vector<std::string>& later) const {
    for (const Entry& entry : *table_.table()) {
        if (std::find(known_.begin(), known_.end(), entry.key) != known_.end()) continue;
        if (std::find(later.begin(), later.end(), entry.key) != later.end())
            throw not_served(entry.place, "\"" + entry.key + "\" in " + title_);
        std::vector<std::string> all = known_;
        all.insert(all.end(), later.begin(), later.end());
        throw Error::input(entry.place, title_ + " has no key \"" + entry.key + "\"",
                           suggestion(entry.key, nearest(entry.key, all) ? all : known_, 30));
    }
}

CardReader CardReader::inner(const Node& node, const std::string& key) const {
    return {node, quantities_, key + " in " + title_, plane_};
}

} // namespace upright
