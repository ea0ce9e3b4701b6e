// The language as tables: what a card of one's own reads, refuses, explains and tells an editor.
#include "study/json_schema.hpp"
#include "study/reference.hpp"
#include "support/studies.hpp"

#include "base/json.hpp"
#include <gtest/gtest.h>
#include <set>

using namespace upright;
using nlohmann::json;

namespace {

struct Kettle : Card {
    double volume = 0.0;
    int spouts = 1;
    bool lid = true;
    std::string whistle;
    double steam = 0.0;
};

const Schema<Kettle>& kettle_schema() {
    static const Schema<Kettle> out = [] {
        auto s = cards<Kettle>("kettle", "boils water", "tea", true,
                               {key("volume", value::quantity(dimension::volume).above(0), &Kettle::volume)
                                    .must("volume = \"1 l\"")
                                    .says("of water"),
                                key("spouts", value::whole(1, 3), &Kettle::spouts)
                                    .fallback("1")
                                    .was("beaks")
                                    .example("spouts = 2"),
                                key("lid", value::flag(), &Kettle::lid),
                                key("whistle", value::word({"high", "low"}, {"chord"}), &Kettle::whistle)
                                    .beside({"lid"}, "a whistle needs a lid", "Write lid = true"),
                                later_key<Kettle>("timer", {value::quantity(dimension::time)}, "rings")});
        s.add_kinds("kind", "electric",
                    {{"electric", "an electric kettle", "plugged in", {}, {}},
                     {"stove",
                      "a stove kettle",
                      "on fire",
                      {key("steam", value::quantity(dimension::stress).at_least(0), &Kettle::steam)},
                      {}}});
        s.add({key<Kettle>("kind", {value::word({"electric", "stove"})}, [](Kettle&, const Given&) {})});
        return s;
    }();
    return out;
}

// The card of a text; its error where it is wrong.
std::string read(const std::string& text, Kettle* card = nullptr) {
    const Node document = parse_document(text, "k.toml");
    const Study study;
    const Quantities quantities{UnitSystem()};
    const Context context{quantities, study, false, false, {}, true};
    try {
        const Kettle out = read_table(kettle_schema(), CardReader(document, context, "[[kettle]]"));
        if (card != nullptr) *card = out;
    } catch (const Error& bad) {
        return bad.what();
    }
    return {};
}

bool says(const std::string& message, const std::string& part) {
    return message.find(part) != std::string::npos;
}

const std::string good = "name = \"big\"\nvolume = \"2 l\"\n";

} // namespace

TEST(Schema, ReadsByItsTable) {
    Kettle card;
    ASSERT_EQ(read(good + "spouts = 2\nlid = true\nwhistle = \"low\"\nkind = \"stove\"\nsteam = \"2 bar\"\n",
                   &card),
              "");
    EXPECT_EQ(card.name, "big");
    EXPECT_EQ(card.place.line, 1);
    EXPECT_NEAR(card.volume, 2e6, 1e-6); // mm3
    EXPECT_EQ(card.spouts, 2);
    EXPECT_EQ(card.whistle, "low");
    EXPECT_NEAR(card.steam, 0.2, 1e-12); // MPa
}

TEST(Schema, EveryWrongKeyHasItsMessage) {
    EXPECT_TRUE(
        says(read("name = \"a\"\n"), "k.toml:1:1: [[kettle]] lacks \"volume\". Write volume = \"1 l\""));
    EXPECT_TRUE(says(read("volume = 3\n"), "lacks \"name\". Write name = \"tea-1\""));
    EXPECT_TRUE(says(read("nam = \"a\"\nvolume = 3\n"), "has no key \"nam\". Did you mean \"name\"?"));
    EXPECT_TRUE(says(read(good + "spout = 2\n"),
                     "k.toml:3:1: [[kettle]] has no key \"spout\". Did you mean \"spouts\"?"));
    EXPECT_TRUE(says(read(good + "beaks = 2\n"), "no key \"beaks\" any more. Write spouts = 2"));
    EXPECT_TRUE(says(read(good + "timer = 2\n"),
                     "\"timer\" in [[kettle]] is a word of the study language that this"));
    EXPECT_TRUE(says(read(good + "whistle = \"low\"\n"), "a whistle needs a lid. Write lid = true"));
    EXPECT_TRUE(says(read(good + "lid = true\nwhistle = \"lw\"\n"), "Did you mean \"low\"?"));
    EXPECT_TRUE(says(read(good + "lid = true\nwhistle = \"chord\"\n"), "does not serve yet"));
    EXPECT_TRUE(says(read(good + "lid = 1\n"), "true or false is expected here and this is a number"));
    EXPECT_TRUE(says(read(good + "spouts = 4\n"), "at least 1 and at most 3"));
    EXPECT_TRUE(says(read(good + "spouts = 1.5\n"), "a whole number"));
    EXPECT_TRUE(says(read("name = \"a\"\nvolume = 0\n"), "a volume above zero is expected here"));
    EXPECT_TRUE(says(read("name = \"a\"\nvolume = \"2 mm\"\n"), "is a length where a volume is expected"));
    EXPECT_TRUE(says(read("name = \"a/b\"\nvolume = 1\n"), "may hold no"));
    EXPECT_TRUE(says(read(good + "steam = 1\n"), "steam belongs to a stove kettle. Remove it"));
    EXPECT_TRUE(says(read(good + "kind = \"stove\"\nsteam = -1\n"), "steam must not be negative"));
    EXPECT_TRUE(says(read(good + "kind = \"gas\"\n"), "\"gas\" is not known here"));
}

