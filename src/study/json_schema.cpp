#include "study/json_schema.hpp"

#include "base/json.hpp"
#include <cmath>
#include <map>

namespace upright {

namespace {

using Json = nlohmann::ordered_json;

class SchemaWriter {
  public:
    explicit SchemaWriter(const Language& language) : language_(language) {}

    Json write() {
        Json out;
        out["$schema"] = "https://json-schema.org/draft/2020-12/schema";
        out["title"] = "A study of Upright Lattice";
        out["type"] = "object";
        Json properties = Json::object();
        for (const KeyFacts& key : language_.study().keys) properties[key.name] = or_unset(of_key(key));
        Json whole = Json::object(); // what sections have to hold where no base study adds to them
        for (const TableFacts* card : language_.cards()) {
            define(card->word, card_of(*card, card->many));
            const Json reference{{"$ref", "#/$defs/" + card->word}};
            if (card->many) {
                properties[card->word] = {
                    {"type", "array"}, {"items", reference}, {"description", sentence(*card)}};
            } else {
                properties[card->word] = reference;
                define(card->word + "-whole", rules_of(*card));
                whole[card->word] = {{"$ref", "#/$defs/" + card->word + "-whole"}};
            }
        }
        out["properties"] = properties;
        out["additionalProperties"] = false;
        out["if"] = {{"required", Json::array({"extends"})}};
        out["else"] = {{"required", {"units", "region", "mesh"}}, {"properties", whole}};
        out["$defs"] = Json::object();
        for (const auto& [name, definition] : definitions_) out["$defs"][name] = definition;
        return out;
    }

  private:
    static std::string sentence(const TableFacts& table) {
        return table.says + (table.notes.empty() ? "." : ". " + table.notes);
    }

    static std::string description(const KeyFacts& key) {
        std::string out = key.says + ". Takes " + describe(key.forms) + ".";
        if (!key.fallback.empty()) out += " Without it: " + key.fallback + ".";
        if (!key.example.empty()) out += " Example: " + key.example;
        return out;
    }

    // In a study that extends another a section's key can be taken away.
    static Json or_unset(Json of) {
        Json out;
        if (of.contains("description")) {
            out["description"] = of["description"];
            of.erase("description");
        }
        out["anyOf"] = Json::array({std::move(of), {{"const", "unset"}}});
        return out;
    }

    static void limit(Json& to, const NumberRange& range) {
        if (std::isfinite(range.least)) to[range.least_open ? "exclusiveMinimum" : "minimum"] = range.least;
        if (std::isfinite(range.most)) to[range.most_open ? "exclusiveMaximum" : "maximum"] = range.most;
    }

    static Json quantity(const NumberRange& range, const char* type) {
        Json number{{"type", type}};
        limit(number, range);
        return {{"anyOf", Json::array({number, {{"type", "string"}}})}};
    }

    static Json list_of(Json item, std::size_t least, std::size_t most) {
        Json out{{"type", "array"}, {"items", std::move(item)}, {"minItems", least}};
        if (most > 0) out["maxItems"] = most;
        return out;
    }

    Json any_of(const std::vector<ValueForm>& forms) {
        if (forms.size() == 1) return of_form(forms.front());
        Json out;
        out["anyOf"] = Json::array();
        for (const ValueForm& form : forms) out["anyOf"].push_back(of_form(form));
        return out;
    }

    Json of_form(const ValueForm& form) {
        using Kind = ValueForm::Kind;
        const Json number = quantity({}, "number");
        switch (form.kind) {
        case Kind::Flag:
            return {{"type", "boolean"}};
        case Kind::Whole:
            return quantity(form.range, "integer");
        case Kind::Quantity:
            return quantity(form.range, "number");
        case Kind::Word:
            return {{"enum", form.words}};
        case Kind::Names:
            return {{"anyOf", Json::array({{{"type", "string"}}, list_of({{"type", "string"}}, 1, 0)})}};
        case Kind::Place:
        case Kind::Components:
        case Kind::Direction:
            return list_of(number, 2, 3);
        case Kind::Three:
            return list_of(number, 3, 3);
        case Kind::Corners:
            return list_of(list_of(number, 2, 2), 3, 0);
        case Kind::List:
            return list_of(any_of(form.items), form.count, form.count);
        case Kind::Map:
            return {{"type", "object"}, {"additionalProperties", any_of(form.items)}};
        case Kind::Table: {
            const TableFacts& table = *form.table();
            const std::string name = "table-" + table.word;
            if (definitions_.find(name) == definitions_.end()) {
                define(name, Json::object()); // it may hold itself
                definitions_[name] = card_of(table, true);
            }
            return {{"$ref", "#/$defs/" + name}};
        }
        case Kind::Text:
        case Kind::Name:
        case Kind::Path:
            break;
        }
        return {{"type", "string"}};
    }

