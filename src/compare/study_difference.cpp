#include "compare/study_difference.hpp"

#include "study/document.hpp"

#include <algorithm>
#include <map>

namespace upright {

namespace {

// A node as TOML on one line: within lists within a list even a table is written so.
std::string inline_toml(const Node& node) {
    Node inner;
    inner.value = Node::List{node};
    Node outer;
    outer.value = Node::List{inner};
    Node table;
    table.value = Node::Table{Entry{"x", node.place, outer}};
    const std::string out = write_document(table); // x = [[…]]
    const auto from = out.find("[[");
    const auto to = out.rfind("]]");
    return from == std::string::npos || to == std::string::npos ? out : out.substr(from + 2, to - from - 2);
}

struct Flat {
    std::vector<std::string> order;
    std::map<std::string, std::string> values;
    void put(const std::string& path, const std::string& value) {
        if (values.emplace(path, value).second) order.push_back(path);
    }
};

void flatten(const Node& table, const std::string& before, Flat& out) {
    for (const Entry& entry : *table.table()) {
        if (before.empty() && is_cards(entry.node)) {
            std::string names;
            int number = 0;
            for (const Node& card : *entry.node.list()) {
                const std::string* name = card_name(card);
                const std::string path =
                    entry.key + "." + (name != nullptr ? *name : std::to_string(++number));
                flatten(card, path + ".", out);
                out.put(path, "there");
                names += (names.empty() ? "" : ", ") + path.substr(entry.key.size() + 1);
            }
            // Regions are painted in the order they are written.
            if (entry.key == "region") out.put("order of regions", names);
        } else if (before.empty() && entry.node.table() != nullptr) {
            flatten(entry.node, entry.key + ".", out);
        } else if (entry.key != "name") {
            out.put(before + entry.key, inline_toml(entry.node));
        }
    }
}

} // namespace

std::vector<StudyDifference> study_differences(const std::vector<std::string>& studies) {
    std::vector<Flat> all(studies.size());
    std::vector<std::string> order;
    for (std::size_t s = 0; s < studies.size(); ++s) {
        if (studies[s].empty()) continue;
        flatten(parse_document(studies[s], "study.toml"), "", all[s]);
        for (const std::string& path : all[s].order)
            if (std::find(order.begin(), order.end(), path) == order.end()) order.push_back(path);
    }
    std::vector<StudyDifference> out;
    for (const std::string& path : order) {
        StudyDifference one;
        one.path = path;
        bool differ = false;
        for (std::size_t s = 0; s < studies.size(); ++s) {
            const auto found = all[s].values.find(path);
            one.values.push_back(found == all[s].values.end() ? "" : found->second);
        }
        const std::string* known = nullptr;
        for (std::size_t s = 0; s < studies.size(); ++s) {
            if (studies[s].empty()) continue;
            if (known != nullptr && *known != one.values[s]) differ = true;
            if (known == nullptr) known = &one.values[s];
        }
        if (differ) out.push_back(one);
    }
    // A card that only some have is told once, not key by key; its order among regions not at all.
    std::vector<StudyDifference> told;
    for (const StudyDifference& d : out) {
        const bool of_missing_card = std::any_of(out.begin(), out.end(), [&](const StudyDifference& card) {
            if (d.path.size() <= card.path.size() ||
                d.path.compare(0, card.path.size() + 1, card.path + ".") != 0)
                return false;
            return std::any_of(card.values.begin(), card.values.end(),
                               [](const auto& v) { return v == "there"; });
        });
        if (of_missing_card) continue;
        if (d.path == "order of regions" &&
            std::any_of(out.begin(), out.end(), [](const StudyDifference& card) {
                return card.path.compare(0, 7, "region.") == 0 && card.path.find('.', 7) == std::string::npos;
            }))
            continue;
        told.push_back(d);
    }
    return told;
}

} // namespace upright