TEST(Language, EveryKeyIsExplained) {
    const Language& language = shipped_language();
    std::size_t keys = 0;
    const auto look = [&](const std::string& where, const std::vector<KeyFacts>& all) {
        for (const KeyFacts& key : all) {
            ++keys;
            EXPECT_FALSE(key.forms.empty()) << where << "." << key.name;
            EXPECT_FALSE(key.says.empty()) << where << "." << key.name;
            EXPECT_TRUE(key.later || !key.example.empty()) << where << "." << key.name;
        }
    };
    for (const TableFacts* card : language.cards()) {
        EXPECT_FALSE(card->says.empty()) << card->word;
        look(card->word, card->keys);
        for (const VariantFacts& kind : card->variants) look(card->word + " " + kind.word, kind.keys);
    }
    EXPECT_GT(keys, 150U);
}

TEST(Language, ExplainsCardsKeysAndKinds) {
    const Language& language = shipped_language();
    EXPECT_TRUE(says(explain(language, "region").value(), "skin_of"));
    EXPECT_TRUE(says(explain(language, "[[region]]").value(), "[[region]]"));
    EXPECT_TRUE(says(explain(language, "tilt").value(), "without it: 20 degrees"));
    EXPECT_TRUE(says(explain(language, "polar").value(), "frame"));
    EXPECT_TRUE(says(explain(language, "frequency").value(), "track"));
    // "frame" stands in many cards, and is a card.
    const std::string frame = explain(language, "frame").value();
    for (const char* where : {"[[frame]]", "[[load]]", "[[support]]", "sectors"})
        EXPECT_TRUE(says(frame, where)) << where;
    EXPECT_FALSE(says(explain(language, "load.frame").value(), "[[support]]"));
    EXPECT_FALSE(explain(language, "regoin"));
    const auto words = explained_words(language);
    EXPECT_GT(words.size(), 120U);
    for (const std::string& word : words) EXPECT_TRUE(explain(language, word)) << word;
}

TEST(Language, TheReferenceInTheDocumentsIsWhatTheTablesSay) {
    std::ifstream in(UPRIGHT_REFERENCE);
    std::string text((std::istreambuf_iterator<char>(in)), std::istreambuf_iterator<char>());
    while (!text.empty() && text.back() == '\n') text.pop_back();
    std::string told = reference_markdown(shipped_language());
    while (!told.empty() && told.back() == '\n') told.pop_back();
    EXPECT_TRUE(text == told) << "run scripts/reference";
}

TEST(Language, TheJsonSchemaKnowsEveryKeyAndRefersToWhatIsThere) {
    const json schema = json::parse(json_schema(shipped_language()));
    std::set<std::string> referred;
    const auto walk = [&](const json& at, const auto& again) -> void {
        if (at.is_object() && at.contains("$ref") && at["$ref"].is_string()) referred.insert(at["$ref"]);
        if (at.is_structured())
            for (const auto& item : at) again(item, again);
    };
    walk(schema, walk);
    for (const std::string& name : referred)
        EXPECT_TRUE(schema["$defs"].contains(name.substr(std::string("#/$defs/").size()))) << name;
    for (const TableFacts* card : shipped_language().cards()) {
        ASSERT_TRUE(schema["properties"].contains(card->word));
        for (const std::string& key : card->key_names())
            EXPECT_EQ(schema["$defs"][card->word]["properties"].contains(key), !card->find(key)->later)
                << card->word << "." << key;
    }
}

TEST(Settings, PathsAreThoseOfTheLanguage) {
    const std::string text = test::block_study();
    const auto message = [&](const std::string& setting) { return test::error_of(text, {setting}); };
    EXPECT_TRUE(
        says(message("response.budget.mux=1"), "[[response]] has no key \"mux\". Did you mean \"max\"?"));
    EXPECT_TRUE(says(message("mesh.sise=1"), "[mesh] has no key \"sise\". Did you mean \"size\"?"));
    EXPECT_TRUE(
        says(message("respnse.budget.max=1"), "a study has no \"respnse\". Did you mean \"response\"?"));
    EXPECT_TRUE(says(message("response.budgt.max=1"), "there is no response named \"budgt\""));
    EXPECT_TRUE(says(message("form.sectors.cont=3"), "sectors in [form] has no key \"cont\""));
    EXPECT_TRUE(says(message("mesh.size.x=3"), "\"size\" holds nothing inside"));
    EXPECT_EQ(test::study_from(text, {"run.iterations=7", "title=A block"}).run.iterations, 7);
    EXPECT_EQ(test::study_from(text, {"title=A block"}).title, "A block");
    // A table inside of a card is made where it is missing.
    EXPECT_TRUE(says(message("form.sectors.count=3"), "sectors in [form] lacks \"frame\""));
    const Study with_values =
        test::study_from(text + "[values]\nlift = 3\n", {"values.lift=4", "values.more=lift/2"});
    EXPECT_TRUE(says(with_values.resolved, "lift = 4"));
}
