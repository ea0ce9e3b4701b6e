#include "study/reference.hpp"

#include "base/text.hpp"

#include <algorithm>
#include <map>
#include <set>

namespace upright {

namespace {

const char* const introduction =
    "# Study reference\n\n"
    "Every word that this version serves, written by `scripts/reference` from the tables that the program "
    "reads studies "
    "by. `upright help WORD` tells the same in the terminal, `upright schema` to an editor.\n\n"
    "Places, vectors and forces have three numbers, in plane models two. Any value may be a bare number in "
    "the study's "
    "units, a text with a unit (`\"3 mm\"`), or arithmetic over `[values]` (`\"-0.5*lift\"`). `name` is "
    "unique among its "
    "kind. Where one name fits, a list of names fits; a bare name means every copy that bears it (`bolt` is "
    "`bolt/1`, "
    "`bolt/2`, …). `active = false` leaves a card out.\n";

std::string code(const std::string& text) {
    return "`" + text + "`";
}

// In a cell of a table a bar would end it.
std::string cell(std::string text) {
    for (auto at = text.find('|'); at != std::string::npos; at = text.find('|', at + 2))
        text.replace(at, 1, "\\|");
    return text;
}

// Sentences for people; names of keys stay as they are.
std::string sentence(std::string text) {
    if (!text.empty() && text[0] >= 'a' && text[0] <= 'z' && text.find_first_of(" ") != std::string::npos)
        text[0] = static_cast<char>(text[0] - 'a' + 'A');
    if (!text.empty() && text.back() != '.') text += '.';
    return text;
}

std::string without(const KeyFacts& key) {
    if (key.required) return "must be there";
    return key.fallback;
}

void add_rows(std::string& out, const std::vector<KeyFacts>& keys, const std::string& of = {}) {
    for (const KeyFacts& key : keys) {
        if (key.later) continue;
        out += "| " + code(key.name) + (of.empty() ? "" : " (" + of + ")") + " | " +
               cell(describe(key.forms)) +
               (key.example.empty() || key.example.find("…") != std::string::npos
                    ? ""
                    : ", as " + cell(code(key.example))) +
               " | " + cell(without(key)) + " | " + cell(key.says) + " |\n";
    }
}

const char* const head = "\n| key | takes | without it | |\n|---|---|---|---|\n";

bool same(const KeyFacts& a, const KeyFacts& b) {
    return a.says == b.says && a.fallback == b.fallback && a.required == b.required &&
           describe(a.forms) == describe(b.forms);
}

// The keys that kinds of a card bring, each once; where kinds mean different things by a name, one row each.
void add_variant_rows(std::string& out, const TableFacts& card) {
    struct Row {
        const KeyFacts* key;
        std::vector<std::string> of;
    };
    std::vector<Row> rows;
    for (const VariantFacts& kind : card.variants)
        for (const KeyFacts& key : kind.keys) {
            const auto known = std::find_if(rows.begin(), rows.end(), [&](const Row& row) {
                return row.key->name == key.name && same(*row.key, key);
            });
            if (known != rows.end())
                known->of.push_back(kind.word);
            else
                rows.push_back({&key, {kind.word}});
        }
    std::stable_sort(rows.begin(), rows.end(), [&](const Row& a, const Row& b) {
        const auto first = [&](const Row& row) {
            return std::find_if(rows.begin(), rows.end(),
                                [&](const Row& r) { return r.key->name == row.key->name; }) -
                   rows.begin();
        };
        return first(a) < first(b);
    });
    for (const Row& row : rows) {
        std::string of;
        for (const std::string& word : row.of) of += (of.empty() ? "" : ", ") + word;
        add_rows(out, {*row.key}, row.of.size() == card.variants.size() ? std::string() : of);
    }
}

void add_card(std::string& out, const TableFacts& card) {
    out += "\n## " + code(card.title()) + "\n\n" + sentence(card.says) +
           (card.notes.empty() ? "" : " " + card.notes) + "\n";
    out += head;
    add_rows(out, card.keys);
    if (card.variants.empty()) return;
    add_variant_rows(out, card);
    out += "\n| " + code(card.decides) + " | | keys of its own |\n|---|---|---|\n";
    for (const VariantFacts& kind : card.variants) {
        std::string keys;
        for (const KeyFacts& key : kind.keys) keys += (keys.empty() ? "" : ", ") + code(key.name);
        out += "| " + code("\"" + kind.word + "\"") + " | " + cell(kind.says) + " | " + keys + " |\n";
    }
}

// Tables inside of cards, each once, in the order in which they occur.
void collect(const std::vector<KeyFacts>& keys, std::vector<const TableFacts*>& out) {
    const auto visit = [&](const ValueForm& form, const auto& again) -> void {
        for (const ValueForm& item : form.items) again(item, again);
        if (form.kind != ValueForm::Kind::Table) return;
        const TableFacts* table = form.table();
        if (std::find(out.begin(), out.end(), table) != out.end()) return;
        out.push_back(table);
        collect(table->keys, out);
    };
    for (const KeyFacts& key : keys)
        if (!key.later)
            for (const ValueForm& form : key.forms) visit(form, visit);
}

std::vector<const TableFacts*> inner_tables(const Language& language) {
    std::vector<const TableFacts*> out;
    for (const TableFacts* card : language.cards()) {
        collect(card->keys, out);
        for (const VariantFacts& kind : card->variants) collect(kind.keys, out);
    }
    return out;
}

constexpr std::size_t help_width = 96;

// Marks of Markdown have no meaning in a terminal.
std::string bare(std::string text) {
    text.erase(std::remove(text.begin(), text.end(), '`'), text.end());
    return text;
}

void tell_key(std::string& out, const KeyFacts& key) {
    constexpr std::size_t indent = 4;
    const std::string pad(indent, ' ');
    out += "  " + key.name + (key.required ? "  (must be there)" : "") + "\n";
    if (key.later) out += pad + "not served by this version yet\n";
    if (!key.says.empty()) out += pad + wrapped(bare(key.says), indent, help_width) + "\n";
    out += pad + wrapped("takes: " + bare(describe(key.forms)), indent, help_width) + "\n";
    if (!key.fallback.empty())
        out += pad + wrapped("without it: " + bare(key.fallback), indent, help_width) + "\n";
    if (!key.example.empty()) out += pad + wrapped("as in: " + key.example, indent, help_width) + "\n";
}

std::string told(const TableFacts& table) {
    std::string out =
        (table.card ? table.title() : table.word + " = { … }") + "\n  " +
        wrapped(sentence(bare(table.says)) + (table.notes.empty() ? "" : " " + bare(table.notes)), 2,
                help_width) +
        "\n\n";
    for (const KeyFacts& key : table.keys) tell_key(out, key);
    for (const VariantFacts& kind : table.variants) {
        out += "\n" + table.decides + " = \"" + kind.word + "\"\n  " +
               wrapped(sentence(bare(kind.says)), 2, help_width) + "\n";
        std::string keys;
        for (const KeyFacts& key : kind.keys) keys += (keys.empty() ? "" : ", ") + key.name;
        if (!keys.empty()) out += "  " + wrapped("keys: " + keys, 2, help_width) + "\n";
    }
    return out;
}

std::string told(const TableFacts& card, const VariantFacts& kind) {
    std::string out = card.decides + " = \"" + kind.word + "\" in " + card.title() + "\n  " +
                      wrapped(sentence(bare(kind.says)), 2, help_width) + "\n\n";
    for (const KeyFacts& key : kind.keys) tell_key(out, key);
    return out;
}

// Every table with the words by which it is called in paths.
std::vector<std::pair<std::string, const TableFacts*>> all_tables(const Language& language) {
    std::vector<std::pair<std::string, const TableFacts*>> out{{"study", &language.study()}};
    for (const TableFacts* card : language.cards()) out.emplace_back(card->word, card);
    for (const TableFacts* inner : inner_tables(language)) out.emplace_back(inner->word, inner);
    return out;
}

} // namespace

std::string reference_markdown(const Language& language) {
    std::string out = introduction;
    out += "\n## At the top of a study\n";
    out += head;
    add_rows(out, language.study().keys);
    for (const TableFacts* card : language.cards()) add_card(out, *card);
    out += "\n# Tables inside of cards\n";
    std::set<std::string> done;
    for (const TableFacts* table : inner_tables(language)) {
        if (!done.insert(table->word).second) continue;
        out += "\n## " + code(table->word) + "\n\n" + sentence(table->says) + "\n" + head;
        add_rows(out, table->keys);
    }
    std::string later;
    for (const TableFacts* card : language.cards())
        for (const KeyFacts& key : card->keys)
            if (key.later)
                later += (later.empty() ? "" : ", ") + code(key.name) + " in " + code(card->title()) + " (" +
                         key.says + ")";
    if (!later.empty()) out += "\n# Not served yet\n\nRefused by name: " + later + ".\n";
    return out;
}

std::optional<std::string> explain(const Language& language, const std::string& asked) {
    std::string word = asked;
    word.erase(std::remove_if(word.begin(), word.end(), [](char c) { return c == '[' || c == ']'; }),
               word.end());
    const auto dot = word.find('.');
    const std::string in = dot == std::string::npos ? std::string() : word.substr(0, dot);
    const std::string name = dot == std::string::npos ? word : word.substr(dot + 1);
    std::string out;
    const auto add = [&](const std::string& text) { out += (out.empty() ? "" : "\n") + text; };
    const auto tables = all_tables(language);
    if (in.empty())
        for (const auto& [called, table] : tables)
            if (called == name) add(told(*table));
    for (const TableFacts* card : language.cards())
        for (const VariantFacts& kind : card->variants)
            if (kind.word == name && (in.empty() || in == card->word)) add(told(*card, kind));
    for (const auto& [called, table] : tables) {
        if (!in.empty() && in != called) continue;
        std::vector<const KeyFacts*> told_keys;
        const auto tell = [&](const std::vector<KeyFacts>& keys, const std::string& where) {
            for (const KeyFacts& key : keys) {
                if (key.name != name) continue;
                if (std::any_of(told_keys.begin(), told_keys.end(),
                                [&](const KeyFacts* k) { return same(*k, key); }))
                    continue;
                told_keys.push_back(&key);
                std::string text = where + "\n";
                tell_key(text, key);
                add(text);
            }
        };
        const std::string title = table->card ? table->title() : called == "study" ? "at the top" : called;
        tell(table->keys, title);
        for (const VariantFacts& kind : table->variants)
            tell(kind.keys, title + " with " + table->decides + " = \"" + kind.word + "\"");
    }
    if (out.empty()) return {};
    return out;
}

std::vector<std::string> explained_words(const Language& language) {
    std::set<std::string> out;
    for (const auto& [called, table] : all_tables(language)) {
        out.insert(called);
        for (const std::string& key : table->key_names()) out.insert(key);
        for (const VariantFacts& kind : table->variants) out.insert(kind.word);
    }
    return {out.begin(), out.end()};
}

} // namespace upright
