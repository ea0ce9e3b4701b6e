#include "study/settings.hpp"

#include "base/nearest.hpp"

#include <algorithm>
#include <functional>

namespace upright {

namespace {

std::vector<std::string> split(const std::string& path) {
    std::vector<std::string> out;
    std::size_t from = 0;
    while (from <= path.size()) {
        const auto dot = std::min(path.find('.', from), path.size());
        out.push_back(path.substr(from, dot - from));
        from = dot + 1;
    }
    return out;
}

class Setting {
  public:
    Setting(const std::string& setting, const Language& language)
        : origin_("--set " + setting), language_(language) {
        const auto equals = setting.find('=');
        if (equals == std::string::npos || equals == 0)
            throw Error::usage(origin_ + " has no value", "Write --set response.budget.max=0.3");
        path_ = setting.substr(0, equals);
        words_ = split(path_);
        const std::string text = setting.substr(equals + 1);
        take_away_ = text.find_first_not_of(" \t") == std::string::npos || text == unset_word;
        value_ = value_of(text);
    }

    void apply(Node& document) const {
        for (const std::string& word : words_)
            if (word.empty())
                throw Error::usage(origin_ + ": the path has an empty word",
                                   "Write it as response.budget.max");
        const std::string& first = words_.front();
        if (const TableFacts* card = language_.card(first)) {
            Node& table = card->many ? named(document, *card) : section(document, first);
            return within(table, card, card->title(), card->many ? 2 : 1);
        }
        if (first == "values") return within(section(document, first), nullptr, "[values]", 1);
        if (language_.study().find(first) == nullptr)
            throw Error::usage(origin_ + ": a study has no \"" + first + "\"",
                               suggestion(first, language_.words(), 30));
        within(document, &language_.study(), "the study", 0);
    }

  private:
    Node value_of(const std::string& text) const {
        Node value;
        try {
            Node parsed = parse_document("v = " + text, origin_);
            if (parsed.table()->size() != 1) throw Error::usage(origin_);
            value = parsed.table()->front().node;
        } catch (const Error&) {
            value.value = text; // "4 mm" needs no quotation marks on the command line
        }
        place_all(value);
        return value;
    }

    void place_all(Node& node) const {
        node.place = {origin_, 0, 0};
        if (auto* list = std::get_if<Node::List>(&node.value))
            for (Node& item : *list) place_all(item);
        if (Node::Table* table = node.table())
            for (Entry& entry : *table) {
                entry.place = {origin_, 0, 0};
                place_all(entry.node);
            }
    }

    // A table that is made where it is missing.
    Node& section(Node& inside, const std::string& word) const {
        if (Node* there = inside.find(word)) {
            if (there->table() == nullptr)
                throw Error::usage(origin_ + ": \"" + word + "\" is " + there->kind() +
                                   " and holds nothing inside");
            return *there;
        }
        Node table;
        table.value = Node::Table{};
        table.place = {origin_, 0, 0};
        inside.table()->push_back({word, {origin_, 0, 0}, table});
        return inside.table()->back().node;
    }

    Node& named(Node& document, const TableFacts& card) const {
        Node* list = document.find(card.word);
        if (list == nullptr || !is_cards(*list)) {
            std::vector<std::string> there;
            for (const Entry& entry : *document.table())
                if (entry.node.table() != nullptr || is_cards(entry.node)) there.push_back(entry.key);
            throw Error::usage(origin_ + ": the study has no \"" + card.word + "\"",
                               suggestion(card.word, there));
        }
        if (words_.size() == 1)
            throw Error::usage(origin_ + ": this names a kind of card", "Add a name and a key");
        std::vector<std::string> names;
        for (Node& one : std::get<Node::List>(list->value)) {
            const std::string* name = card_name(one);
            if (name == nullptr) continue;
            names.push_back(*name);
            if (*name != words_[1]) continue;
            if (words_.size() == 2)
                throw Error::usage(origin_ + ": this names a whole card",
                                   "Add the key, as in " + path_ + ".KEY=VALUE");
            return one;
        }
        throw Error::usage(origin_ + ": there is no " + card.word + " named \"" + words_[1] + "\"",
                           suggestion(words_[1], names));
    }

    // `facts`: what the language says of the table; nullptr: any key will do.
    void within(Node& table, const TableFacts* facts, const std::string& title, std::size_t at) const {
        if (at >= words_.size())
            throw Error::usage(origin_ + ": this names a whole section",
                               "Add the key, as in " + path_ + ".KEY=VALUE");
        const std::string& word = words_[at];
        const KeyFacts* key = facts == nullptr ? nullptr : facts->find(word);
        if (facts != nullptr && key == nullptr)
            throw Error::usage(origin_ + ": " + title + " has no key \"" + word + "\"",
                               suggestion(word, facts->key_names(), 30));
        if (at + 1 == words_.size()) return put(table, word);
        const TableFacts* inner = nullptr;
        if (key != nullptr)
            for (const ValueForm& form : key->forms)
                if (form.kind == ValueForm::Kind::Table) inner = form.table();
        const Node* there = table.find(word);
        if (inner == nullptr && (there == nullptr || there->table() == nullptr))
            throw Error::usage(origin_ + ": \"" + word + "\" holds nothing inside");
        within(section(table, word), inner, word + " in " + title, at + 1);
    }

    void put(Node& table, const std::string& word) const {
        Node::Table& entries = *table.table();
        Node* there = table.find(word);
        if (take_away_) {
            if (there == nullptr)
                throw Error::usage(origin_ + ": there is no such key to take away",
                                   "An empty value takes a key of the study away");
            entries.erase(
                std::remove_if(entries.begin(), entries.end(), [&](const Entry& e) { return e.key == word; }),
                entries.end());
            return;
        }
        if (there != nullptr)
            *there = value_;
        else
            entries.push_back({word, {origin_, 0, 0}, value_});
        if (words_.front() == "goal") keep_one_sense(entries, word);
    }

    std::string origin_, path_;
    const Language& language_;
    std::vector<std::string> words_;
    bool take_away_ = false;
    Node value_;
};

} // namespace

void apply_setting(Node& document, const std::string& setting, const Language& language) {
    Setting(setting, language).apply(document);
}

} // namespace upright