    Json of_key(const KeyFacts& key) {
        Json out;
        out["description"] = description(key);
        Json value = any_of(key.forms);
        if (value.contains("$ref"))
            return {{"description", out["description"]}, {"allOf", Json::array({value})}};
        out.update(value);
        return out;
    }

    // A table with its keys; with the rules about which have to be there where `whole`.
    Json card_of(const TableFacts& table, bool whole) {
        Json out{{"type", "object"}, {"description", sentence(table)}};
        Json properties = Json::object();
        const auto add = [&](const std::vector<KeyFacts>& keys) {
            for (const KeyFacts& key : keys)
                if (!key.later && !properties.contains(key.name))
                    properties[key.name] = table.card && !table.many ? or_unset(of_key(key)) : of_key(key);
        };
        add(table.keys);
        for (const VariantFacts& kind : table.variants) add_variant(properties, kind, table);
        out["properties"] = properties;
        out["additionalProperties"] = false;
        if (whole) out.update(rules_of(table));
        return out;
    }

    // The same key of several kinds of a card: any of what they take.
    void add_variant(Json& properties, const VariantFacts& kind, const TableFacts& table) {
        for (const KeyFacts& key : kind.keys) {
            if (key.later) continue;
            Json one = table.card && !table.many ? or_unset(of_key(key)) : of_key(key);
            if (!properties.contains(key.name)) {
                properties[key.name] = one;
                continue;
            }
            Json& there = properties[key.name];
            const std::string said = there.value("description", std::string());
            if (one.value("description", std::string()) == said) continue;
            Json both;
            both["description"] = said;
            there.erase("description");
            one.erase("description");
            both["anyOf"] = there == one ? Json::array({there}) : Json::array({there, one});
            there = both;
        }
    }

    static void require(Json& rules, const std::vector<KeyFacts>& keys) {
        for (const KeyFacts& key : keys)
            if (key.required && key.homes.empty()) rules["required"].push_back(key.name);
    }

    static Json needs(const std::string& key) { return {{"required", Json::array({key})}}; }

    static void choose(Json& all, const std::vector<Choice>& choices) {
        for (const Choice& choice : choices) {
            Json one = Json::array();
            for (const std::string& key : choice.keys) one.push_back(needs(key));
            if (choice.required) {
                all.push_back({{"oneOf", one}});
                continue;
            }
            // At most one of them.
            Json none{{"not", {{"anyOf", one}}}};
            one.push_back(none);
            all.push_back({{"oneOf", one}});
        }
    }

    Json rules_of(const TableFacts& table) {
        Json out = Json::object();
        Json all = Json::array();
        require(out, table.keys);
        choose(all, table.choices);
        for (const KeyFacts& key : table.keys)
            for (const Home& home : key.homes) {
                if (home.beside.empty()) continue;
                Json any = Json::array();
                for (const std::string& other : home.beside) any.push_back(needs(other));
                out["dependentSchemas"][key.name] = {{"anyOf", any}};
            }
        for (const VariantFacts& kind : table.variants) all.push_back(variant_rule(table, kind));
        if (!all.empty()) out["allOf"] = all;
        return out;
    }

    Json variant_rule(const TableFacts& table, const VariantFacts& kind) {
        Json is{{"properties", {{table.decides, {{"const", kind.word}}}}}};
        if (kind.word != table.usual) is["required"] = Json::array({table.decides});
        Json then = Json::object();
        require(then, kind.keys);
        Json all = Json::array();
        choose(all, kind.choices);
        if (!all.empty()) then["allOf"] = all;
        for (const std::string& name : table.key_names()) {
            const auto has = [&](const std::vector<KeyFacts>& keys) {
                for (const KeyFacts& key : keys)
                    if (key.name == name) return true;
                return false;
            };
            if (!has(table.keys) && !has(kind.keys)) then["properties"][name] = false;
        }
        return {{"if", is}, {"then", then}};
    }

    void define(const std::string& name, Json definition) { definitions_[name] = std::move(definition); }

    const Language& language_;
    std::map<std::string, Json> definitions_;
};

} // namespace

std::string json_schema(const Language& language) {
    return SchemaWriter(language).write().dump(2) + "\n";
}

} // namespace upright
